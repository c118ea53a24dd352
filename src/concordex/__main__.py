"""The ``concordex`` program."""

import gc
import os
import sys


def main() -> None:
    """Run the command line; ``--version`` answers without loading it.

    Ctrl-C while it is being loaded ends it as quietly as later on.
    """
    gc.set_threshold(50_000, 20, 50)  # what is loaded stays, and to look through it again and again took a tenth
    try:
        if sys.argv[1:] == ["--version"]:
            from concordex.version import __version__

            sys.stdout.write(f"concordex {__version__}\n")
            return
        os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # else numpy's threads spin, on what we ask least of it
        from concordex.cli.app import run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("\nstopped\n")
        sys.exit(5)  # as of any run that a person stopped: `Status` may not be there yet


if __name__ == "__main__":
    main()

"""The ``concordex`` program."""

import gc
import os
import sys


def main() -> None:
    """Run the command line; what can be answered without loading it is.

    Ctrl-C while it is being loaded ends it as quietly as later on.
    """
    gc.set_threshold(50_000, 20, 50)  # what is loaded stays, and to look through it again and again took a tenth
    try:
        from concordex.cli.front import at_once

        if (answer := at_once(sys.argv[1:])) is not None and _written(answer):
            return
        os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")  # else numpy's threads spin, on what we ask least of it
        from concordex.cli.app import run

        run()
    except KeyboardInterrupt:
        sys.stderr.write("\nstopped\n")
        sys.stderr.flush()
        os._exit(5)  # as of any run that a person stopped; Python itself, if in an `exec`, would end by the signal


def _written(text: str) -> bool:
    """Whether standard output took it; why it did not is told by the command line."""
    try:
        sys.stdout.write(text)
        sys.stdout.flush()
    except (AttributeError, OSError, ValueError):  # closed, full, or nobody reads it
        return False
    return True


if __name__ == "__main__":
    main()

"""The ``concordex`` program."""

import sys


def main() -> None:
    """Run the command line; ``--version`` answers without loading it."""
    if sys.argv[1:] == ["--version"]:
        from concordex import __version__

        sys.stdout.write(f"concordex {__version__}\n")
        return
    from concordex.cli.app import run

    run()


if __name__ == "__main__":
    main()

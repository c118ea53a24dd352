"""What is answered without loading the command line: the version, and what there is."""

from __future__ import annotations

import os
import sys

#: The page that the option parser makes for so many columns, and for more: `make reference` writes it, and a test
#: compares the two.
_PAGE, _COLUMNS = "front.txt", 80


def at_once(words: list[str]) -> str | None:
    """The answer to ``words`` where none of the program is needed for it."""
    if words == ["--version"]:
        from concordex.version import __version__

        return f"concordex {__version__}\n"
    if words not in (["--help"], ["-h"]) or _columns() < _COLUMNS:
        return None
    with open(os.path.join(os.path.dirname(__file__), _PAGE), encoding="utf-8") as file:  # noqa: PTH118, PTH120, PTH123 - pathlib is a third of the time
        page = file.read()
    called = os.path.basename(sys.argv[0])  # noqa: PTH119
    return page if called == "concordex" else page.replace("Usage: concordex", "Usage: python -m concordex", 1)


def _columns() -> int:
    """How wide the terminal is, as :func:`shutil.get_terminal_size` tells it."""
    try:
        if (told := int(os.environ.get("COLUMNS", ""))) > 0:
            return told
    except ValueError:
        pass
    try:
        return os.get_terminal_size(sys.stdout.fileno()).columns or _COLUMNS
    except (AttributeError, ValueError, OSError):
        return _COLUMNS

"""The guesses that stand in a draft as comments: which there are, and the draft with some of them taken as true."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass

#: A guess below the table that it is about, with what would settle it.
_GUESS = re.compile(r"^      # (?P<said>\S.*?)   # (?:not shown: |likely: )(?P<how>.*)$")
_TABLE = re.compile(r"^  (?P<name>[a-z0-9][\w-]*):\s*(#.*)?$")


@dataclass(frozen=True)
class OpenGuess:
    """A guess of a draft: its table, the line as it would stand in the file, and what speaks for it or settles it."""

    table: str
    said: str
    how: str

    @property
    def key(self) -> str:
        """What it says something of: `pages`, `total`, `query`, or a field."""
        return self.said.partition(":")[0]


def open_guesses(text: str) -> list[OpenGuess]:
    """The guesses that a draft leaves to a person, in its order."""
    table, found = "", []
    for line in text.splitlines():
        if match := _TABLE.match(line):
            table = match["name"]
        elif match := _GUESS.match(line):
            found.append(OpenGuess(table, match["said"], match["how"]))
    return found


def taken(text: str, shown: Mapping[OpenGuess, str]) -> str:
    """The draft with guesses in it as what it says, each with the reason why; others of the same key stay comments."""
    table, lines = "", []
    for line in text.splitlines():
        if match := _TABLE.match(line):
            table = match["name"]
        match = _GUESS.match(line)
        why = shown.get(OpenGuess(table, match["said"], match["how"])) if match else None
        lines.append(line if match is None or why is None else f"      {match['said']}  # {why}".rstrip(" #"))
    return "\n".join(lines) + "\n"

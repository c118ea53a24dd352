"""Make docs/commands.md and docs/man/concordex.1 of the program itself: python docs/commands.py FOLDER"""

from __future__ import annotations

import io
import os
import re
import sys
from collections.abc import Iterator
from contextlib import redirect_stdout
from pathlib import Path
from typing import Any

from concordex.cli.app import status_of
from concordex.cli.parts import GROUPS, load
from concordex.cli.statuses import Status
from concordex.version import __version__

#: What a status means, of all commands.
_STATUSES = {
    Status.DONE: "done", Status.FAILED: "failed", Status.CALLED_WRONGLY: "called wrongly",
    Status.FOUND: "done, and it found what it was asked to look for", Status.PARTLY: "done in part",
    Status.STOPPED: "stopped, by a guard or by the person",
}  # fmt: skip


def commands() -> Iterator[tuple[str, str, Any]]:
    """Each command with its group and its own commands, in the order of the help."""
    for group, names in GROUPS.items():
        for name in names:
            yield group, name, load(name)
            for own, command in getattr(load(name), "commands", {}).items():
                yield group, f"{name} {own}", command


def options(command: Any) -> Iterator[tuple[str, str]]:
    """What a command takes: each with its help; in words of ours, whatever the option parser calls its types."""
    for parameter in command.params:
        if parameter.name == "help":
            continue
        if parameter.param_type_name == "argument":
            yield str(parameter.metavar or parameter.name).upper().strip("_"), parameter.help or ""
        else:
            yield ", ".join([*parameter.opts, *parameter.secondary_opts]), parameter.help or ""


def reference() -> str:
    """The whole reference as Markdown."""
    parts = [
        "# All commands", "",
        f"Of concordex {__version__}, made from the program itself (`make reference`).  Exit statuses are a contract:",
        "", "| status | meaning |", "|---|---|",
        *(f"| {status.value} | {meaning} |" for status, meaning in _STATUSES.items()),
    ]  # fmt: skip
    before = ""
    for group, name, command in commands():
        if group != before:
            parts += ["", f"## {group}"]
            before = group
        parts += ["", f"{'####' if ' ' in name else '###'} `concordex {name}`", "", _help(command.help or "")]
        told = [f"- `{what}`: {' '.join(text.split())}" if text else f"- `{what}`" for what, text in options(command)]
        parts += ["", *told] if told else []
    return "\n".join(parts).rstrip() + "\n"


def _help(text: str) -> str:
    """A help text, with what would be typed set apart."""
    return re.sub(r"^(concordex .*)$", r"    \1", text.strip(), flags=re.MULTILINE)


def manual() -> str:
    """The manual page (man(7))."""
    lines = [
        f'.TH CONCORDEX 1 "" "concordex {__version__}" "User Commands"', ".SH NAME",
        "concordex \\- pull device inventories, reconcile them into one truth, and write it back once", ".SH SYNOPSIS",
        ".B concordex", "[\\-w DIR] COMMAND [ARGUMENT ...]", ".SH DESCRIPTION",
        "Pull device inventories from any management system, each list proved whole or called unproven; find out which",
        "records are one device; show what would be written, write it once, read it back, and undo it.",
    ]  # fmt: skip
    before = ""
    for group, name, command in commands():
        if group != before:
            lines.append(f".SH {group.upper()}")
            before = group
        lines += [".TP", f".B {_roff(name)}", *map(_roff, _paragraphs(command.help or ""))]
        for what, text in options(command):
            lines += [".RS", ".TP", f".I {_roff(what)}", _roff(" ".join(text.split())), ".RE"]
    lines += [".SH EXIT STATUS"]
    for status, meaning in _STATUSES.items():
        lines += [".TP", f".B {status.value}", meaning]
    lines += [".SH ENVIRONMENT", ".TP", ".B CONCORDEX_WORKSPACE", "the workspace, where \\-w does not say it", ".TP",
              ".B CONCORDEX_USER", "who is at work, for the journal"]  # fmt: skip
    return "\n".join(line for line in lines if line) + "\n"


def _paragraphs(text: str) -> Iterator[str]:
    for paragraph in re.split(r"\n\s*\n", text.strip()):
        yield " ".join(paragraph.split())
        yield ".br"


def _roff(text: str) -> str:
    if text.startswith(".br"):
        return text
    escaped = text.replace("\\", "\\e").replace("-", "\\-")
    return f"\\&{escaped}" if escaped.startswith((".", "'")) else escaped


def front() -> str:
    """What `concordex --help` says in 80 columns or more, as the option parser makes it."""
    os.environ["COLUMNS"] = "80"
    with redirect_stdout(io.StringIO()) as said:
        status_of(["--help"])
    return re.sub(r"^Usage: .*? \[", "Usage: concordex [", said.getvalue(), count=1)


def made() -> dict[str, str]:
    """The files by their names below docs/."""
    return {"commands.md": reference(), "man/concordex.1": manual(), "../src/concordex/cli/front.txt": front()}


if __name__ == "__main__":
    for name, text in made().items():
        file = Path(sys.argv[1]) / name
        file.parent.mkdir(exist_ok=True)
        file.write_text(text, encoding="utf-8")

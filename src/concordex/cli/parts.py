"""The commands by name, each imported when it is called: `--help` imports none of them."""

from __future__ import annotations

from collections.abc import Iterator, MutableMapping
from importlib import import_module
from typing import Any

import typer
from typer.core import TyperGroup

#: Every command and what it is for, in the order in which a newcomer meets them.
GROUPS = {
    "Start": {
        "demo": "The whole job on stand-ins, each command shown.",
        "init": "Make a workspace.",
        "trust": "What a workspace that others can edit may run and read.",
    },
    "Systems": {
        "system": "The systems of a workspace: add, list, check, pause.",
        "schema": "JSON Schemas of the files that people write.",
        "dialect": "How kinds of system speak: list, show, draft, check.",
        "pull": "Fetch tables, each proved whole or called unproven or partial.",
        "pulls": "The history of pulls.",
    },
    "Look": {
        "show": "Look at any table: filter, sort, count, export.",
        "query": "Ask every table in SQL.",
        "call": "Ask a system anything: what it answers, and what that means.",
        "compare": "Two systems, or two dates, side by side.",
        "group": "Named selections for filters.",
    },
    "One truth": {
        "reconcile": "Find out which records are one device.",
        "findings": "What a person should look at.",
        "explain": "Why records are one device, and who says what.",
        "review": "Decide on doubtful pairs, the likeliest first.",
        "ruling": "Standing decisions: same, apart, value, accept.",
    },
    "The fleet": {
        "health": "How devices are: states, thresholds, batteries.",
        "racks": "How full racks are, what fits where, what stands in them.",
        "links": "What is behind each port, and the way between two devices.",
        "report": "All of it on one page, to hand on.",
        "versions": "Who is behind the wanted version, or out of support.",
    },
    "Write": {
        "push": "Write rows of a file: checked, previewed, sent once, verified.",
        "set": "Set fields of existing records.",
        "retire": "Set records to the status that their system calls retired.",
        "delete": "Delete records; their number must be confirmed.",
        "action": "Actions that systems offer: restart, locate, wipe.",
        "sync": "Bring an inventory up to date: preview, agree, verify.",
        "change": "Prepared writes: show, run in part, resume, undo.",
        "rehearse": "Serve a copy of a system, to learn on and to try things on.",
    },
    "By itself": {
        "job": "What runs by itself: list, run, history, stop, export.",
        "work": "Run jobs when they are due, until told to end.",
        "tell": "Whom is told what: list places, try them, what waits.",
    },
    "Upkeep": {
        "doctor": "What is wrong here, and the command that mends it.",
        "mend": "Repair the store after a disk has lost some of it.",
        "metrics": "How the work itself stands, for a scraper.",
        "journal": "What was done and by whom, and whether it is as it was.",
        "backup": "The whole workspace in one file, while others work.",
        "restore": "Bring a workspace back from a backup.",
        "rights": "Who may do what, on which systems.",
        "store": "Where the catalogue and snapshots are, and moving them.",
    },
    "Configure": {
        "config": "Configuration objects: save, compare, load back, copy, migrate.",
        "drift": "What differs from the saved configuration.",
        "lines": "Devices with a command interface: enter lines, show.",
    },
}
SUMMARIES = {name: what for commands in GROUPS.values() for name, what in commands.items()}


#: Commands that stand in a module of another name.
_ELSEWHERE = {
    "set": ("edit", "set_fields"), "retire": ("edit", "retire"), "delete": ("edit", "delete"),
    "action": ("edit", "action"), "restore": ("backup", "restore"),
}  # fmt: skip


def target_of(name: str) -> Any:
    """What stands behind the command ``name``: a function, or the group of its own commands."""
    module, function = _ELSEWHERE.get(name, (name, name))
    return getattr(import_module(f"concordex.cli.commands.{module}"), function)


def load(name: str) -> Any:
    """The command ``name``, ready to be called."""
    target = target_of(name)
    if isinstance(target, typer.Typer):
        return typer.main.get_group(target)
    single = typer.Typer(add_completion=False, rich_markup_mode=None)
    single.command(name, context_settings={"help_option_names": ["-h", "--help"]})(target)
    return typer.main.get_command(single)


class _Commands(MutableMapping[str, Any]):
    """What a group asks of its commands, without importing more of them than are called."""

    def __init__(self) -> None:
        self._loaded: dict[str, Any] = {}

    def __getitem__(self, name: str) -> Any:
        if name not in SUMMARIES:
            raise KeyError(name)
        if name not in self._loaded:
            self._loaded[name] = load(name)
        return self._loaded[name]

    def __setitem__(self, name: str, command: Any) -> None:
        self._loaded[name] = command

    def __delitem__(self, name: str) -> None:
        del self._loaded[name]

    def __iter__(self) -> Iterator[str]:
        return iter(SUMMARIES)

    def __len__(self) -> int:
        return len(SUMMARIES)


class Parts(TyperGroup):
    """The group of all commands."""

    def __init__(self, **settings: Any) -> None:
        super().__init__(**settings | {"commands": {}})
        self.commands = _Commands()

    def list_commands(self, ctx: Any) -> list[str]:  # noqa: ARG002, RUF100 - the group's own signature
        """The names of all commands."""
        return list(SUMMARIES)

    def format_commands(self, ctx: Any, formatter: Any) -> None:  # noqa: ARG002, RUF100
        """Write what each command is for."""
        width = max(map(len, SUMMARIES))
        for title, commands in GROUPS.items():
            with formatter.section(title):
                formatter.write_dl([(f"{name:{width}}", what) for name, what in commands.items()])

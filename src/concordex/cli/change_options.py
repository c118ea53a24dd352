"""What a person says beforehand of a change: the options that every command which prepares or runs one has alike."""

from __future__ import annotations

import inspect
from collections.abc import Callable, Collection
from dataclasses import MISSING, dataclass, fields
from functools import wraps
from typing import Annotated, Any, get_type_hints

import typer

from concordex.change.run_options import RunOptions
from concordex.cli.options import LARGEST, OutputFormat

Draft = Annotated[bool, typer.Option("--draft", help="Keep the change for later; send nothing.")]
Yes = Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")]
Every = Annotated[bool, typer.Option("--all", help="Show every step.")]
Count = Annotated[
    int | None,
    typer.Option("--count", help="The number of records, which must be typed where nothing can be undone."),
]
Stage = Annotated[
    bool,
    typer.Option("--stage", help="Where the system stages: stop before the commit (config commit, config unstage)."),
]
Together = Annotated[
    bool, typer.Option("--together", help="One request for several tables, where the system takes it so.")
]
BatchSize = Annotated[
    int | None,
    typer.Option(
        "--batch-size", min=1, max=LARGEST, help="At most this many records in one request; 1 sends each alone."
    ),
]
Wait = Annotated[
    str | None, typer.Option("--wait", help="How long to wait for another process that writes to the system: 30s, 10m.")
]
Note = Annotated[str | None, typer.Option("--note", help="What goes with the commit, where the system takes a note.")]
AnyTime = Annotated[bool, typer.Option("--any-time", help="Run outside the maintenance windows too.")]


@dataclass(frozen=True, kw_only=True)
class ChangeOptions:
    """What a person has said beforehand; each field is an option of that name."""

    together: Together = False
    batch_size: BatchSize = None
    stage: Stage = False
    note: Note = None
    count: Count = None
    draft: Draft = False
    yes: Yes = False
    any_time: AnyTime = False
    wait: Wait = None
    every: Every = False
    form: OutputFormat = None
    force: bool = False

    def run_options(self) -> RunOptions:
        """The same, as far as it says how a change is run."""
        return RunOptions(
            force=self.force, stage=self.stage, together=self.together, batch_size=self.batch_size, note=self.note
        )


#: What every command that prepares a change asks for.
_ALWAYS = frozenset({"draft", "yes", "any_time", "every", "form"})


def change_options(*more: str, without: Collection[str] = ()) -> Callable[[Callable[..., int]], Callable[..., int]]:
    """Give a command the options of all that prepares a change, and ``more`` of them; it gets them as ``answers``."""
    names = [option.name for option in fields(ChangeOptions) if option.name in (_ALWAYS - set(without)) | set(more)]

    def given(command: Callable[..., int]) -> Callable[..., int]:
        @wraps(command)
        def with_answers(**typed: Any) -> int:
            answers = ChangeOptions(**{name: typed.pop(name) for name in names})
            return command(**typed, answers=answers)

        hints = get_type_hints(ChangeOptions, include_extras=True)
        defaults = {option.name: option.default for option in fields(ChangeOptions) if option.default is not MISSING}
        signature = inspect.signature(command, eval_str=True)
        own = [parameter for name, parameter in signature.parameters.items() if name != "answers"]
        added = [
            inspect.Parameter(name, inspect.Parameter.KEYWORD_ONLY, default=defaults[name], annotation=hints[name])
            for name in names
        ]
        with_answers.__signature__ = signature.replace(parameters=[*own, *added])  # type: ignore[attr-defined]
        with_answers.__annotations__ = {option.name: option.annotation for option in [*own, *added]} | {"return": int}
        return with_answers

    return given

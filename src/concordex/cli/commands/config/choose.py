"""What the commands about configuration objects share: their options, and the objects that are meant."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import complete_systems, safely, workspace

if TYPE_CHECKING:
    from concordex.change.objects import Object
    from concordex.work import Workspace
    from concordex.work.objects.live import Held


def complete_kinds(ctx: typer.Context, incomplete: str) -> list[str]:
    """The kinds of object of the system that is named before, for the shell."""
    from concordex.work.objects.live import chosen_kinds

    return safely(lambda: chosen_kinds(workspace(), ctx.params.get("system") or "", []), incomplete)


def complete_objects(incomplete: str) -> list[str]:
    """SYSTEM/KIND/NAME as far as the last pulls know names, for the shell; none that it would have to quote."""
    import shlex

    def found() -> Iterable[str]:
        from concordex.work.objects.live import kinds_of, pulled

        here = workspace()
        system, _, rest = incomplete.partition("/")
        if system not in here.config.systems:
            return [name for name in here.config.systems if kinds_of(here.dialect(name))]
        kinds = kinds_of(here.dialect(system))
        kind = rest.partition("/")[0]
        if kind not in kinds:
            return [f"{system}/{name}/" for name in kinds]
        names = [f"{system}/{kind}/{one.name}" for one in pulled(here, system, [kind], here.now()).of([kind])]
        return [name for name in names if name == shlex.quote(name)]

    return safely(found, incomplete)


System = Annotated[
    str, typer.Argument(help="The system, or one of many devices: DEVICES:ADDRESS.", autocompletion=complete_systems)
]
KindNames = Annotated[
    list[str] | None,
    typer.Argument(help="Kinds of object; all, if none is named.", autocompletion=complete_kinds),
]
Kind = Annotated[list[str] | None, typer.Option("--kind", help="Only these kinds. Repeatable.")]
Address = Annotated[
    str, typer.Argument(help="SYSTEM/KIND/NAME, as `config list` has them.", autocompletion=complete_objects)
]
Addresses = Annotated[
    list[str], typer.Argument(help="SYSTEM/KIND/NAME, as `config list` has them.", autocompletion=complete_objects)
]
Where = Annotated[str | None, typer.Option("--where", help="A filter on their records (docs/filters.md).")]
Bound = Annotated[
    bool, typer.Option("--bound", help="Take along what binds them to people and devices, such as assignments.")
]


def live(here: Workspace, system: str, kinds: Iterable[str]) -> Held:
    """The objects as they are now; what of them is only staged by ourselves is told."""
    from concordex.work.objects.live import live as read

    with draw.progress() as told:
        held = read(here, system, list(kinds), lambda what, done, of: told(f"{system}/{what}", done, of))
    ours = [one.what for one in held.staged if one.ours]
    if ours:
        more = f", and {len(ours) - 3:,} more" if len(ours) > 3 else ""
        draw.note(f"seen in {system} with what is staged and not committed: {', '.join(ours[:3])}{more}", "yellow")
    return held


def objects_at(here: Workspace, system: str, addresses: list[str]) -> tuple[Any, list[Object]]:
    """What a system holds, and the objects of it that are meant."""
    from concordex.errors import CalledWrongly
    from concordex.work.objects.live import chosen_kinds
    from concordex.work.objects.pick import find, one_of

    held = live(here, system, chosen_kinds(here, system, []))
    meant: dict[Any, Object] = {}
    for address in addresses:
        other, _, rest = address.partition("/")
        if other != system:
            raise CalledWrongly(f"{address} is not of {system}: one system at a time")
        kind, _, name = rest.partition("/")
        if name:
            found = [one_of(held, *find(here, address))]
        else:
            found = held.of(chosen_kinds(here, system, [kind] if kind else []))
        meant |= {one.key: one for one in found}
    return held, list(meant.values())

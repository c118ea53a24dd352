"""What the commands about configuration objects share: their options, and the objects that are meant."""

from __future__ import annotations

from collections.abc import Iterable
from typing import TYPE_CHECKING, Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import complete_systems, safely, workspace

if TYPE_CHECKING:
    from concordex import Workspace
    from concordex.change.objects import Object
    from concordex.work.objects.live import Held


def complete_kinds(ctx: typer.Context, incomplete: str) -> list[str]:
    """The kinds of object of the system that is named before, for the shell."""
    return safely(lambda: workspace().kinds.chosen(ctx.params.get("system") or ""), incomplete)


def complete_objects(incomplete: str) -> list[str]:
    """SYSTEM/KIND/NAME as far as the last pulls know names, for the shell; none that it would have to quote."""
    import shlex

    def objects() -> Iterable[str]:
        here = workspace()
        system, _, rest = incomplete.partition("/")
        if system not in here.config.systems:
            return here.kinds.systems()
        kinds = here.kinds.every(system)
        kind = rest.partition("/")[0]
        if kind not in kinds:
            return [f"{system}/{name}/" for name in kinds]
        names = [f"{system}/{kind}/{obj.name}" for obj in here.objects.pulled(system, [kind]).of([kind])]
        return [name for name in names if name == shlex.quote(name)]

    return safely(objects, incomplete)


System = Annotated[
    str, typer.Argument(help="The system, or one of many devices: DEVICES:ADDRESS.", autocompletion=complete_systems)
]
KindNames = Annotated[
    list[str] | None,
    typer.Argument(help="Kinds of object; all if none is given.", autocompletion=complete_kinds),
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
    bool, typer.Option("--bound", help="Include what binds them to people and devices, such as assignments.")
]


def live(here: Workspace, system: str, kinds: Iterable[str]) -> Held:
    """The objects as they are now; what of them is only staged by ourselves is told."""
    with draw.progress() as progress:
        held = here.objects.live(system, kinds, lambda what, done, of: progress(f"{system}/{what}", done, of))
    ours = [staged.what for staged in held.staged if staged.ours]
    if ours:
        more = f", and {len(ours) - 3:,} more" if len(ours) > 3 else ""
        draw.note(f"seen in {system} with what is staged and not committed: {', '.join(ours[:3])}{more}", "yellow")
    return held


def objects_at(
    here: Workspace, system: str, addresses: list[str], where: str | None = None
) -> tuple[Held, list[Object]]:
    """What a system holds, and the objects of it that are meant: those on whose records a filter holds."""
    held = live(here, system, here.kinds.chosen(system))
    chosen = here.objects.at(held, system, addresses)
    if where is None:
        return held, chosen
    matching = here.objects.matching(held, dict.fromkeys(obj.kind for obj in chosen), where)
    wanted = {(obj.kind, obj.record_id) for obj in matching}
    return held, [obj for obj in chosen if (obj.kind, obj.record_id) in wanted]

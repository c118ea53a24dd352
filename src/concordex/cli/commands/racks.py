"""``concordex racks``."""

import re
from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.elevation import draw_elevation
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, Where, complete_racks, words, workspace
from concordex.cli.rows import named_columns
from concordex.cli.screenful import fitted, on_screen
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly
from concordex.figures.racks import draw as draw_racks

#: What is told of each thing of a rack, where it is not drawn.
_THINGS = ("rack", "site", "at", "to", "face", "label", "kind", "entry", "full_depth", "weight", "power", "wrong")


def racks(
    rack: Annotated[
        str | None, typer.Argument(help="One rack, as it is seen from both sides.", autocompletion=complete_racks)
    ] = None,
    where: Where = None,
    fits: Annotated[
        str | None, typer.Option("--fits", help="Where so many units are free, one above the other: 4 or 4U.")
    ] = None,
    face: Annotated[
        str | None, typer.Option("--face", help="With --fits: for something on this face alone, front or rear.")
    ] = None,
    figure: Annotated[
        Path | None, typer.Option("--draw", help="Draw the racks, front and rear, into a file: .svg, .png or .pdf.")
    ] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> int:
    """Racks: how full they are, where something fits, and what stands in them.

    Exit status 3 where something stands in a rack as it cannot be; `concordex findings --kind rack_taken` and its
    likes say what, once it was reconciled.

    Examples:

    concordex racks --where 'free > 10'

    concordex racks --fits 4U --where 'site = cobble-quay'

    concordex racks 'mv-knot rack 1'

    concordex racks --where 'site = ropewalk-depot' --draw depot.svg
    """
    here = workspace()
    if rack is not None or figure is not None:
        if fits is not None:
            raise CalledWrongly("--fits looks at all racks", advice="narrow it by --where 'rack = …'")
        standing = here.fleet.elevations(rack, where)
        if figure is not None:
            draw_racks(standing, figure, rack or where or "Racks")
            draw.note(f"{figure}: {len(standing)} racks")
        elif on_screen(form, output):
            for one in standing:
                draw_elevation(one.rack, one.things)
        else:
            import polars as pl

            rows = [
                {**thing, "rack": one.rack["rack"], "site": one.rack["site"], "to": thing["at"] + thing["height"] - 1}
                for one in standing
                for thing in one.things
            ]
            frame = pl.DataFrame(rows, infer_schema_length=None) if rows else pl.DataFrame(schema=list(_THINGS))
            emit(named_columns(frame, words(columns) or _THINGS).head(limit or frame.height), form, output)
        return Status.FOUND if any(thing["wrong"] for one in standing for thing in one.things) else Status.DONE
    found = here.fleet.racks(where, fits=_units(fits), face=_face(face, fits))
    for text in found.notes:
        draw.note(text, "yellow")
    frame = named_columns(found.frame, words(columns))
    shown = fitted(frame, limit, form, output)
    emit(shown.frame, form, output, all_columns=bool(columns))
    shown.say()
    if fits is None:
        return Status.FOUND if found.frame["wrong"].sum() else Status.DONE
    return Status.DONE


def _units(text: str | None) -> int | None:
    """So many units, as people write them."""
    if text is None:
        return None
    match = re.fullmatch(r"(\d{1,3})\s*[uU]?", text.strip())
    if match is None or not int(match[1]):
        raise CalledWrongly(f"--fits {text}: is no number of units", advice="say 4 or 4U")
    return int(match[1])


def _face(face: str | None, fits: str | None) -> str | None:
    if face is not None and fits is None:
        raise CalledWrongly("--face goes with --fits")
    if face not in (None, "front", "rear"):
        raise CalledWrongly(f"--face {face}: is front or rear")
    return face

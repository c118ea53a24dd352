"""``concordex links``."""

from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.emit import emit
from concordex.cli.options import Columns, Limit, Output, OutputFormat, Where, words, workspace
from concordex.cli.rows import named_columns
from concordex.cli.screenful import fitted
from concordex.errors import CalledWrongly
from concordex.figures import canvas, graph_files, topology


def links(
    device: Annotated[
        str | None, typer.Argument(help="What is behind each port of this device: a name, serial, address, entry …")
    ] = None,
    where: Where = None,
    path: Annotated[
        tuple[str, str] | None, typer.Option("--path", help="A shortest way between two devices, link by link.")
    ] = None,
    figure: Annotated[
        Path | None,
        typer.Option(
            "--draw", help="Draw the links into a file: .svg, .png, .pdf; or .graphml, .dot for other programs."
        ),
    ] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Which devices are linked: cable by cable, behind each port of one, or on the way between two.

    A cable stands once, whichever of its ends tell of it (`told`).  What both ends tell otherwise, and sites that hang
    on one link or device, are findings.

    Examples:

    concordex links sw-cobble-quay-01

    concordex links --path ap-fishgate-01 rt-heron-01

    concordex links --where 'near.site = cobble-quay and status = down'

    concordex links --where 'near.site = cobble-quay or far.site = cobble-quay' --draw quay.svg
    """
    if sum(given is not None for given in (device, path)) > 1 or (where and (device or path)):
        raise CalledWrongly("a device, --path and --where are asked one at a time")
    here = workspace()
    if device is not None:
        found = here.fleet.behind(device)
    elif path is not None:
        found = here.fleet.way(*path)
    else:
        found = here.fleet.links(where)
    for text in found.notes:
        draw.note(text, "yellow")
    if figure is not None:
        if device is not None or path is not None:
            raise CalledWrongly("--draw goes with --where, or with all links")
        _draw(found.frame.to_dicts(), figure, where or "Links")
        return
    frame = named_columns(found.frame, words(columns))
    shown = fitted(frame, limit, form, output)
    emit(shown.frame, form, output, all_columns=bool(columns))
    shown.say()


def _draw(cables: list[dict[str, object]], figure: Path, title: str) -> None:
    ending = figure.suffix.removeprefix(".").lower()
    if ending in graph_files.FORMS:
        graph_files.write(cables, figure)
    elif ending in canvas.FORMS:
        topology.draw(cables, figure, title)
    else:
        raise CalledWrongly(
            f"{figure}: links are drawn as {', '.join((*canvas.FORMS, *graph_files.FORMS))}, by the ending of the file"
        )
    draw.note(f"{figure}: {len(cables):,} cables")

"""``concordex metrics``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Output, workspace


def metrics(
    serve: Annotated[
        int | None, typer.Option("--serve", min=0, max=65535, help="Serve them on this loopback port, until Ctrl-C.")
    ] = None,
    output: Output = None,
) -> None:
    """How the work itself stands, for a scraper (OpenMetrics 1.0): jobs, systems, changes, what waits to be told.

    No system is asked.  How the devices of the fleet are is told by `health -f openmetrics`.

    Examples:

    concordex metrics -o /var/lib/metrics/concordex.prom

    concordex metrics --serve 9464
    """
    from concordex.cli.openmetrics import families

    here = workspace()
    if serve is not None:
        from concordex.cli.scraped import serving

        with serving(serve, lambda: families(here.upkeep.measures())) as address:
            draw.note(f"served at {address}; Ctrl-C ends it")
            draw.until_interrupted()
        return
    text = families(here.upkeep.measures())
    if output is None:
        draw.line(text.rstrip("\n"))
    else:
        from concordex.landing import write_text

        write_text(output, text)

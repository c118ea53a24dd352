"""``concordex schema``."""

from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.emit import write_text
from concordex.cli.options import Output
from concordex.errors import CalledWrongly
from concordex.words import suggestion


def schema(
    name: Annotated[str | None, typer.Argument(help="workspace, dialect, rulings, group or versions.")] = None,
    output: Output = None,
) -> None:
    """The JSON Schema (2020-12) of a file that people write, for editors that check while one types.

    Examples:

    concordex schema

    concordex schema workspace -o concordex.schema.json
    """
    from concordex.work.api_upkeep import schemas

    known = schemas()
    if name is None:
        for one, (file, _) in known.items():
            draw.line(f"{one:<10} {file}")
        return
    if name not in known:
        raise CalledWrongly(f"there is no schema {name!r}", advice=suggestion(name, known))
    text = known[name][1]()
    if output is None:
        draw.line(text.rstrip())
    else:
        write_text(text, Path(output))

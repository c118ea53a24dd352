"""``concordex sync``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.change_options import ChangeOptions, change_options
from concordex.cli.options import Where, complete_systems, workspace
from concordex.cli.propose import propose
from concordex.errors import CalledWrongly


@change_options()
def sync(
    system: Annotated[
        str,
        typer.Argument(help="The inventory, database or file to bring up to date.", autocompletion=complete_systems),
    ],
    where: Where = None,
    edited: Annotated[
        str, typer.Option("--edited", help="What others altered after we wrote it: hold, ours or theirs.")
    ] = "hold",
    *,
    answers: ChangeOptions,
) -> int:
    """Bring an inventory up to date with the concordance: preview, agree, write once, read back.

    References are created first and ids are looked up; what people own is not touched; what somebody
    altered after we wrote it is held with both values, for a person to choose (--edited); what cannot be
    written is listed with the reason.  Exit status 4 when something was refused, 5 when not agreed.

    Examples:

    concordex sync stowage --draft

    concordex sync register-database --yes

    concordex sync stowage --where 'site = "cobble-quay"' --yes
    """

    if edited not in ("hold", "ours", "theirs"):
        raise CalledWrongly(f"--edited {edited}: is not known", advice="hold, ours or theirs")
    here = workspace()
    change, notes = here.sync(system, where, edited)  # type: ignore[arg-type]
    for text in notes:
        draw.note(text)
    return propose(here, change, answers, f"{system} is up to date")

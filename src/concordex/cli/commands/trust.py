"""``concordex trust``."""

from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import workspace
from concordex.cli.statuses import Status
from concordex.trust import agree, disagree, doubts
from concordex.words import plural


def trust(
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")] = False,
    forget: Annotated[bool, typer.Option("--forget", help="Take back all that was agreed to for it.")] = False,
) -> int:
    """Agree to what a workspace that others can edit may run and read.

    A workspace names where secrets are kept, commands that give them, and where they are sent.  Where somebody else
    can write it, no command is run and no secret is had until you have agreed to exactly that: this secret, for this
    address, asked what its dialects say now.  What you agreed to is kept outside of the workspace; whatever is altered
    or added there needs your word again.

    Examples:

    concordex trust

    concordex trust --forget
    """

    here = workspace()
    if forget:
        draw.note(f"{plural(disagree(here.root), 'agreement')} taken back for {here.root.resolve()}")
        return Status.DONE
    asked = [(wanted, why) for wanted in here.secrets.named() if (why := doubts(here.root, wanted))]
    if not asked:
        draw.note(f"nothing to approve: all that {here.root.resolve()} names is allowed already")
        return Status.DONE
    draw.table(["for", "would run or read", "and send to", "why you are asked"],
               [(wanted.name, wanted.reference, wanted.to, why) for wanted, why in asked])  # fmt: skip
    if own := sorted(path.name for path in (here.root / "dialects").glob("*.yaml")):
        draw.note(f"what is asked there is said in dialects/{', '.join(own)}: concordex dialect show NAME --requests")
    if not (yes or draw.ask(f"May {here.root.resolve()} have {'this' if len(asked) == 1 else 'these'}?")):
        draw.note("not approved; none of it is run or read")
        return Status.STOPPED
    agree(here.root, [wanted for wanted, _ in asked])
    draw.note("approved; whatever is altered or added there is asked about again")
    return Status.DONE

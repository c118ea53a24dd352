"""``concordex rights``: who may do what."""

import secrets
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Output, OutputFormat, workspace
from concordex.cli.rows import emit_rows

rights = typer.Typer(
    help="Who may do what, and on which systems.", no_args_is_help=True, rich_markup_mode=None,
)  # fmt: skip


@rights.command("show")
def show(form: OutputFormat = None, output: Output = None) -> None:
    """Who may do what on which systems, and who you are.

    Example: concordex rights show
    """
    here = workspace()
    known = here.config.rights
    rows = [
        {"who": name, "may": ", ".join(grant.may),
         "on": ", ".join([*grant.systems, *(f"tag {tag}" for tag in grant.tags)]) or "all systems",
         "by": "token" if person.token else "group" if name.startswith("group:") else "user"}
        for name, person in (known.people if known else {}).items()
        for grant in person.grants
    ]  # fmt: skip
    if known is None:
        draw.note("everybody may do everything; rights: in concordex.yaml says otherwise (docs/team.md)")
    if rows or form:
        emit_rows(rows, form, output)
    second = known.second_person if known else None
    if second is not None:
        where = ", ".join([*second.systems, *(f"tag {tag}" for tag in second.tags)]) or "all systems"
        draw.note(f"a second person agrees to changes of: {where}")
    draw.note(f"you are {here.allowed.who}")


@rights.command("token")
def token(
    name: Annotated[str, typer.Argument(help="What the runner is called under rights: people:.")],
) -> None:
    """Make a token for a runner; it is shown once, and concordex.yaml holds its SHA-256 alone.

    Example: concordex rights token night
    """
    from concordex.work.api_upkeep import digest_of_token

    made = secrets.token_urlsafe(32)
    draw.line(made)
    told = f"token: '{digest_of_token(made)}', may: [see, pull]"
    draw.note(f"rights: {{people: {{{name}: {{{told}}}}}}}")
    draw.note("the runner has it in CONCORDEX_TOKEN; it is kept nowhere here")

"""``concordex system``: who we talk to."""

from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import Form, Systems, words, workspace
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly

system = typer.Typer(
    help="Who we talk to: add systems, list them, try them.", no_args_is_help=True, rich_markup_mode=None
)


@system.command("add")
def add(
    name: Annotated[str, typer.Argument(help="What to call it: small letters, digits, dashes.")],
    dialect: Annotated[str, typer.Option("--dialect", "-d", help="How it speaks: see `concordex dialect list`.")],
    url: Annotated[
        str | None, typer.Option("--url", "-u", help="Where it is, such as https://controller.example.")
    ] = None,
    credential: Annotated[
        list[str] | None,
        typer.Option(
            "--credential",
            "-c",
            help="NAME=VALUE; a secret as env:, file:, keyring: or command:. Repeatable.",
        ),
    ] = None,
    label: Annotated[str, typer.Option("--label", help="A name for people.")] = "",
    tag: Annotated[list[str] | None, typer.Option("--tag", help="A tag to select it by. Repeatable.")] = None,
    ca: Annotated[str | None, typer.Option("--ca", help="A file with the CA that signed its certificate.")] = None,
    fingerprint: Annotated[
        str | None, typer.Option("--fingerprint", help="SHA-256 of its certificate, where that is to be pinned.")
    ] = None,
    folder: Annotated[str | None, typer.Option("--folder", help="Instead of --url: where its files are.")] = None,
) -> None:
    """Add a system to concordex.yaml; comments there are kept.

    Example: concordex system add muster -d muster -u https://muster.example -c client=ops -c secret=env:MUSTER_SECRET
    """
    from concordex.work.init import add_system

    credentials = dict(_pair(text) for text in credential or [])
    settings: dict[str, Any] = {
        "dialect": dialect, "url": url, "folder": folder, "label": label, "tags": words(tag), "credentials": credentials,
        "tls": {key: value for key, value in (("ca", ca), ("fingerprint", fingerprint)) if value},
    }  # fmt: skip
    add_system(workspace(), name, settings)
    draw.note(f"added {name}; try it: concordex system check {name}")


def _pair(text: str) -> tuple[str, str]:
    name, equals, value = text.partition("=")
    if not equals:
        raise CalledWrongly(f"--credential {text}: should be NAME=VALUE")
    return name, value


@system.command("list")
def list_systems(form: Form = None) -> None:
    """List the systems, and what is known of each.

    Example: concordex system list
    """
    from concordex.cli.rows import emit_rows
    from concordex.work.overview import overview

    here = workspace()
    all_known = overview(here)
    rows = [
        {
            "system": known.name, "role": known.role, "dialect": known.dialect, "url": known.url,
            "last pull": known.outcome or "never", "records": known.records,
            "age": draw.ago(known.taken, here.now()) if known.taken else None,
            **({"label": known.label} if any(one.label for one in all_known) else {}),
        }
        for known in all_known
    ]  # fmt: skip
    emit_rows(rows, form, None)


@system.command("check")
def check(systems: Systems = None, form: Form = None) -> int:
    """Try systems step by step: secrets, network, certificate, sign-in, the first page of each table.

    Stops at the first step that fails, and says what to do.  Exit status 1 when one fails.

    Example: concordex system check muster
    """
    from concordex.cli.rows import emit_rows
    from concordex.work.check import check as try_all

    found = try_all(workspace(), systems or [])
    rows = [
        {"system": f.system, "step": f.step, "result": "well" if f.well else "FAILED", "seen": f.seen} for f in found
    ]
    emit_rows(rows, form, None, styles={"well": "green", "FAILED": "bold red"})
    for failed in (f for f in found if not f.well and f.advice):
        draw.note(f"{failed.system}: {failed.advice}", "yellow")
    return Status.DONE if all(f.well for f in found) else Status.FAILED

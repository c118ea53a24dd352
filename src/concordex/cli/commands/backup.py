"""``concordex backup`` and ``concordex restore``."""

from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import workspace


def backup(
    file: Annotated[Path, typer.Argument(help="The file to write; it must not be there.")],
    check: Annotated[
        bool, typer.Option("--check", help="Write nothing: read that file to its end, and hold it against its digests.")
    ] = False,
) -> None:
    """Write the whole workspace into one file: settings, rulings, snapshots, changes; while others work.

    Secrets are in none: what they are kept in is left out, and told.  The file is for nobody else to read.

    Examples:

    concordex backup night.tar

    concordex backup night.tar --check
    """
    from concordex.work.api_upkeep import check_backup

    told = check_backup(file) if check else workspace().upkeep.back_up(file)
    for name in told.left_out:
        draw.note(f"left out: {name}", "yellow")
    what = f"{told.files} files, {told.bytes / 1e6:.1f} MB, of {told.made:%Y-%m-%d %H:%M} UTC"
    draw.note(
        f"{file}: {what}; every byte is as it was" if check else f"{file}: {what}; concordex restore {file} FOLDER"
    )


def restore(
    file: Annotated[Path, typer.Argument(help="What `backup` wrote.")],
    folder: Annotated[Path, typer.Argument(help="A new folder for the workspace.")],
) -> None:
    """Bring a workspace back from a backup, all of it or nothing: each file is held against its digest.

    Example: concordex restore night.tar ferries-again
    """
    from concordex.work.api_upkeep import restore as brought_back

    told = brought_back(file, folder)
    draw.note(f"{folder}: {told.files} files of {told.made:%Y-%m-%d %H:%M} UTC; concordex -w {folder} doctor")

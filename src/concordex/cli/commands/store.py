"""``concordex store``: where a workspace keeps what it knows, and taking it elsewhere."""

from functools import partial
from typing import Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.options import OutputFormat, workspace
from concordex.cli.rows import emit_rows
from concordex.errors import CalledWrongly

store = typer.Typer(
    help="Where the catalogue and the snapshots are, and taking them elsewhere.",
    no_args_is_help=True, rich_markup_mode=None,
)  # fmt: skip


@store.command("show")
def show(form: OutputFormat = None) -> None:
    """Where the catalogue and the snapshots are, and how much of them there is.

    Example: concordex store show
    """
    here = workspace()
    shelf = here.frames.shelf
    known = here.has_catalogue
    names = here.memory.named_files() if known else set()
    rows = [
        {"part": "catalogue", "at": here.server.place if here.server else str(here.catalogue_file),
         "shared": here.server is not None, "holds": f"{len(here.changes())} changes" if known else "nothing yet"},
        {"part": "snapshots", "at": shelf.place if shelf else str(here.store), "shared": shelf is not None,
         "holds": f"{len(names)} files"},
    ]  # fmt: skip
    emit_rows(rows, form, None)


@store.command("move")
def move(
    here: Annotated[bool, typer.Option("--here", help="Below the workspace's own folder.")] = False,
    catalogue: Annotated[str | None, typer.Option("--catalogue", help="postgresql://USER@HOST/DATABASE.")] = None,
    password: Annotated[str | None, typer.Option("--password", help="Where its password is kept: env:NAME.")] = None,
    schema: Annotated[str | None, typer.Option("--schema", help="This workspace's schema there.")] = None,
    snapshots: Annotated[str | None, typer.Option("--snapshots", help="A folder, or s3://BUCKET/PREFIX.")] = None,
    endpoint: Annotated[str | None, typer.Option("--endpoint", help="Where the object store answers.")] = None,
    key_id: Annotated[str | None, typer.Option("--key-id", help="As whom to sign in to the object store.")] = None,
    key: Annotated[str | None, typer.Option("--key", help="Where its secret is kept, such as env:NAME.")] = None,
    ca: Annotated[str | None, typer.Option("--ca", help="The file of the endpoint's authority.")] = None,
) -> None:
    """Carry the catalogue and all snapshots to another place, and let concordex.yaml say so.

    Every file is read back and held against its digest, and every table against that of all its rows.  Begun once more
    after it was cut off, it takes what has come for done.  Nothing may run meanwhile; nothing is removed where it was.

    Examples:

    concordex store move --catalogue postgresql://watch@db.example/fleet --password env:DB --snapshots /srv/fleet

    concordex store move --here
    """
    own = {"at": snapshots, "endpoint": endpoint, "key_id": key_id, "key": key, "ca": ca}
    given: dict[str, Any] = {"catalogue": catalogue, "password": password, "schema": schema}
    settings = {name: value for name, value in given.items() if value is not None}
    if any(value is not None for value in own.values()):
        settings["snapshots"] = {name: value for name, value in own.items() if value is not None}
    if here == bool(settings):
        raise CalledWrongly(
            "say where to: --here, or --catalogue and --snapshots", advice="concordex store move --help"
        )
    with draw.progress() as advance:
        told = workspace().upkeep.move_store(settings, partial(advance, "files"))
    before = f" ({told.there_before} were there already)" if told.there_before else ""
    draw.note(f"{told.files} files, {told.bytes / 1e6:.1f} MB{before}, and {told.rows:,} rows are in {told.to}")

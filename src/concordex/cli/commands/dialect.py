"""``concordex dialect``: how systems speak."""

from pathlib import Path
from typing import TYPE_CHECKING, Annotated, Any

import typer

from concordex.cli import draw
from concordex.cli.commands.system import RESULTS
from concordex.cli.emit import Format
from concordex.cli.options import Columns, Limit, Output, OutputFormat, complete_systems, words, workspace
from concordex.cli.rows import emit_rows
from concordex.cli.statuses import Status
from concordex.errors import CalledWrongly, DocumentError
from concordex.landing import make_folder, write_text
from concordex.words import plural, suggestion

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.work.api_dialects import Dialects
    from concordex.work.show.capabilities import Capability


def _names() -> list[str]:
    """Every dialect, for the shell."""
    return list(_dialects().known())


dialect = typer.Typer(
    help="How kinds of system speak: list dialects, show what one can do, check a file.", no_args_is_help=True,
    rich_markup_mode=None,
)  # fmt: skip


@dialect.command("list")
def list_dialects(
    limit: Limit = None, columns: Columns = None, form: OutputFormat = None, output: Output = None
) -> None:
    """List the dialects: those that ship with the program, the workspace's own, and those of installed packages.

    Example: concordex dialect list
    """

    every, rows = _dialects(), []
    for name, kind in every.known().items():
        try:
            spoken = every.find(name)
        except DocumentError as error:
            fault = str(error).partition(": ")[2].splitlines()[0]
            rows.append({"dialect": name, "kind": "FAULTY", "role": "", "title": fault, "sign-in": "", "reads": "",
                         "writes": "", "needs": ""})  # fmt: skip
            continue
        rows.append({
            "dialect": spoken.name, "kind": kind, "role": spoken.role, "title": spoken.title,
            "sign-in": spoken.sign_in.by,
            "reads": ", ".join(spoken.tables), "writes": ", ".join(n for n, t in spoken.tables.items() if t.write),
            "needs": ", ".join(spoken.credentials),
        })  # fmt: skip
    emit_rows(rows, form, output, columns=words(columns), limit=limit)


@dialect.command("show")
def show(
    name: Annotated[str, typer.Argument(help="A dialect, by name or as a file.", autocompletion=_names)],
    table: Annotated[str | None, typer.Argument(help="One of its tables, field by field.")] = None,
    source: Annotated[bool, typer.Option("--source", help="Print the file itself, to begin one's own with.")] = False,
    asked: Annotated[
        bool, typer.Option("--requests", help="List each request that it may send, and each file that it reads.")
    ] = False,
    form: OutputFormat = None,
) -> None:
    """Show what a dialect can do, and what it cannot; or one table, with its fields and what may be written.

    Read --requests before you give a credential to a dialect that somebody else wrote.  Beside what it lists,
    links that answers give are followed at the system's own address, and a record is read before it is altered.

    Examples:

    concordex dialect show muster

    concordex dialect show stowage devices

    concordex dialect show fairlead --requests

    concordex dialect show fairlead --source > dialects/ours.yaml
    """
    if asked:
        rows = [row for row in _dialects().requests(_found(name)) if table is None or row["for"].split(".")[0] == table]
        filled = [key for key in rows[0] if any(row[key] for row in rows)] if rows else []
        emit_rows([{key: row[key] for key in filled} for row in rows] if form in (None, Format.TABLE) else rows, form,
                  None, styles={"alters": "yellow", "reads, it says": "yellow"})  # fmt: skip
    elif source:
        draw.line(_dialects().text(name).rstrip())
    elif table is None:
        _draw(_found(name), form)
    else:
        _draw_table(_found(name), table, form)


@dialect.command("check")
def check(
    name: Annotated[str, typer.Argument(help="A dialect, by name or as a file.")],
    against: Annotated[
        str | None,
        typer.Option(
            "--against",
            help="Try each read on this system, or on a folder of recordings.",
            autocompletion=complete_systems,
        ),
    ] = None,
    settle: Annotated[
        bool, typer.Option("--settle", help="Try what a draft leaves open, and write into it what is shown.")
    ] = False,
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Write what is shown without being asked.")] = False,
    form: OutputFormat = None,
) -> int:
    """Check a dialect: every fault with its line and key, then what it can and cannot do.

    With --against each read is tried on a system of the workspace, with this dialect in the place of its
    own: nothing is written to it.  Exit status 1 when a read fails.  With --settle the guesses of a draft are
    tried on it too, one after the other: a way of paging and a total by which a list proves whole become
    lines of the file, and of a field its values are shown, for you to decide.

    Examples:

    concordex dialect check dialects/ours.yaml

    concordex dialect check dialects/ours.yaml --against lamps

    concordex dialect check dialects/ours.yaml --against recordings

    concordex dialect check ours --against lamps --settle
    """

    spoken = _found(name)
    draw.note(f"{name}: ok; {spoken.title}")
    if settle:
        return _settle(name, against, form, yes=yes)
    if against is None:
        _draw(spoken, form)
        _tell_open(name)
        return Status.DONE

    if Path(against).exists():
        here = workspace() if _folder() is not None else None
        tried = _dialects().check_against(spoken, Path(against), here)
    else:
        tried = workspace().check([against], spoken)
    rows = [{"step": f.step, "result": "ok" if f.ok else "FAILED", "seen": f.seen} for f in tried]
    emit_rows(rows, form, None, styles=RESULTS)
    for finding in (f for f in tried if f.advice):
        draw.note(f"{finding.step}: {finding.advice}", "yellow" if not finding.ok else "")
    _tell_open(name, against)
    return Status.DONE if all(f.ok for f in tried) else Status.FAILED


def _settle(name: str, against: str | None, form: Format | None, *, yes: bool) -> int:
    """Try what a draft leaves open on a system, show it, and write what the system showed."""
    if against is None or Path(against).exists():
        raise CalledWrongly(
            "--settle tries guesses on a system", advice=f"dialect check {name} --against SYSTEM --settle"
        )
    here, dialects = workspace(), _dialects()
    made = dialects.settle(name, against, here)
    if not made.tried:
        draw.note("nothing is left open in it")
        return Status.DONE
    results = {True: "shown", False: "no", None: "yours"}
    rows = [
        {"table": one.guess.table, "guess": one.guess.said, "result": results[one.shown], "seen": one.seen}
        for one in made.tried
    ]
    emit_rows(rows, form, None)
    yours = sum(one.shown is None for one in made.tried)
    if yours:
        draw.note(f"{plural(yours, 'guess', 'guesses')} only you can tell: take the # away where it is what you mean")
    file = dialects.file_of(name)
    if made.shown and (yes or draw.ask(f"Write {plural(len(made.shown), 'line')} that the system showed into {file}?")):
        if file.read_text(encoding="utf-8") != made.before:
            raise CalledWrongly(f"{file} was altered meanwhile", advice="nothing was written: settle it once more")
        write_text(file, made.text)
        draw.note(
            f"{file}: {plural(len(made.shown), 'line')} written; concordex dialect check {name} --against {against}"
        )
    return Status.DONE


def _tell_open(name: str, against: str | None = None) -> None:
    """What a draft leaves to its person, and what would settle it."""
    left = _dialects().left_open(name)
    for guess in left[:_LEFT]:
        draw.note(f"{guess.table}: open: {guess.said}  ({guess.how})")
    if len(left) > _LEFT:
        draw.note(f"and {len(left) - _LEFT:,} more guesses stand as comments in the file")
    if left:
        draw.note(f"concordex dialect check {name} --against {against or 'SYSTEM'} --settle tries them")


@dialect.command("trace")
def trace(
    file: Annotated[Path, typer.Argument(help="An HTTP Archive (.har), as any browser saves it.")],
    near: Annotated[
        str | None, typer.Option("--near", help="Calls of this time of day, by the browser's clock.")
    ] = None,
    text: Annotated[str | None, typer.Option("--text", help="Calls whose answer holds this text, and where.")] = None,
    host: Annotated[
        str | None, typer.Option("--host", help="Of which host; of the one that answers most, else.")
    ] = None,
    limit: Limit = None,
    columns: Columns = None,
    form: OutputFormat = None,
    output: Output = None,
) -> None:
    """Find the call behind a click: what a console asked, from a recording of the browser.

    What the page is drawn with, and what it asks again and again, is left out; calls stand together by their path with
    its variable parts.  Secrets are masked.

    Examples:

    concordex dialect trace console.har

    concordex dialect trace console.har --near 14:03:22

    concordex dialect trace console.har --text ropewalk
    """
    told = _dialects().trace(file, near=near, text=text, host=host)
    for note in told.notes:
        draw.note(note, "yellow")
    emit_rows(list(told.rows), form, output, columns=words(columns), limit=limit)
    for line in told.signs_in:
        draw.note(line)
    draw.note(f"{told.host}; left out: {told.noise or 'nothing'}", "dim")


@dialect.command("draft")
def draft(
    name: Annotated[str, typer.Argument(help="What the dialect shall be called: small letters, digits, dashes.")],
    source: Annotated[
        list[str],
        typer.Option("--from", help="A system, a recording (.har), a description (.json, .yaml), a guide. Repeatable."),
    ],
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="The file; else dialects/NAME.yaml of the workspace.")
    ] = None,
) -> int:
    """Draft a dialect from what can be seen of an API: its tables, ids, pages, totals, sign-in and fields.

    What was seen is written, with why beside it; what is only likely is a comment, with what would settle it.  Of a
    system of the workspace nothing but reading is asked: each list once, and on as its answers lead.  Nothing is
    called whole that nothing has shown to be.

    Examples:

    concordex dialect draft lamps --from console.har

    concordex dialect draft lamps --from lamps --from GUIDE.md
    """
    here = workspace() if _folder() is not None else None
    target = output or (here.root / "dialects" if here is not None else Path()) / f"{name}.yaml"
    if target.exists():
        raise CalledWrongly(f"{target} is there already", advice="-o FILE writes it elsewhere")
    made = _dialects().draft(name, source, here)
    asked = next((one for one in source if here is not None and one in here.config.systems), "SYSTEM")
    make_folder(target.parent)
    write_text(target, made.text)
    rows = [
        {
            "table": table.name, "asked": table.seen.rpc or table.seen.path, "records": table.count or None,
            "pages": read.pages.by if read.pages.by != "none" else None,
            "total": str(read.total) if read.total is not None else None,
            "fields": ", ".join([*table.via, *(guess.name for guess in table.fields if guess.sure)]),
            "likely": ", ".join(guess.name for guess in table.fields if not guess.sure) or None,
        }
        for table in made.draft.tables
        for read in [made.dialect.tables[table.name].read]  # as it is written: what it extends says the rest
    ]  # fmt: skip
    if made.draft.standard:
        draw.note(f"extends {made.draft.standard.dialect}: {made.draft.standard.why}")
    if rows:
        emit_rows(rows, None, None)
    for why in made.draft.left[:_LEFT]:
        draw.note(f"left out: {why}")
    for note in made.draft.api.notes[:_LEFT]:
        draw.note(note, "yellow")
    if not rows:
        draw.note("no table could be drafted", "yellow")
        return Status.PARTLY
    draw.note(f"{target}: a draft; read it, and then: concordex dialect check {name} --against {asked}")
    return Status.DONE


@dialect.command("test")
def test(
    name: Annotated[str | None, typer.Argument(help="Only recordings of this dialect.")] = None,
    accept: Annotated[
        bool, typer.Option("--accept", help="Keep what is read now as what is right: look at it first.")
    ] = False,
    form: OutputFormat = None,
) -> int:
    """Read the recordings in dialects/tests by their dialects, and compare with what was accepted.

    Nothing is asked of any system.  Exit status 1 where something is read in another way.

    Examples:

    concordex dialect test --accept

    concordex dialect test lamps
    """
    tried = _dialects().test(name, accept=accept)
    rows = [
        {"recording": one.recording, "dialect": one.dialect, "result": one.result, "seen": one.seen} for one in tried
    ]
    emit_rows(rows, form, None, styles=TESTED)
    return Status.FAILED if any(one.result in ("different", "failed") for one in tried) else Status.DONE


TESTED = {"accepted": "green", "new": "yellow", "different": "bold red", "failed": "bold red"}


@dialect.command("add")
def add(
    source: Annotated[
        Path,
        typer.Argument(help="A dialect, a folder of some, an archive (.zip, .whl, .tar.gz), or an installed package."),
    ],
    yes: Annotated[bool, typer.Option("--yes", "-y", help="Agree without being asked.")] = False,
) -> int:
    """Take dialects that somebody else made into the workspace, with their recordings, after a look at what they ask.

    Nothing is taken over what is there, nor in the place of a shipped dialect.  A dialect asks nothing but what is
    shown, at the one system that a workspace names, with no secret but those that it names itself.  Dialects in an
    installed package (entry point concordex.dialects) can be used without; added, they stay when it goes.

    Examples:

    concordex dialect add lamps.yaml

    concordex dialect add lamplight-dialects.zip

    concordex dialect add lamplight-dialects
    """
    every = _dialects()
    offer = every.offered(source)
    for name, spoken in offer.dialects.items():
        draw.heading(f"{name}: {spoken.title}")
        secrets = [part for part, spec in spoken.credentials.items() if spec.secret]
        rows = [("secrets", ", ".join(secrets) or "none"), *every.summary(spoken)]
        rows += [("tried with", ", ".join(one.release for one in spoken.tried))] if spoken.tried else []
        for what, told in rows:
            draw.line(f"  {what}: {told}")
    tests = [name for name in offer.files if name.startswith("tests/")]
    if tests:
        draw.line(f"with {', '.join(tests[:_LEFT])}")
    if not (yes or draw.ask(f"Add {', '.join(offer.dialects)}?")):
        draw.note("not agreed; nothing was added")
        return Status.STOPPED
    for path in every.take(offer):
        draw.note(f"added {path}")
    first = next(iter(offer.dialects))
    draw.note(f"every request of it: concordex dialect show {first} --requests")
    return Status.DONE


@dialect.command("schema")
def schema() -> None:
    """Print the JSON Schema of the dialect format, for an editor.

    Example: concordex dialect schema > dialect.schema.json
    """
    draw.line(_dialects().schema().rstrip())


#: How much of what a draft left out is told.
_LEFT = 10
#: What is told of each table in a few words, in this order.
_SHORT = {
    "create": "create", "update": "update", "delete": "delete", "be saved as objects": "be saved as objects",
    "tell what changed": "tell what changed", "send only some members": "send only some members",
}  # fmt: skip


def _draw(spoken: "Dialect", form: OutputFormat) -> None:
    """On a screen what the system can do, then one line for each table; in any format one row for each thing."""

    every = _dialects().capabilities(spoken)
    if form not in (None, Format.TABLE):
        emit_rows([{"of": o.about, "what": o.what, "can": o.can, "how": o.how} for o in every], form, None)
        return
    system = [o for o in every if o.about == "system"]
    styles = {"no": "yellow", "yes": "green"}
    emit_rows(
        [{"system": o.what, "can": "yes" if o.can else "no", "how": o.how} for o in system], None, None, styles=styles
    )
    draw.line()
    emit_rows([_line(spoken, name, every) for name in spoken.tables], None, None, styles=styles)
    draw.line()
    for what, how in _dialects().summary(spoken):
        draw.line(f"{what}: {how}")
    draw.note("--requests lists each of them")


def _line(spoken: "Dialect", table: str, every: "list[Capability]") -> dict[str, Any]:
    mine = {o.what: o for o in every if o.about == table}
    can = [short for what, short in _SHORT.items() if what in mine and mine[what].can]
    write = spoken.tables[table].write
    can += list(write.actions) if write else []
    there = mine["filter there"].how
    return {
        "table": table, "proved whole by": mine["prove that it is whole"].how or "nothing",
        "can": ", ".join([*can, *([f"filter {there}"] if there else [])]) or "be read",
    }  # fmt: skip


def _draw_table(spoken: "Dialect", name: str, form: OutputFormat) -> None:
    if name not in spoken.tables:
        raise CalledWrongly(f"{spoken.name} has no table {name!r}", advice=suggestion(name, spoken.tables))
    rows = _dialects().fields(spoken.tables[name])
    if form not in (None, Format.TABLE):
        emit_rows(rows, form, None)
        return
    draw.line(f"{spoken.name}/{name}: {spoken.tables[name].about or 'a table'}")
    for capability in _dialects().capabilities(spoken):
        if capability.about == name and capability.can and capability.how:
            draw.below(f"{capability.what}: {capability.how}", "  ")
    draw.line()
    filled = [name for name in rows[0] if any(row[name] for row in rows)]
    emit_rows([{name: row[name] for name in filled} for row in rows], None, None)


def _found(name: str) -> "Dialect":
    return _dialects().find(name)


def _dialects() -> "Dialects":
    """The shipped ones, and the workspace's own."""
    from concordex.work.api_dialects import Dialects

    return Dialects(_folder())


def _folder() -> Path | None:
    """The workspace's own dialects, where there is a workspace."""

    try:
        return workspace().root / "dialects"
    except CalledWrongly:
        return None

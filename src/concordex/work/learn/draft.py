"""A dialect drafted from a system, recordings, descriptions and guides, with what other systems are known to hold."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.documents import read_text
from concordex.errors import CalledWrongly, ConcordexError
from concordex.insight.draft.drafted import Draft, draft
from concordex.insight.draft.fields import bare
from concordex.insight.draft.seen import ApiSeen, ListSeen, OneSeen, lists
from concordex.insight.draft.standards import ShippedStandard
from concordex.insight.draft.written import written
from concordex.parallel import completed
from concordex.wire.dialect import load
from concordex.work.learn.description import described_in, description
from concordex.work.learn.from_description import of_description
from concordex.work.learn.from_guide import of_guide
from concordex.work.learn.from_recording import of_recording
from concordex.work.learn.from_system import of_system

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.work.workspace.base import BaseWorkspace

#: Fields whose values tell what a member of another system's records is.
_TELLING = ("serial", "name", "macs", "ips", "asset_tag", "uuid", "site", "model", "maker", "user", "os_version")
#: So many values of each are looked up.
_MOST = 200_000


@dataclass(frozen=True)
class DraftedDialect:
    """A draft as a file, what it was made of, and the dialect that the file is."""

    draft: Draft
    text: str
    dialect: Dialect


def draft_dialect(workspace: BaseWorkspace | None, name: str, sources: Sequence[str]) -> DraftedDialect:
    """A dialect called ``name``, from systems and files; raises CalledWrongly where a source is neither."""
    api, systems = ApiSeen(), list[str]()
    for source in sources:
        if workspace is not None and source in workspace.config.systems:
            systems.append(source)
        else:
            _together(api, _of_file(Path(source), workspace))
    for system in systems:
        assert workspace is not None
        seen = _of_system(workspace, system, api.lists)
        asked = [one.path for one in seen.lists]  # a guide leaves out what all paths begin with
        api.lists = [one for one in api.lists if one.answers or not any(path.endswith(one.path) for path in asked)]
        _together(api, seen)
    known = _known(workspace, systems) if workspace is not None else {}
    api.lists = [one for one in api.lists if one.answers] + [one for one in api.lists if not one.answers]
    made = draft(name, api, known, _standards())
    text = written(made, systems[0] if systems else "SYSTEM")
    return DraftedDialect(made, text, load.from_text(text, f"{name}.yaml"))


def _standards() -> dict[str, ShippedStandard]:
    """The shipped dialects of open standards, as a draft may rest on them."""
    made = dict[str, ShippedStandard]()
    for name in ("restconf", "redfish", "scim", "odata"):
        if name in load.shipped():
            dialect = load.find(name)
            tables = {str(table.read.path): own for own, table in dialect.tables.items() if not table.read.each}
            records = str(dialect.lists.records) if dialect.lists else None
            made[name] = ShippedStandard(tables, dialect.base, dialect.sign_in.by, tuple(dialect.credentials), records)
    return made


def _of_file(path: Path, workspace: BaseWorkspace | None) -> ApiSeen:
    if not path.is_file():
        systems = ", ".join(workspace.config.systems) if workspace is not None else "none here"
        raise CalledWrongly(f"{path} is neither a file nor a system", advice=f"the systems are: {systems}")
    if path.suffix == ".har":
        return of_recording(path)
    if path.suffix in (".json", ".yaml", ".yml"):
        return of_description(described_in(path))
    return of_guide(read_text(path))


def _of_system(workspace: BaseWorkspace, system: str, known: Sequence[ListSeen]) -> ApiSeen:
    """What a system itself answers, for the lists that its description, other sources and its dialect name."""
    seen = ApiSeen(title=workspace.dialect(system).title, shape=workspace.dialect(system).shape.by)
    if workspace.config.systems[system].describes:
        try:
            kind, _, where = (workspace.config.systems[system].describes or "").partition(":")
            told = of_description(description(workspace, system), where if kind == "graphql" else "")
        except ConcordexError as error:
            if not known:
                raise
            seen.notes.append(f"its description was not had: {error}")
        else:
            seen.title, seen.writes = told.title or seen.title, told.writes
            seen.sign_in, seen.sign_in_why, seen.credentials = told.sign_in, told.sign_in_why, told.credentials
            seen.lists = told.lists
    dialect = workspace.dialect(system)
    base = f"/{dialect.base.strip('/')}" if dialect.base.strip("/") else ""
    own = dialect.sign_in.model_dump(mode="json", by_alias=True, exclude_defaults=True)
    if dialect.sign_in.by != "none":
        for part in (own, own.get("call"), own.get("sign_out")):
            if isinstance(part, dict) and part.get("path"):
                part["path"] = f"{base}{part['path']}"
        seen.sign_in, seen.sign_in_why = (
            {"by": dialect.sign_in.by, **own},
            f"as {dialect.name} says it, and it was let in",
        )
        seen.credentials = {part: {"secret": True} if spec.secret else {} for part, spec in dialect.credentials.items()}
    paths = _by_path([*known, *seen.lists])
    if not paths:
        raise CalledWrongly(
            f"nothing says what {system} can be asked",
            advice=f"describes: of {system} in concordex.yaml, or --from its guide or a recording as well",
        )
    seen.lists, seen.ones, more = completed(_asked(workspace, system, paths, base))
    seen.notes += more[:20]
    return seen


def _by_path(told: Sequence[ListSeen]) -> list[ListSeen]:
    """Each list once, the last one of a path with the parameters of all; of GraphQL the document that was sent."""
    paths: dict[tuple[str, str], ListSeen] = {}
    for one in told:
        where = one.path, one.called if one.posts else ""
        if where in paths and one.posts:
            continue
        if where in paths:
            one.takes = list(dict.fromkeys([*one.takes, *paths[where].takes]))
        paths[where] = one
    return list(paths.values())


async def _asked(
    workspace: BaseWorkspace, system: str, known: Sequence[ListSeen], base: str
) -> tuple[list[ListSeen], list[OneSeen], list[str]]:
    async with workspace.session(system) as session:
        return await of_system(session, known, base)


def _together(api: ApiSeen, more: ApiSeen) -> None:
    """What one source adds to the others: answers go before descriptions, and of one list all are kept."""
    for listed in more.lists:
        same = next((one for one in api.lists if one.where == listed.where), None)
        if same is None:
            api.lists.append(listed)
            continue
        is_real = any(True for a in listed.answers for _ in lists(a.body)) and listed.from_ != "the description"
        if is_real and same.from_ == "the description":
            same.answers, same.from_ = list(listed.answers), listed.from_
        elif is_real or same.from_ == listed.from_:
            same.answers += listed.answers
        same.takes = list(dict.fromkeys([*same.takes, *listed.takes]))
        same.about = same.about or listed.about
        same.query = same.query or listed.query
    api.writes += more.writes
    api.ones += more.ones
    api.title = api.title or more.title
    api.shape = more.shape if more.shape != "json" else api.shape
    if api.sign_in is None and more.sign_in is not None:
        api.sign_in, api.sign_in_why, api.credentials = more.sign_in, more.sign_in_why, more.credentials
    api.error = api.error or more.error
    api.rpc = api.rpc or more.rpc
    api.notes += more.notes


def _known(workspace: BaseWorkspace, without: Sequence[str]) -> dict[str, set[str]]:
    """Values of each telling field, as the newest pulls of the other systems have them."""
    import polars as pl

    known: dict[str, set[str]] = {name: set() for name in _TELLING}
    if not workspace.has_catalogue:
        return known
    for shot in workspace.memory.newest("devices"):
        if not shot.file or shot.system in without:
            continue
        frame = workspace.frames.scan(shot.file)
        there = frame.collect_schema()
        for name in _TELLING:
            if name in there:
                column = frame.select(name).collect()[name].drop_nulls()
                texts = column.explode().drop_nulls() if isinstance(there[name], pl.List) else column
                known[name] |= {
                    bare(text) for text in texts.cast(pl.String).unique().head(_MOST) if len(bare(text)) > 2
                }
    return known

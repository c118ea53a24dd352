"""A dialect put together from what was seen: tables, what hangs from what, and what is only likely."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from concordex.insight.draft.fields import FieldGuess, Profile, guesses, id_of, profiles
from concordex.insight.draft.pages import PageGuess, in_one_manner, pages_of
from concordex.insight.draft.seen import ApiSeen, ListSeen, OneSeen, OnlyDescribed, WriteSeen, lists, members, value_of
from concordex.insight.draft.standards import FollowedStandard, ShippedStandard, followed

#: Fields that only devices have many of.
_DEVICE = {"serial": 3, "macs": 2, "model": 2, "os_version": 2, "ips": 1, "maker": 1, "kind": 1, "os": 1, "uuid": 1}
#: What a list of such records is called here.
_CALLED = {
    "interfaces": r"ports?|interfaces?|nics?", "sites": r"sites?|places?|offices?|locations?|zones?|branches|berths?",
    "users": r"users?|people|persons|holders?", "models": r"models?|products?", "racks": r"racks?",
    "events": r"events?|changes|happenings", "readings": r"readings?|samples|measurements", "hosts": r"hosts?|clients?",
}  # fmt: skip


@dataclass
class DraftedDetails:
    """One more call for each record: where, the name of the id in it, where the record stands, and what it adds."""

    seen: OneSeen
    name: str
    record: str
    records: list[Mapping[str, Any]] = field(default_factory=list)


@dataclass
class DraftedTable:
    """One table of a draft: where it is, how it is cut, what its records are known by, and its fields."""

    name: str
    seen: ListSeen
    records: str
    records_why: str
    pages: PageGuess
    record_id: str | None
    id_why: str
    id_others: list[str]
    fields: list[FieldGuess]
    members: list[Profile]
    count: int
    details: DraftedDetails | None = None
    listed: set[str] = field(default_factory=set)  # the members that the list itself has
    owner: DraftedTable | None = None  # the table whose records its lists hang from
    of_parent: str = ""  # the name in its path that stands for them
    via: dict[str, tuple[str, str]] = field(default_factory=dict)  # our field: its member, the table that it leads to

    @property
    def each(self) -> str | None:
        """What the table is called whose records its lists hang from."""
        return self.owner.name if self.owner else None


@dataclass
class Draft:
    """A dialect as far as it could be drafted."""

    name: str
    api: ApiSeen
    base: str
    tables: list[DraftedTable]
    writes: list[WriteSeen]
    left: list[str]  # lists that are no table of it, and why
    standard: FollowedStandard | None = None


def draft(
    name: str, api: ApiSeen, known: Mapping[str, set[str]], shipped: Mapping[str, ShippedStandard] | None = None
) -> Draft:
    """A dialect of what was seen; ``known`` are values of fields that other systems have.

    What a dialect in ``shipped`` reads, since the API follows its standard, is no table of the draft.
    """
    tables, left = list[DraftedTable](), list[str]()
    standard = _standard(api, shipped or {})
    for seen in api.lists:
        if standard is not None and standard.reads(seen.path):
            continue
        table = _table(seen, api.ones, known)
        if table is None:
            left.append(f"{_asked(seen)}: no list of records was seen in its answers")
        elif table.record_id is None:
            left.append(f"{_asked(seen)}: nothing tells its records apart")
        else:
            tables.append(table)
    tables = _hung(tables, left)
    _named(tables, set(standard.shipped.tables.values()) if standard else set())
    _referred(tables)
    in_one_manner([(table.seen, table.records, table.pages) for table in tables])
    _of_one_size(tables)
    base = (
        standard.base
        if standard
        else _base([table.seen.path for table in tables if not table.seen.rpc] + _sign_in_paths(api))
    )
    return Draft(name, api, base, tables, api.writes, left, standard)


def _standard(api: ApiSeen, shipped: Mapping[str, ShippedStandard]) -> FollowedStandard | None:
    """The standard that an API follows; none where something of it stands elsewhere than below the standard's base."""
    found = followed(api, shipped)
    paths = [one.path for one in api.lists if one.answers and not one.rpc] + _sign_in_paths(api)
    return found if found and all(f"{path}/".startswith(f"{found.base}/") for path in paths) else None


def _asked(seen: ListSeen) -> str:
    return seen.rpc or f"{seen.path} {seen.called}".rstrip()


def _table(seen: ListSeen, ones: Sequence[OneSeen], known: Mapping[str, set[str]]) -> DraftedTable | None:
    where = _where(seen)
    if where is None:
        return None
    path, why = where
    groups = [seen.records_of(answer, path) for answer in seen.answers]
    record_id, id_why, others = id_of(groups)
    apart = {str(value_of(record, record_id)): record for group in groups for record in group} if record_id else {}
    listed = {name for record in apart.values() for name, _ in members(record)}
    details = _details(seen.path, record_id, apart, ones)
    told = _profiles([*apart.values(), *(details.records if details else ())])
    described = any(isinstance(value, OnlyDescribed) for record in apart.values() for value in record.values())
    return DraftedTable(
        "", seen, path, why, pages_of(seen, path), record_id, id_why, others,
        guesses(told, known, record_id or ""), told, 0 if described else len(apart), details=details, listed=listed,
    )  # fmt: skip


def _profiles(records: Sequence[Mapping[str, Any]]) -> list[Profile]:
    values: dict[str, list[Any]] = {}
    for record in records:
        for name, value in members(record):
            values.setdefault(name, []).append(value)
    return profiles(values)


def _details(
    path: str, record_id: str | None, apart: Mapping[str, Mapping[str, Any]], ones: Sequence[OneSeen]
) -> DraftedDetails | None:
    """What one more call for each record adds to it, where such calls were seen: below its list, or elsewhere."""
    made: DraftedDetails | None = None
    for one in sorted(ones, key=lambda one: not _is_below(one.path, path)):
        name = _only_name(one, path)
        own = apart.get(one.values.get(name, "")) if name else None
        if own is None or name is None or record_id is None:
            continue
        if made is not None and (made.seen.path, made.seen.rpc) != (one.path, one.rpc):
            break
        for where, record in _mappings(one.body):
            below = not one.rpc and _is_below(one.path, path) is not None
            if str(value_of(record, record_id)) == one.values[name] and (below or _same(own, record)):
                made = made or DraftedDetails(one, name, where)
                made.records.append({name: value for name, value in record.items() if name not in own})
                break
    return made


def _is_below(one: str, path: str) -> str | None:
    """The name in the path of one record, where it is that of its list and the name."""
    below = re.fullmatch(re.escape(path.rstrip("/")) + r"/\{(\w+)\}/?", one)
    return below[1] if below else None


def _only_name(one: OneSeen, path: str) -> str | None:
    """The name that stands for the id where one record is asked for by itself."""
    below = _is_below(one.path, path)
    if below and not one.rpc:
        return below
    alone = len(one.values) == 1 and (one.rpc or re.fullmatch(r"[^{]*\{\w+\}", one.path))
    return next(iter(one.values)) if alone else None


def _same(own: Mapping[str, Any], record: Mapping[str, Any]) -> bool:
    """Whether two say the same of more than the id: ids of two lists may be the same by chance."""
    shared = [name for name, value in own.items() if isinstance(value, str) and value and name in record]
    return sum(bool(own[name] == record[name]) for name in shared) > 1


def _mappings(body: Any) -> Iterator[tuple[str, Mapping[str, Any]]]:
    if isinstance(body, Mapping):
        yield "$", body
        yield from ((str(name), held) for name, held in body.items() if isinstance(held, Mapping))


def _where(seen: ListSeen) -> tuple[str, str] | None:
    """Where an answer holds its list: the one list, or the longest."""
    found: dict[str, int] = {}
    for answer in seen.answers:
        for path, records in lists(answer.body):
            found[path] = found.get(path, 0) + len(records)
    outer = {path: n for path, n in found.items() if not any(path.startswith(f"{o}.") for o in found if o != path)}
    if not outer:
        return (seen.records, "as it is described") if seen.records else None
    best = max(outer, key=lambda path: (path == seen.records, outer[path]))
    return best, "the only list of records in the answer" if len(outer) == 1 else "the longest list in the answer"


def _hung(tables: list[DraftedTable], left: list[str]) -> list[DraftedTable]:
    """Lists with a name in their path hang from the table whose ids stood there."""
    kept = []
    for table in tables:
        names = re.findall(r"\{(\w+)\}", table.seen.path)
        if table.seen.rpc:
            names = list(dict.fromkeys(name for answer in table.seen.answers for name in answer.values))
        if not names:
            kept.append(table)
            continue
        stood = {answer.values.get(names[-1], "") for answer in table.seen.answers} - {""}
        above = table.seen.path.partition("/{")[0]
        owners = [
            one for one in tables if one is not table and not _has_names(one.seen) and stood and stood <= _ids(one)
        ]
        owner = min(owners, key=lambda one: one.seen.path.rstrip("/") != above, default=None)
        if owner is None or len(names) > 1:
            left.append(f"{_asked(table.seen)}: what stands for {{{names[-1]}}} is the id of no record that was seen")
            continue
        table.owner, table.of_parent = owner, names[-1]
        kept.append(table)
    return kept


def _has_names(seen: ListSeen) -> bool:
    return "{" in seen.path or any(answer.values for answer in seen.answers)


def _ids(table: DraftedTable) -> set[str]:
    return next((p.distinct for p in table.members if p.path == table.record_id), set())


def _named(tables: list[DraftedTable], taken: set[str]) -> None:
    """Names of tables: the one with most of what only devices have is devices, the others as their paths call them."""
    devices = max(tables, key=_device_like, default=None)
    if devices is not None and _device_like(devices) >= 4 and "devices" not in taken:
        devices.name = "devices"
        taken.add("devices")
    words = Counter(_word(table.seen) for table in tables)
    for table in tables:
        if table.name:
            continue
        word = _word(table.seen)
        parts = [part for part in table.seen.path.split("/") if part and "{" not in part]
        if words[word] > 1 and not table.seen.rpc and not table.seen.called and len(parts) > 1:
            word = _spelt(parts[-2])  # of lists that all are called items, that which tells them apart
        name = next((ours for ours, called in _CALLED.items() if re.fullmatch(called, word)), word)
        while name in taken:
            name = f"{name}-{len(taken)}"
        table.name = name
        taken.add(name)
        _called_by_itself(table)


def _called_by_itself(table: DraftedTable) -> None:
    """What other tables would call the site is, of a site itself, its name; and so of a rack, or a model."""
    own = {"sites": "site", "racks": "rack", "models": "model", "users": "user", "makers": "maker"}.get(table.name)
    if own and not any(guess.name == "name" for guess in table.fields):
        for guess in table.fields:
            if guess.name == own:
                guess.name = "name"


def _device_like(table: DraftedTable) -> float:
    points = sum(_DEVICE.get(guess.name, 0) for guess in table.fields if guess.score >= 4)
    return points - (3 if table.owner else 0) + min(table.count, 500) / 1000


def _word(seen: ListSeen) -> str:
    if seen.called:
        return _spelt(seen.called)
    parts = [part for part in re.split(r"[/.:]", seen.rpc or seen.path) if part and "{" not in part]
    last = parts[-1] if parts else "records"
    if seen.rpc and seen.params:
        last = next(iter(seen.params.values()))
        last = last if last.endswith("s") else f"{last}es" if last.endswith("ss") else f"{last}s"
    elif seen.rpc and len(parts) > 1 and re.fullmatch(r"(get|list|read|all|find|search)\w*", last, re.IGNORECASE):
        last = parts[-2]
    return _spelt(last) or "records"


def _spelt(word: str) -> str:
    """A word as tables are called."""
    return re.sub(r"[^a-z0-9]+", "-", re.sub(r"(?<=[a-z])(?=[A-Z])", "-", word).lower()).strip("-")


def _referred(tables: list[DraftedTable]) -> None:
    """Members that hold ids of another table: the device that something hangs from, the site that a device is at."""
    for table in tables:
        for profile in table.members:
            if profile.path == table.record_id or not profile.distinct:
                continue
            for other in tables:
                akin = _akin(profile.path, other)
                shared = profile.distinct & _ids(other)
                if other is table or not shared or not (akin or shared == profile.distinct):
                    continue  # not all of the other list may have been seen
                small = all(text.isdecimal() and len(text) < 4 for text in profile.distinct)
                if not akin and (small or len(profile.distinct) < 2):
                    continue
                field_name = _field_for(other)
                if field_name is None:
                    continue
                table.fields = [g for g in table.fields if g.path != profile.path and g.name != field_name]
                table.via[field_name] = (profile.path, other.name)
                table.id_others = [one for one in table.id_others if one != profile.path]
                break


def _of_one_size(tables: Sequence[DraftedTable]) -> None:
    """A short list shows no more than that it is short: pages are asked for in the size that another list gave."""
    most: dict[str, int] = {}
    for table in tables:
        pages = table.pages.pages or {}
        if "limit" in pages:
            most[pages["limit"]] = max(most.get(pages["limit"], 0), pages["size"])
    for table in tables:
        if table.pages.pages and "limit" in table.pages.pages:
            table.pages.pages = {**table.pages.pages, "size": most[table.pages.pages["limit"]]}


def _akin(path: str, other: DraftedTable) -> bool:
    own = [word for word in path.split(".") if word not in ("id", "data", "key", "node", "ref")]
    word = re.sub(r"(Id|ID|_id|Key|_key|Ref|_ref)$", "", own[-1] if own else "").lower()
    return len(word) > 2 and (word[:4] in _word(other.seen) or word[:4] in other.name)


def _field_for(other: DraftedTable) -> str | None:
    return {"devices": "parent", "sites": "site", "models": "model", "racks": "rack", "users": "user"}.get(other.name)


def _base(paths: Sequence[str]) -> str:
    """What all paths begin with, but for their last part."""
    parts = [path.strip("/").split("/")[:-1] for path in paths if path.startswith("/")]
    if not parts:
        return ""
    common = []
    for column in zip(*parts, strict=False):
        if len(set(column)) > 1 or "{" in column[0]:
            break
        common.append(column[0])
    return "/" + "/".join(common) if common else ""


def _sign_in_paths(api: ApiSeen) -> list[str]:
    how = api.sign_in or {}
    calls = [how.get("call"), how]
    return [str(call["path"]) for call in calls if isinstance(call, Mapping) and call.get("path")]

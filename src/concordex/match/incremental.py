"""Reconciling again when little has changed: only what could have become otherwise is looked at.

What a pair of records agrees on depends on the two and on how many bear their values, given what was
learned; which records are one device depends on the pairs of the chain that they hang in.  So a chain
in which nobody changed, nobody's values became rarer or commoner, and nobody gained or lost a
candidate, comes out as it did.  The result is what reconciling everything would give.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match import blocks, seats, strays
from concordex.match.concordance import (
    Concordance,
    Keep,
    Kept,
    Rules,
    nearest,
    obeyed,
    ordered,
    pairs,
    parted,
    prints_of,
    ruled,
    trusted,
    undecided,
    values,
    whole,
)  # fmt: skip
from concordex.match.coverage import COMPARED, agreement
from concordex.match.finding import OWN
from concordex.match.findings import findings
from concordex.match.frequencies import Frequencies, Numbers, frequencies, numbers
from concordex.match.identity import CUT, VIRTUAL, identities, showing, without
from concordex.match.ids import number, places
from concordex.match.learned import Learned
from concordex.match.link import Linked, link
from concordex.match.memory import let_go
from concordex.match.merge import merge
from concordex.match.rulings import Obeyed
from concordex.match.sorting import argsorted, distinct

Mask = npt.NDArray[np.bool_]

#: When more of the records than this changed, looking for what is untouched costs more than it saves.
MOST = 0.2

_KEYS = ("serial_key", "members", "uuid_key", "tag_key", "name_key", "mac_keys", "drawn_macs")

#: What is asked of the members of last time.
NEEDED = (
    *("system", "record_id", "row", "entry", "print", "chain", "standing", "ruled", "reference", "macs", "ips"),
    *dict.fromkeys((*_KEYS, *COMPARED)),
)


def reconcile_again(
    records: pl.DataFrame,
    rules: Rules,
    last: Kept | None,
    resting: pl.Expr | None = None,
    most: float = MOST,
    keep: Keep | None = None,
) -> Concordance | None:
    """What :func:`reconcile` gives for ``records`` with what ``last`` had learned, made from what ``last`` gave.

    ``last`` was made with the same rules, but for rulings and scope.  Nothing where there is none, where more than
    ``most`` of the records have changed, or where they have other fields than they had.
    """
    keep = keep or (lambda _name, _frame: None)
    records = ordered(whole(records))
    if last is None or not set(records.schema.items()) <= set(last.fields.items()):
        return None
    if not set(NEEDED) <= set(last.fields):  # an earlier release kept other things
        return None
    old, learned, prints = last.part("members").select(NEEDED), last.learned, prints_of(records)
    since = _since(records, prints, old)
    if since.changed.sum() + len(since.gone) > most * records.height:
        return None
    keyed = _keyed(records, old, since, rules.placeholders, learned.prefixes)
    known = frequencies(keyed, learned.docks, learned.sighting)
    standing, names, rulings = known.standing(), ruled(keyed, rules.rulings), obeyed(keyed, rules.rulings)
    moved = _moved(old, since, standing, names)
    open_to = _open_to(keyed, known, old, since, moved)
    rows, linked = _linked(keyed, known, learned, open_to, rulings)
    del known
    let_go()
    entry, chain = _settled(keyed, old, since, open_to, rows, linked)
    members = keyed.with_columns(
        entry.alias("entry"), prints, pl.Series("chain", chain, dtype=pl.UInt32), pl.Series("standing", standing), names
    )
    evidence, doubts = (
        part.with_columns(pl.Series(end, rows[part[end]]) for end in "ab") for part in pairs(entry.gather(rows), linked)
    )
    torn = undecided(entry.gather(rows), doubts, linked)
    del keyed, linked, standing  # much of what is held
    let_go()
    opened = _opened(members, old, since, open_to)
    closed = np.ones(old.height, dtype=np.bool_)
    closed[since.before(open_to)] = False
    evidence = _by_pair(pl.concat([_standing(last.part("evidence"), closed, since), evidence]))
    doubts = nearest(pl.concat([_standing(last.part("doubts"), closed, since), doubts]))
    for part, frame in (("members", members), ("evidence", evidence), ("doubts", doubts)):
        keep(part, frame)
    touched = _touched(members, old, since, opened)
    among = members.join(touched, on="entry", how="semi", maintain_order="left")
    entries, sources = merge(trusted(among), rules.order, rules.by_field, values(among, rules.rulings))
    entries = _but(last.part("entries"), touched).merge_sorted(entries, key="entry")
    sources = _renumbered(_but(last.part("sources"), touched), since, sources.columns[1:]).merge_sorted(
        sources, key="entry"
    )
    agreed = _agreement(old, last.part("agreement"), touched, among, members["system"])
    held, was, apart = _held(last.part("findings"), opened, touched), _earlier(old, since), parted(entry, rulings)
    del last, old, closed
    for part, frame in (("entries", entries), ("sources", sources), ("agreement", agreed)):
        keep(part, frame)
    let_go()
    at_rest = members.select(resting).to_series() if resting is not None else None
    to_look_at = findings(
        members, entries, rules.scope, at_rest, doubts=torn, contradicted=rulings.contradicted, among=among, held=held,
        learned=learned, apart=apart,
    )  # fmt: skip
    return Concordance(
        members=members, entries=entries, sources=sources, evidence=evidence, doubts=doubts, findings=to_look_at,
        learned=learned, looked_at=int(open_to.sum()), was=was, agreement=agreed,
    )  # fmt: skip


def _earlier(old: pl.DataFrame, since: _Since) -> pl.Series:
    """The entry that each record had the last time."""
    was = pl.Series(since.was)
    return old["entry"].gather(was.set(was < 0, None))


@dataclass(frozen=True)
class _Since:
    """How the records of now stand to those of last time, each numbered by its row."""

    was: Numbers  # of each record of now its row last time; -1 for those that are new
    now: Numbers  # of each record of last time its row now; -1 for those that are gone
    changed: Mask  # of now: new, or not as it was

    @property
    def gone(self) -> Numbers:
        return np.asarray(np.flatnonzero(self.now < 0))

    def before(self, rows: Mask) -> Numbers:
        """The rows that some records of now had, and those of all that are gone."""
        was = self.was[rows]
        return np.asarray(np.r_[was[was >= 0], self.gone])


def _since(records: pl.DataFrame, prints: pl.Series, old: pl.DataFrame) -> _Since:
    """What became of ``records``, which are in their order, by what they said and say."""
    was = places(records, old)
    if len(was) != old.height or (was < 0).any():
        now = np.full(old.height, -1, dtype=np.int64)
        now[was[was >= 0]] = np.flatnonzero(was >= 0)
    else:  # nobody came and nobody went
        now = was
    prints_before = old["print"].to_numpy()
    changed = was < 0
    changed = changed | (prints.to_numpy() != (prints_before if was is now else prints_before[np.maximum(was, 0)]))
    return _Since(was, now, changed)


def _keyed(
    records: pl.DataFrame, old: pl.DataFrame, since: _Since, placeholders: Sequence[str], prefixes: Sequence[str]
) -> pl.DataFrame:
    """As :func:`identities` makes it; the keys of what did not change are those of last time."""
    fresh = without(identities(records.filter(since.changed), placeholders), prefixes)
    at = since.was.copy()
    at[since.changed] = old.height + np.arange(fresh.height)
    keys = pl.concat([old.select(_KEYS), fresh.select(_KEYS)])[at]
    return records.with_row_index("row").with_columns(keys.get_columns())


def _moved(old: pl.DataFrame, since: _Since, standing: npt.NDArray[np.uint64], names: pl.Series) -> Mask:
    """Records that changed, or whose values became rarer or commoner, or that a ruling names or named."""
    there = np.flatnonzero(since.was >= 0)
    was = since.was[there]
    moved = since.changed | names.to_numpy()
    moved[there] |= (standing[there] != old["standing"].to_numpy()[was]) | old["ruled"].to_numpy()[was]
    return np.asarray(moved)


def _open_to(keyed: pl.DataFrame, known: Frequencies, old: pl.DataFrame, since: _Since, moved: Mask) -> Mask:
    """What may come out otherwise: all that shares, or shared, a value with what moved, and its chains."""
    past = old[since.before(moved)]
    present = keyed.filter(moved)
    near = moved | _bearing(known, pl.concat([_values(past), _values(present)])) | _referring(keyed, past, present)
    near = _with_chains(old, since, near)
    return _with_sights(known, old, since, near)


def _with_sights(known: Frequencies, old: pl.DataFrame, since: _Since, near: Mask) -> Mask:
    """Those, and sights that may be found at what is opened, or lost from it, with all that hung together with them.

    A sight at a dock may be of any machine there (see :mod:`seats`); one by an address alone stays with its name as
    long as no other device holds that address (see :mod:`strays`).
    """
    docks, addresses, passing = seats.docks(known), strays.addresses(known), strays.loose(known)
    seating, lent = _shown(docks, seats.loose(known)), _shown(addresses, passing)
    while len(seating) or len(lent):
        before = old[since.before(near)]
        past = pl.DataFrame({"system": before["system"], "ip": before["ips"]}).explode("ip").drop_nulls("ip")
        were = numbers(before["mac_keys"].explode()).to_numpy()
        at = np.intersect1d(seating, np.r_[were, _shown(docks, near)])
        held = [_agreed(pl.Series(part[near]), pl.Series(known.system[near])) for part in addresses]
        held.append(_agreed(numbers(past["ip"]), past["system"]))
        met = np.intersect1d(lent, np.concatenate([*held, _shown(addresses, near & passing)]))
        beside = np.any([*(np.isin(part, at) for part in docks), *(np.isin(part, met) for part in addresses)], axis=0)
        if not (beside & ~near).any():
            break
        near = _with_chains(old, since, near | beside)
    return near


def _shown(columns: Sequence[Numbers], of: Mask) -> Numbers:
    """The values that some rows show."""
    return distinct(np.concatenate([np.zeros(0, dtype=np.int64), *(part[of & (part != 0)] for part in columns)]))


def _agreed(values: pl.Series, system: pl.Series) -> Numbers:
    """Those of ``values`` that so many systems show as make an address that of a device."""
    shown = pl.DataFrame({"value": values, "system": system}).unique().group_by("value").len()
    return shown.filter(pl.col("len") >= strays.SETTLED)["value"].to_numpy()


def _with_chains(old: pl.DataFrame, since: _Since, near: Mask) -> Mask:
    """Those, and all that hung together with them."""
    chains = np.zeros(old.height, dtype=np.bool_)
    chain = old["chain"].to_numpy()
    chains[chain[since.before(near)]] = True
    there = since.was >= 0
    near = near.copy()
    near[there] |= chains[chain[since.was[there]]]
    return near


def _values(keyed: pl.DataFrame) -> pl.Series:
    """The numbers of all values by which records may become candidates."""
    texts = [keyed[f"{key}_key"] for key in ("serial", "uuid", "tag", "name")]
    texts += [texts[-1].str.slice(0, CUT), *(keyed[name].explode() for name in ("mac_keys", "drawn_macs", "ips"))]
    return numbers(pl.concat([text.drop_nulls().unique().rename("") for text in texts])).unique()


def _bearing(known: Frequencies, values: pl.Series) -> Mask:
    """Which records bear one of ``values`` where candidates are looked for."""
    wanted = values.filter(values != 0).unique().implode()
    # by their upper bits first: most are none of them, and that is told much quicker
    likely = np.zeros(1 << _UPPER, dtype=np.bool_)
    likely[_upper(wanted.explode().to_numpy())] = True
    bearing = np.zeros(known.height, dtype=np.bool_)
    for column in (column for some in blocks.columns(known) for column in some):
        rows = np.flatnonzero(likely[_upper(column.values)] & (column.values != 0) & ~bearing)
        bearing[rows] = pl.Series(column.values[rows]).is_in(wanted).to_numpy()
    return bearing


#: By so many bits.
_UPPER = 22


def _upper(values: Numbers) -> npt.NDArray[np.uint64]:
    return np.asarray(values.view(np.uint64) >> np.uint64(64 - _UPPER))


def _referring(keyed: pl.DataFrame, past: pl.DataFrame, present: pl.DataFrame) -> Mask:
    """Which records name one of the others as their own, or are named by them."""
    ref = pl.format("{}/{}", "system", "record_id")
    named = pl.concat([part.select(ref).to_series() for part in (past, present)]).implode()
    naming = pl.concat([past["reference"], present["reference"]]).drop_nulls().implode()
    both = pl.col("reference").is_in(named).fill_null(value=False) | ref.is_in(naming)
    return np.asarray(keyed.select(both).to_series().to_numpy())


def _linked(
    keyed: pl.DataFrame, known: Frequencies, learned: Learned, open_to: Mask, rulings: Obeyed
) -> tuple[Numbers, Linked]:
    """The rows to link, with all that shares a value with them, and what came of it, numbered among those."""
    mine = [pl.Series(column.values[open_to]) for some in blocks.columns(known) for column in some]
    rows = np.flatnonzero(open_to | _bearing(known, pl.concat(mine)))
    at = np.full(keyed.height, -1, dtype=np.int64)
    at[rows] = np.arange(len(rows))
    same, apart = (
        [(int(at[a]), int(at[b])) for a, b in ruled if open_to[a] and open_to[b]]
        for ruled in (rulings.same, rulings.apart)
    )
    linked = link(keyed[rows], known.take(rows), same=same, apart=apart, learned=learned, only=open_to[rows])
    return rows, linked


def _settled(
    keyed: pl.DataFrame, old: pl.DataFrame, since: _Since, open_to: Mask, rows: Numbers, linked: Linked
) -> tuple[pl.Series, Numbers]:
    """The entry and the chain of every record."""
    chosen = open_to[rows]
    mine = pl.Series(linked.groups[chosen])
    fresh = number(mine, _earlier(old, since).gather(rows[chosen]), old["entry"])
    at = since.was.copy()
    at[rows[chosen]] = old.height + np.arange(len(fresh))
    chain = np.empty(keyed.height, dtype=np.int64)
    chain[~open_to] = since.now[old["chain"].to_numpy()[since.was[~open_to]]]
    chain[rows[chosen]] = rows[linked.chains[chosen]]
    return pl.concat([old["entry"], fresh.rename("entry")])[at], chain


def _opened(members: pl.DataFrame, old: pl.DataFrame, since: _Since, open_to: Mask) -> pl.DataFrame:
    """The entries, of now and of last time, whose records were looked at again."""
    past = old[since.before(open_to)]
    return pl.concat([members.filter(open_to).select("entry"), past.select("entry")]).unique()


def _touched(members: pl.DataFrame, old: pl.DataFrame, since: _Since, opened: pl.DataFrame) -> pl.DataFrame:
    """Those, and the entries whose addresses may be others than they were."""
    touched, past = opened, old.join(opened, on="entry", how="semi")
    routers = pl.concat([_routers(members), _routers(past)]).unique()
    while routers.height:  # an address that floats belongs to whoever of its router's members holds it
        beside = routers.join(touched, on="entry", how="semi").select("router").unique()
        more = routers.join(beside, on="router", how="semi").select("entry").join(touched, on="entry", how="anti")
        if more.is_empty():
            break
        touched = pl.concat([touched, more.unique()])
    return touched


def _routers(members: pl.DataFrame) -> pl.DataFrame:
    """The virtual routers that entries show, by their addresses (see :mod:`floating`)."""
    shown = pl.col("macs").list.filter(pl.element().str.contains(VIRTUAL)).alias("router")
    return members.select("entry", "macs")[showing(members["macs"], VIRTUAL)].select("entry", shown).explode("router")


def _but(part: pl.DataFrame, touched: pl.DataFrame) -> pl.DataFrame:
    """What still holds of last time."""
    return part.join(touched, on="entry", how="anti", maintain_order="left")


def _held(findings: pl.DataFrame, opened: pl.DataFrame, touched: pl.DataFrame) -> pl.DataFrame:
    """The findings that still hold: a doubt while its records stand as they did, others while their entry does."""
    doubt = pl.col("kind") == "undecided"
    own = findings.filter(pl.col("kind").is_in(OWN) & doubt.not_())
    return pl.concat([_but(own, touched), _but(findings.filter(doubt), opened)])


def _by_pair(evidence: pl.DataFrame) -> pl.DataFrame:
    one, other = (evidence[end].cast(pl.Int64).to_numpy() for end in "ab")
    return evidence[argsorted((one << 32) | other)]


def _agreement(
    old: pl.DataFrame, counted: pl.DataFrame, touched: pl.DataFrame, among: pl.DataFrame, systems: pl.Series
) -> pl.DataFrame:
    """What was ``counted`` the last time, with the records ``among`` the ``touched`` entries for those that they had.

    ``systems`` are those of now.
    """
    past = old.join(touched, on="entry", how="semi")
    counts = [(counted, 1), (agreement(past), -1), (agreement(among), 1)]
    signed = [part.with_columns(pl.col("confirmed", "of") * sign) for part, sign in counts]
    there = pl.col("system").is_in(systems.unique().implode())
    return pl.concat(signed).group_by("system").sum().filter(there).sort("system")


def _standing(pairs: pl.DataFrame, closed: Mask, since: _Since) -> pl.DataFrame:
    """Pairs of records that nobody looked at again, with the rows of now."""
    return _renumbered(pairs.filter(closed[pairs["a"]]), since, "ab")


def _renumbered(part: pl.DataFrame, since: _Since, names: Sequence[str]) -> pl.DataFrame:
    """The same with the rows of now."""
    if since.was is since.now:
        return part
    now = pl.Series(since.now)
    return part.with_columns(now.gather(part[name]).cast(part.schema[name]).alias(name) for name in names)

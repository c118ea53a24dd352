"""What a person should look at, with what was seen and what to do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.alike import NEAR, Words
from concordex.match.crowds import numbers
from concordex.match.floating import of_nobody
from concordex.match.identity import CUT
from concordex.match.learned import Learned
from concordex.match.lookalikes import both_ways, lookalikes
from concordex.match.sorting import Numbers, argsorted, starts

#: kind: (severity, what to do)
KINDS: dict[str, tuple[str, str]] = {
    "duplicate": ("high", "keep one record and remove the others"),
    "replaced": ("high", "the hardware was changed under this name, or somebody wrote another's serial: correct it"),
    "serial_in_two": (
        "high",
        "one device in two entries, or a serial of another: concordex explain ENTRY --why-not OTHER",
    ),
    "conflict": ("medium", "find out which value is right and correct the other"),
    "missing_in_inventory": ("medium", "concordex sync creates it"),
    "look_alike": (
        "medium",
        "one device, or two? concordex explain ENTRY --why-not OTHER, then concordex ruling",
    ),
    "missing_at_managers": ("medium", "is it switched off, gone, not yet managed, or known there under another name?"),
    "badly_identified": ("low", "give it a serial, a name of its own or a network card that is its own"),
    "floating": ("low", "an address that moves between devices, and no device of its own: sync does not create it"),
    "stale": ("low", "is it still there?"),
    "undecided": ("medium", "fits more than one device equally well: concordex review decides"),
    "uncommitted": ("medium", "in effect nowhere: concordex config pending SYSTEM; commit it, or take it back"),
    "ruling_contradicted": ("high", "two rulings cannot both hold: remove one of them"),
}

#: Fields whose values are compared, and how grave it is when they differ.
COMPARED = {
    "serial": "high", "site": "medium", "model": "medium", "maker": "medium", "kind": "medium",
    "asset_tag": "medium", "os_version": "low", "name": "low",
}  # fmt: skip

#: Kinds that an entry's own records show, and nothing else.
OWN = ("duplicate", "conflict", "undecided", "badly_identified")

_EVER = datetime.min.replace(tzinfo=UTC)


@dataclass(frozen=True, kw_only=True)
class Staged:
    """What somebody has written in a system, and not committed."""

    system: str
    who: str
    since: str
    what: str


@dataclass(frozen=True, kw_only=True)
class Scope:
    """What may be believed: absence from a system counts only when its snapshot is whole.

    ``inventories`` and ``managers`` are the systems of each role with a whole snapshot;
    ``all_managers`` says that every manager has one; ``staged`` is what systems hold and nobody committed.
    """

    inventories: Sequence[str] = ()
    managers: Sequence[str] = ()
    all_managers: bool = False
    stale_before: datetime = _EVER
    #: Of an inventory that is not to hold everything: for which entries it is.
    expected: Mapping[str, pl.Expr] = field(default_factory=dict)
    staged: Sequence[Staged] = ()


def findings(
    records: pl.DataFrame,
    entries: pl.DataFrame,
    scope: Scope,
    resting: pl.Series | None = None,
    *,
    doubts: pl.DataFrame | None = None,
    contradicted: Sequence[tuple[str, str]] = (),
    among: pl.DataFrame | None = None,
    held: pl.DataFrame | None = None,
    learned: Learned | None = None,
    apart: pl.DataFrame | None = None,
) -> pl.DataFrame:
    """All findings as one frame, the gravest first.

    ``records`` holds ``entry``, ``system``, the fields and the keys of :mod:`identity`;
    ``resting`` marks the rows of things that no manager is expected to know; ``doubts`` are pairs of
    entries of which one fits several, ``contradicted`` pairs of records whose rulings cannot hold;
    ``apart`` pairs of an ``entry`` and an ``other`` that were ruled to be two.
    ``about`` is the system or entry that a finding is about, beside its own; with kind, entry and field it
    tells one finding from another, now and the next time.  What is about a system alone has no entry.

    By what was ``learned`` a system that sights devices makes no duplicates and nothing missing, and words for the same
    thing no conflict.

    What an entry's own records show (``OWN``) need not be sought again where nothing changed: ``among``
    are then the records of the other entries, and ``held`` the findings of these that still hold.
    """
    among = records if among is None else among
    sighting = learned.sighting if learned else ()
    keys = ("system", "last_seen", "row", "serial_key", "name_key", *COMPARED)
    entries = entries.with_columns(_number("entry"))
    # by numbers: they sort and group many times as fast as texts
    ranked = _ranked(among.select(_number("entry"), *keys))
    floats = of_nobody(records)
    devices = entries.join(floats, on="entry", how="anti", maintain_order="left")
    told = [_serials_in_two(records, entries), _replaced(entries, scope)]
    alike = lookalikes(records, _NOBODY if apart is None else apart)
    found = [
        *told,
        *_missing(records, devices, scope, resting, sighting, alike, pl.concat(told)),
        _duplicates(among, entries, sighting),
        *(_conflicts(ranked, entries, field, learned) for field in COMPARED),
        _badly_identified(among.filter(pl.col("system").is_in(list(sighting)).not_()), devices),
        _floating(entries, floats),
        _stale(entries, scope),
        _undecided(entries, doubts),
        _contradicted(records, entries, contradicted),
        _uncommitted(entries, scope.staged),
    ]
    found += [] if held is None else [held.select(found[0].columns)]
    return _in_order(pl.concat(found))


def aged(findings: pl.DataFrame, entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """``findings`` where nothing but the time has changed: what is stale by now."""
    stale = _stale(entries, scope)
    findings, old = findings.select(stale.columns), findings.filter(pl.col("kind") == "stale").select(stale.columns)
    if old.equals(_in_order(stale)):
        return findings
    return _in_order(pl.concat([findings.filter(pl.col("kind") != "stale"), stale]))


def _ranked(said: pl.DataFrame) -> pl.DataFrame:
    """Records by entry and system, of each the one seen last at the end."""
    said = said.with_columns(pl.col("system").cast(pl.Enum(said["system"].unique().sort())))
    order = argsorted(said["row"].cast(pl.Int64).to_numpy())
    seen = said["last_seen"].to_physical().fill_null(np.iinfo(np.int64).min)
    for key in (seen, said["system"].to_physical().cast(pl.Int64), said["number"]):
        order = order[argsorted(key.to_numpy()[order])]
    return said[order]


def _number(name: str) -> pl.Expr:
    return pl.col(name).str.slice(1).cast(pl.Int64).alias("number")


def _in_order(found: pl.DataFrame) -> pl.DataFrame:
    """The gravest first, then by kind, entry and field: one number for each, for numbers sort faster than texts."""
    number = pl.col("entry").str.slice(1).cast(pl.Int64).fill_null(0)
    for name, of in (("kind", sorted(KINDS)), ("severity", ["high", "medium", "low"])):
        rank = pl.col(name).replace_strict(of, range(len(of)), return_dtype=pl.Int64)
        number = number + rank * (1 << _BITS[name])
    field = pl.col("field").replace_strict(sorted(COMPARED), range(1, len(COMPARED) + 1), default=0)
    place = found.select(number * 16 + field.cast(pl.Int64)).to_series().to_numpy()
    return found[argsorted(place)]


#: From which bit on a finding's number says its severity and its kind, above its entry's.
_BITS = {"kind": 40, "severity": 48}


def _shaped(
    frame: pl.DataFrame,
    kind: str,
    seen: pl.Expr,
    *,
    field: str | None = None,
    severity: str = "",
    about: pl.Expr | None = None,
) -> pl.DataFrame:
    grave, advice = KINDS[kind]
    return frame.select(
        pl.lit(kind).alias("kind"), pl.lit(severity or grave).alias("severity"), "entry", "name", "systems",
        pl.lit(field, dtype=pl.String).alias("field"),
        (pl.lit(None, dtype=pl.String) if about is None else about).alias("about"), seen.alias("seen"),
        pl.lit(advice).alias("advice"),
    )  # fmt: skip


#: No pairs of entries.
_NOBODY = pl.DataFrame(schema={"entry": pl.String, "other": pl.String})


def _missing(
    records: pl.DataFrame,
    entries: pl.DataFrame,
    scope: Scope,
    resting: pl.Series | None,
    sighting: Sequence[str],
    alike: pl.DataFrame,
    told: pl.DataFrame,
) -> list[pl.DataFrame]:
    """What is missing somewhere; and what is not called missing, since something ``alike`` is there.

    Pairs that other findings have ``told`` are neither.
    """
    pairs = both_ways(told.select("entry", pl.col("about").alias("other")))
    pairs = pairs.with_columns(pl.lit(value=True).alias("told"))
    alike = alike.join(pairs, on=["entry", "other"], how="left", maintain_order="left")
    passing = pl.lit([*scope.inventories, *sighting], dtype=pl.List(pl.String))
    systems = entries.select("entry", "systems", pl.col("systems").list.set_difference(passing).alias("managers"))
    known = alike.join(systems, on="entry").join(systems.rename({"entry": "other"}), on="other", suffix="_other")
    # what one manager holds twice is two devices there
    known = known.filter(pl.col("managers").list.set_intersection("managers_other").list.len() == 0)
    found, seen = list[pl.DataFrame](), [_NOBODY]
    for inventory in scope.inventories:
        missing = _missing_in(entries, inventory, scope, passing)
        there = known.filter(pl.col("systems_other").list.contains(inventory)).join(missing, on="entry", how="semi")
        found += [
            _shaped(
                missing.join(there, on="entry", how="anti", maintain_order="left"), "missing_in_inventory",
                pl.format("known to {}, not to {}", pl.col("systems").list.join(", "), pl.lit(inventory)),
                about=pl.lit(inventory),
            ),
            _alike(entries, there, pl.lit(f"not known to {inventory}"), pl.lit(inventory)),
        ]  # fmt: skip
        seen.append(there.select("entry", "other"))
    unmanaged = _unmanaged(records, entries, scope, resting)
    return [*found, *_missing_at_managers(entries, unmanaged, scope, alike, both_ways(pl.concat(seen)))]


def _missing_at_managers(
    entries: pl.DataFrame, unmanaged: pl.DataFrame, scope: Scope, alike: pl.DataFrame, seen: pl.DataFrame
) -> list[pl.DataFrame]:
    """What no manager knows, and what is ``alike`` to something that one does, where that was not ``seen`` already."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    managed = entries.filter(pl.col("systems").list.set_difference(inventories).list.len() > 0)
    there = alike.join(unmanaged, on="entry", how="semi").join(
        managed.select(pl.col("entry").alias("other")), on="other", how="semi"
    )
    said = pl.format("only in {}, as {}", pl.col("systems").list.join(", "), pl.col("status").fill_null("of no status"))
    return [
        _shaped(unmanaged.join(there, on="entry", how="anti", maintain_order="left"), "missing_at_managers", said),
        _alike(
            entries, there.join(seen, on=["entry", "other"], how="anti"), pl.lit("known to no manager"), pl.col("other")
        ),
    ]


def _alike(entries: pl.DataFrame, there: pl.DataFrame, what: pl.Expr, about: pl.Expr) -> pl.DataFrame:
    """One finding for each entry that has look-alikes nobody has ``told`` of: of the nearest, and how many more."""
    named = entries.select(pl.col("entry").alias("other"), pl.col("name").alias("called"))
    nearest = (
        there.filter(pl.col("told").is_null())
        .sort("entry", "other")
        .group_by("entry", maintain_order=True)
        .agg(pl.col("other", "share").first(), pl.len().alias("many"))
        .join(named, on="other", maintain_order="left")
        .join(entries.select("entry", "name", "systems"), on="entry", maintain_order="left")
    )
    seen = pl.format(
        "{}, and {} ({}) has the same {}{}", what, "other", pl.col("called").fill_null("without a name"), "share",
        pl.when(pl.col("many") > 1).then(pl.format("; {} more", pl.col("many") - 1)).otherwise(pl.lit("")),
    )  # fmt: skip
    return _shaped(nearest, "look_alike", seen, about=about)


def _missing_in(entries: pl.DataFrame, inventory: str, scope: Scope, passing: pl.Expr) -> pl.DataFrame:
    """What an inventory lacks, as far as another system than one that only sights devices knows it."""
    return entries.filter(
        pl.col("systems").list.set_difference(passing).list.len() > 0,
        pl.col("systems").list.contains(inventory).not_(), scope.expected.get(inventory, pl.lit(value=True)),
    )  # fmt: skip


def _unmanaged(records: pl.DataFrame, entries: pl.DataFrame, scope: Scope, resting: pl.Series | None) -> pl.DataFrame:
    """What is in inventories alone, and not at rest."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    unmanaged = entries.filter(pl.col("systems").list.set_difference(inventories).list.len() == 0)
    if not scope.all_managers or not scope.managers:
        return unmanaged.clear()
    if resting is not None:
        at_rest = records.filter(resting)["entry"].unique()
        unmanaged = unmanaged.filter(pl.col("entry").is_in(at_rest.implode()).not_())
    return unmanaged


def _duplicates(records: pl.DataFrame, entries: pl.DataFrame, sighting: Sequence[str]) -> pl.DataFrame:
    twice = (
        records.filter(pl.col("system").is_in(list(sighting)).not_(), pl.len().over("entry", "system") > 1)
        .sort("entry", "system", "record_id")
        .group_by("entry", "system", maintain_order=True)
        .agg(pl.col("record_id").str.join(", ").alias("ids"), pl.len().alias("count"))
        .join(entries.select("entry", "name", "systems"), on="entry")
    )
    return _shaped(
        twice, "duplicate", pl.format("{} records in {}: {}", "count", "system", "ids"), about=pl.col("system")
    )


#: What may tell two entries of one serial apart, and what it is called.
_TELLING = {"name_key": "name", "uuid_key": "UUID", "tag_key": "tag", "card": "network card", "model": "model"}


def _serials_in_two(records: pl.DataFrame, entries: pl.DataFrame) -> pl.DataFrame:
    """Serials that records of two or three entries bear: seldom that of two devices."""
    borne = records.select("entry", "serial_key").drop_nulls().unique()
    shared = borne.filter(pl.len().over("serial_key").is_between(2, 3))
    both = shared.join(shared, on="serial_key", suffix="_other").filter(pl.col("entry") < pl.col("entry_other"))
    concerned = pl.concat([both["entry"], both["entry_other"]]).unique()
    mine = records.filter(pl.col("entry").is_in(concerned.implode())).sort("entry", "row")
    mine = mine.with_columns(pl.col("mac_keys").list.first().alias("card"))
    first = mine.group_by("entry", maintain_order=True).agg(pl.col(key).drop_nulls().first() for key in _TELLING)
    told = entries.select("entry", "name", "systems").join(first, on="entry")
    joined = (
        both.join(told, on="entry")
        .join(told.select(pl.all().name.suffix("_other")), on="entry_other", maintain_order="left")
        .sort("entry", "entry_other", "serial_key")
        .unique(["entry", "entry_other"], keep="first", maintain_order=True)
    )
    differ = pl.concat_list(
        pl.when(pl.col(key) != pl.col(f"{key}_other")).then(pl.lit(word)) for key, word in _TELLING.items()
    ).list.drop_nulls()
    seen = pl.format(
        "serial {}, and so has {}: {}, in {}; {}", "serial_key", "entry_other",
        pl.col("name_other").fill_null("without a name"), pl.col("systems_other").list.join(", "),
        pl.when(differ.list.len() > 0).then(pl.format("another {}", differ.list.join(", ")))
        .otherwise(pl.lit("nothing says otherwise, and too little that they are one")),
    )  # fmt: skip
    return _shaped(joined, "serial_in_two", seen, about=pl.col("entry_other"))


def _conflicts(ranked: pl.DataFrame, entries: pl.DataFrame, field: str, learned: Learned | None) -> pl.DataFrame:
    """Entries whose systems give different values; within one system the record seen last speaks."""
    key = {"name": "name_key", "serial": "serial_key"}.get(field, field)
    words = pl.concat_str("maker", "model", separator=" ", ignore_nulls=True) if field == "model" else pl.col(field)
    told = pl.col(key).str.to_lowercase()
    told = pl.when(told != "other").then(told) if field == "kind" else told
    torn = _torn(ranked["number"].to_numpy(), numbers(ranked.select(told).to_series()).to_numpy())
    said = ranked.filter(pl.Series(torn)).select("number", "system", field, told.alias("said"), words.alias("words"))
    latest = said.unique(["number", "system"], keep="last", maintain_order=True)
    if learned and field in learned.words and learned.words[field].learned:
        latest = latest.join(_other_words(latest, learned.words[field]), on="number", how="semi", maintain_order="left")
    clash = (
        latest.group_by("number", maintain_order=True)
        .agg(
            pl.col("said").unique().sort().alias("values"),
            pl.format("{}: {}", "system", field).str.join("; ").alias("said"),
        )
        .filter(pl.col("values").list.len() > 1)
    )
    if field == "name":  # a name that was cut is no other name
        cut = pl.col("values").list.eval(pl.element().str.slice(0, CUT)).list.n_unique() == 1
        clash = clash.filter((cut & (pl.col("values").list.first().str.len_chars() == CUT)).not_())
    joined = clash.join(entries.select("number", "entry", "name", "systems"), on="number", maintain_order="left")
    return _shaped(joined, "conflict", pl.col("said"), field=field, severity=COMPARED[field])


def _torn(entry: Numbers, said: Numbers) -> npt.NDArray[np.bool_]:
    """Of records by ``entry`` those that say something, where not all that do say the same; nought says nothing."""
    begins = np.flatnonzero(starts(entry))
    if not len(begins):
        return np.zeros(0, dtype=np.bool_)
    there, ends = said != 0, np.iinfo(np.int64)
    least = np.minimum.reduceat(np.where(there, said, ends.max), begins)
    most = np.maximum.reduceat(np.where(there, said, ends.min), begins)
    return np.asarray(np.repeat(least < most, np.diff(np.r_[begins, len(entry)])) & there)


def _other_words(latest: pl.DataFrame, words: Words) -> pl.DataFrame:
    """The entries of which two systems say what was not learned to be the same thing."""
    placed = latest.select("number", pl.int_range(pl.len()).alias("at"))
    pairs = placed.join(placed, on="number", suffix="_other").filter(pl.col("at") < pl.col("at_other"))
    stand = words.of(latest["words"]).levels(pairs["at"].to_numpy(), pairs["at_other"].to_numpy())
    return pairs.filter(pl.Series(stand < NEAR)).select("number").unique()


def _replaced(entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """A name under which the inventory and a manager know two different devices."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    named = entries.with_columns(pl.col("name").str.to_lowercase().str.strip_chars().alias("key")).drop_nulls("key")
    only_there = named.filter(pl.col("systems").list.set_difference(inventories).list.len() == 0)
    only_here = named.filter(pl.col("systems").list.set_intersection(inventories).list.len() == 0).unique(
        "key", keep="none"
    )
    both = only_there.join(only_here, on="key", suffix="_new", maintain_order="left").drop_nulls(
        ["serial", "serial_new"]
    )
    plain = [pl.col(name).str.to_uppercase().str.replace_all("[^A-Z0-9]", "") for name in ("serial", "serial_new")]
    both = both.filter(plain[0] != plain[1])
    seen = pl.format(
        "{} has serial {}, {} has {} ({})", pl.col("systems").list.join(", "), "serial",
        pl.col("systems_new").list.join(", "), "serial_new", "entry_new",
    )  # fmt: skip
    return _shaped(both, "replaced", seen, about=pl.col("entry_new"))


def _badly_identified(records: pl.DataFrame, entries: pl.DataFrame) -> pl.DataFrame:
    """Entries that nothing but an id of one system's own tells from others."""
    known = pl.col("serial_key").is_not_null() | pl.col("uuid_key").is_not_null() | (pl.col("mac_keys").list.len() > 0)
    weak = (
        records.group_by("entry")
        .agg(known.any().alias("known"), pl.len().alias("n"))
        .filter(pl.col("known").not_(), pl.col("n") == 1)
    )
    joined = entries.join(weak.select("entry"), on="entry", how="semi")
    seen = pl.format("no serial, UUID or network card of its own; name: {}", pl.col("name").fill_null("none"))
    return _shaped(joined, "badly_identified", seen)


def _floating(entries: pl.DataFrame, floats: pl.DataFrame) -> pl.DataFrame:
    joined = entries.drop("ips").join(floats, on="entry", maintain_order="left")
    ips = pl.col("ips").list.join(", ")
    seen = pl.format(
        "{} of the virtual router {}", pl.when(ips != "").then(ips).otherwise(pl.lit("no address")), "router"
    )
    return _shaped(joined, "floating", seen)


def _stale(entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    old = entries.filter(pl.col("last_seen") < scope.stale_before)
    return _shaped(old, "stale", pl.format("last seen {} UTC", pl.col("last_seen").dt.strftime("%Y-%m-%d %H:%M")))


def _undecided(entries: pl.DataFrame, doubts: pl.DataFrame | None) -> pl.DataFrame:
    """Entries that fit several others, and were joined with none."""
    if doubts is None:
        return _shaped(entries.clear(), "undecided", pl.lit(""))
    sides = [
        doubts.select(pl.col(one).alias("entry"), pl.col(two).alias("rival"))
        for one, two in (("entry", "other"), ("other", "entry"))
    ]
    fits = pl.concat(sides).unique().sort("entry", "rival").group_by("entry", maintain_order=True).agg("rival")
    several = fits.filter(pl.col("rival").list.len() > 1).join(
        entries.select("entry", "name", "systems", "records"), on="entry"
    )
    few = several.filter(pl.col("records") <= 2).with_columns(pl.col("rival").list.join(", "))
    return _shaped(few, "undecided", pl.format("fits {} alike", "rival"))


def _contradicted(records: pl.DataFrame, entries: pl.DataFrame, pairs: Sequence[tuple[str, str]]) -> pl.DataFrame:
    said = pl.DataFrame(list(pairs), schema={"ref": pl.String, "with": pl.String}, orient="row")
    refs = records.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry")
    joined = said.join(refs, on="ref").join(entries.select("entry", "name", "systems"), on="entry")
    seen = pl.format("{} and {} are ruled the same, and other rulings keep them apart", "ref", "with")
    return _shaped(joined, "ruling_contradicted", seen, about=pl.col("with"))


def _uncommitted(entries: pl.DataFrame, staged: Sequence[Staged]) -> pl.DataFrame:
    """What systems hold staged, which nobody has until it is committed: perhaps forgotten."""
    rows = [(one.system, [one.system], f"{one.who}: {one.what}", one.who, one.since, one.what) for one in staged]
    columns = ["name", "systems", "about", "who", "since", "what"]
    schema = dict.fromkeys(columns, pl.String()) | {"systems": pl.List(pl.String)}
    held = pl.DataFrame(rows, schema=schema, orient="row").select(
        pl.lit(None, dtype=entries.schema["entry"]).alias("entry"), *columns
    )
    seen = pl.format("{}, staged by {} since {} and not committed", "what", "who", "since")
    return _shaped(held, "uncommitted", seen, about=pl.col("about"))

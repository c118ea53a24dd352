"""What a person should look at, with what was seen and what to do."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from concordex.match.conflicts import conflicts
from concordex.match.finding import COMPARED, KINDS, NOBODY, NOTHING, Scope, Staged, number, shaped
from concordex.match.ids import entry_numbers
from concordex.match.learned import Learned
from concordex.match.lookalikes import borne_by_several, lookalikes
from concordex.match.memory import let_go
from concordex.match.missing import missing
from concordex.match.sorting import argsorted
from concordex.match.virtual_addresses import of_nobody


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
    ``resembles`` is an entry that may be the same device as one that is missing, ``share`` what both have.

    By what was ``learned`` a system that sights devices makes no duplicates and nothing missing, and words for the same
    thing no conflict.

    What an entry's own records show (``OWN``) need not be sought again where nothing changed: ``among``
    are then the records of the other entries, and ``held`` the findings of these that still hold.
    """
    among = records if among is None else among
    sighting = learned.sighting if learned else ()
    entries = entries.with_columns(number("entry"))
    floats = of_nobody(records)
    devices = entries.join(floats, on="entry", how="anti", maintain_order="left")
    of_two = [_serials_in_two(records, entries), _replaced(entries, scope)]
    alike = lookalikes(records, NOBODY if apart is None else apart)
    let_go()
    parts = [
        *of_two,
        *missing(records, devices, scope, resting, sighting, alike, pl.concat(of_two)),
        _duplicates(among, entries, sighting),
        *conflicts(among, entries, learned),
        _badly_identified(among, devices, sighting),
        _floating(entries, floats),
        _stale(entries, scope),
        _undecided(entries, doubts),
        _contradicted(records, entries, contradicted),
        _uncommitted(entries, scope.staged),
    ]
    parts += [] if held is None else [held.select(parts[0].columns)]
    return in_order(pl.concat(parts))


def aged(findings: pl.DataFrame, entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """``findings`` where nothing but the time has changed: what is stale by now."""
    stale = _stale(entries, scope)
    findings, old = findings.select(stale.columns), findings.filter(pl.col("kind") == "stale").select(stale.columns)
    if old.equals(in_order(stale)):
        return findings
    return in_order(pl.concat([findings.filter(pl.col("kind") != "stale"), stale]))


def in_order(frame: pl.DataFrame) -> pl.DataFrame:
    """The gravest first, then by kind, entry and field: one number for each, for numbers sort faster than texts."""
    of_entry = pl.col("entry").str.slice(1).cast(pl.Int64).fill_null(0)
    for name, of in (("kind", sorted(KINDS)), ("severity", ["high", "medium", "low"])):
        rank = pl.col(name).replace_strict(of, range(len(of)), return_dtype=pl.Int64)
        of_entry = of_entry + rank * (1 << _BITS[name])
    field = pl.col("field").replace_strict(sorted(COMPARED), range(1, len(COMPARED) + 1), default=0)
    place = frame.select(of_entry * 16 + field.cast(pl.Int64)).to_series().to_numpy()
    return frame[argsorted(place)]


#: From which bit on a finding's number says its severity and its kind, above its entry's.
_BITS = {"kind": 40, "severity": 48}


def _duplicates(records: pl.DataFrame, entries: pl.DataFrame, sighting: Sequence[str]) -> pl.DataFrame:
    twice = (
        records.select("entry", "system", "record_id")
        .filter(pl.col("system").is_in(list(sighting)).not_())
        .filter(pl.len().over("entry", "system") > 1)
        .sort("entry", "system", "record_id")
        .group_by("entry", "system", maintain_order=True)
        .agg(pl.col("record_id").str.join(", ").alias("ids"), pl.len().alias("count"))
        .join(entries.select("entry", "name", "systems"), on="entry")
    )
    return shaped(
        twice, "duplicate", pl.format("{} records in {}: {}", "count", "system", "ids"), about=pl.col("system")
    )


#: What may tell two entries of one serial apart, and what it is called.
_TELLING = {"name_key": "name", "uuid_key": "UUID", "tag_key": "tag", "card": "network card", "model": "model"}


def _serials_in_two(records: pl.DataFrame, entries: pl.DataFrame) -> pl.DataFrame:
    """Serials that records of two or three entries bear: seldom that of two devices."""
    borne = records.select("entry", "serial_key")[
        borne_by_several(entry_numbers(records["entry"]), records["serial_key"])
    ]
    borne = borne.unique()
    shared = borne.filter(pl.len().over("serial_key").is_between(2, 3))
    both = shared.join(shared, on="serial_key", suffix="_other").filter(pl.col("entry") < pl.col("entry_other"))
    if both.is_empty():
        return NOTHING
    concerned = pl.concat([both["entry"], both["entry_other"]]).unique()
    mine = records.filter(pl.col("entry").is_in(concerned.implode())).sort("entry", "row")
    mine = mine.with_columns(pl.col("mac_keys").list.first().alias("card"))
    first = mine.group_by("entry", maintain_order=True).agg(pl.col(key).drop_nulls().first() for key in _TELLING)
    named = entries.select("entry", "name", "systems").join(first, on="entry")
    joined = (
        both.join(named, on="entry")
        .join(named.select(pl.all().name.suffix("_other")), on="entry_other", maintain_order="left")
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
    return shaped(joined, "serial_in_two", seen, about=pl.col("entry_other"))


def _replaced(entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    """A name under which the inventory and a manager know two different devices."""
    inventories = pl.lit(list(scope.inventories), dtype=pl.List(pl.String))
    key = pl.col("name").str.to_lowercase().str.strip_chars().alias("key")
    named = entries.select("entry", "name", "systems", "serial", key).drop_nulls("key")
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
    return shaped(both, "replaced", seen, about=pl.col("entry_new"))


def _badly_identified(records: pl.DataFrame, entries: pl.DataFrame, sighting: Sequence[str]) -> pl.DataFrame:
    """Entries that nothing but an id of one system's own tells from others."""
    known = pl.col("serial_key").is_not_null() | pl.col("uuid_key").is_not_null() | (pl.col("mac_keys").list.len() > 0)
    weak = (
        records.select("entry", "system", known.alias("known"))
        .filter(pl.col("system").is_in(list(sighting)).not_())
        .group_by("entry")
        .agg(pl.col("known").any(), pl.len().alias("n"))
        .filter(pl.col("known").not_(), pl.col("n") == 1)
    )
    joined = entries.join(weak.select("entry"), on="entry", how="semi")
    seen = pl.format("no serial, UUID or network card of its own; name: {}", pl.col("name").fill_null("none"))
    return shaped(joined, "badly_identified", seen)


def _floating(entries: pl.DataFrame, floats: pl.DataFrame) -> pl.DataFrame:
    joined = entries.drop("ips").join(floats, on="entry", maintain_order="left")
    ips = pl.col("ips").list.join(", ")
    seen = pl.format(
        "{} of the virtual router {}", pl.when(ips != "").then(ips).otherwise(pl.lit("no address")), "router"
    )
    return shaped(joined, "floating", seen)


def _stale(entries: pl.DataFrame, scope: Scope) -> pl.DataFrame:
    old = entries.filter(pl.col("last_seen") < scope.stale_before)
    return shaped(old, "stale", pl.format("last seen {} UTC", pl.col("last_seen").dt.strftime("%Y-%m-%d %H:%M")))


def _undecided(entries: pl.DataFrame, doubts: pl.DataFrame | None) -> pl.DataFrame:
    """Entries that fit several others, and were joined with none."""
    if doubts is None:
        return shaped(entries.clear(), "undecided", pl.lit(""))
    sides = [
        doubts.select(pl.col(one).alias("entry"), pl.col(two).alias("rival"))
        for one, two in (("entry", "other"), ("other", "entry"))
    ]
    fits = pl.concat(sides).unique().sort("entry", "rival").group_by("entry", maintain_order=True).agg("rival")
    several = fits.filter(pl.col("rival").list.len() > 1).join(
        entries.select("entry", "name", "systems", "records"), on="entry"
    )
    few = several.filter(pl.col("records") <= 2).with_columns(pl.col("rival").list.join(", "))
    return shaped(few, "undecided", pl.format("fits {} alike", "rival"))


def _contradicted(records: pl.DataFrame, entries: pl.DataFrame, pairs: Sequence[tuple[str, str]]) -> pl.DataFrame:
    refs_with = pl.DataFrame(list(pairs), schema={"ref": pl.String, "with": pl.String}, orient="row")
    refs = records.select(pl.format("{}/{}", "system", "record_id").alias("ref"), "entry")
    joined = refs_with.join(refs, on="ref").join(entries.select("entry", "name", "systems"), on="entry")
    seen = pl.format("{} and {} are ruled the same, and other rulings keep them apart", "ref", "with")
    return shaped(joined, "ruling_contradicted", seen, about=pl.col("with"))


def _uncommitted(entries: pl.DataFrame, staged: Sequence[Staged]) -> pl.DataFrame:
    """What systems hold staged, which nobody has until it is committed: perhaps forgotten."""
    rows = [
        (step.system, [step.system], f"{step.who}: {step.what}", step.who, step.since, step.what) for step in staged
    ]
    columns = ["name", "systems", "about", "who", "since", "what"]
    schema = dict.fromkeys(columns, pl.String()) | {"systems": pl.List(pl.String)}
    held = pl.DataFrame(rows, schema=schema, orient="row").select(
        pl.lit(None, dtype=entries.schema["entry"]).alias("entry"), *columns
    )
    seen = pl.format("{}, staged by {} since {} and not committed", "what", "who", "since")
    return shaped(held, "uncommitted", seen, about=pl.col("about"))

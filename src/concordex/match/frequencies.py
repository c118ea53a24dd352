"""How many devices bear a value: what many share tells little, what one bears alone tells most.

Every value becomes a number (its hash), every kind of value a *column*: for each record the number,
nought where it has none, and its *bearers*, the most that any one system shows.  Bearers are devices as far as
hardware tells: records that share a serial, UUID or card that is theirs alone are one bearer.  Two others of one system
are normally two devices; not so in a system that *sights* devices, such as one of leases, which holds several records
of many.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.components import components
from concordex.match.identity import CUT
from concordex.match.near import neighbours
from concordex.match.sidebyside import side_by_side
from concordex.match.sorting import argsorted, starts

Numbers = npt.NDArray[np.int64]
Small = npt.NDArray[np.int16]

#: A serial or UUID that more devices of one system bear than this means nothing.
MOST_BEARERS = 3

_name = pl.col("name_key")
_long = _name.str.len_chars() >= CUT  # what is shorter was not cut

#: Of a list, this many values are looked at: those first that other records show as well.
WIDTH = 4

#: More bearers than this are not told apart.
_MANY = 1000

#: A system in which this share of the records with a sign of hardware repeats that of another sights devices.
_SIGHTING = 0.15

#: A system in which fewer records than this have a serial, UUID or tag keeps none.
_KEPT = 0.05

#: So many of the devices that a system sights it holds no more records of than is usual.
_AS_A_RULE = 0.98

#: A card that wanders tells nothing by itself: it counts as borne by so many.
_WANDERER = 4

#: A maker's cards of which this share is seen at several devices are docks or adapters.
_WANDERING = 0.1


@dataclass(frozen=True)
class ValueColumn:
    """One kind of value: for each record its number (nought: none), the most bearers that a system shows, and in how
    many systems it is.
    """

    values: Numbers
    bearers: Small
    systems: Small

    def take(self, rows: Numbers) -> ValueColumn:
        """The same of some rows alone."""
        return ValueColumn(self.values[rows], self.bearers[rows], self.systems[rows])

    def without(self, most: int) -> ValueColumn:
        """The same, with values that more than ``most`` bear taken for missing."""
        return ValueColumn(np.where(self.bearers > most, 0, self.values), self.bearers, self.systems)


@dataclass(frozen=True)
class Frequencies:
    """The columns of all records, in the order of their rows."""

    height: int
    system: Numbers
    serial: ValueColumn
    uuid: ValueColumn
    tag: ValueColumn
    name: ValueColumn
    cut: ValueColumn
    user: ValueColumn
    #: The name and the user together, of records that say both.
    theirs: ValueColumn
    macs: tuple[ValueColumn, ...]
    drawn: tuple[ValueColumn, ...]
    ips: tuple[ValueColumn, ...]
    #: The network of each record's addresses, nought where they are of none or of several.
    network: Numbers
    #: Numbers that nearly equal serials share.
    near: tuple[ValueColumn, ...]
    #: Makers (IEEE, OUI) whose cards are docks or adapters.
    docks: Sequence[str]
    #: Systems that hold several records of many devices, and for each record whether it is of one.
    sighting: Sequence[str]
    sights: npt.NDArray[np.bool_]

    def columns(self) -> Iterator[ValueColumn]:
        """Every column."""
        yield from (self.serial, self.uuid, self.tag, self.name, self.cut, self.user, self.theirs)
        for several in (self.macs, self.drawn, self.ips, self.near):
            yield from several

    def hardware(self) -> npt.NDArray[np.bool_]:
        """Which records show any sign of hardware, be it their own or not."""
        columns = (self.serial, self.uuid, self.tag, *self.macs, *self.drawn)
        return np.asarray(np.any([column.values != 0 for column in columns], axis=0))

    def take(self, rows: Numbers) -> Frequencies:
        """The same of some rows alone, their values counted among all."""
        taken: dict[str, Any] = {"height": len(rows)}
        for name in ("system", "sights", "network"):
            taken[name] = getattr(self, name)[rows]
        for name in ("serial", "uuid", "tag", "name", "cut", "user", "theirs"):
            taken[name] = getattr(self, name).take(rows)
        for name in ("macs", "drawn", "ips", "near"):
            taken[name] = tuple(column.take(rows) for column in getattr(self, name))
        return replace(self, **taken)

    def standing(self) -> npt.NDArray[np.uint64]:
        """For each record one number for its values and how many bear them, as far as that is looked at.

        While it is the same, the record agrees and disagrees with others on what it did.
        """
        out = np.zeros(self.height, dtype=np.uint64)
        with np.errstate(over="ignore"):
            for column in self.columns():
                many = (np.minimum(column.bearers, 4) * 4 + np.minimum(column.systems, 3)).astype(np.uint64)
                for part in (column.values.view(np.uint64), many):
                    out = (out ^ part) * _MIX
                    out ^= out >> np.uint64(29)
        return out


#: An odd number whose bits are even: what hashes multiply by (Steele, Lea and Flood 2014); and the same with a sign.
_MIX = np.uint64(0x9E3779B97F4A7C15)
_ODD = _MIX.astype(np.int64)


def frequencies(
    keyed: pl.DataFrame, docks: Sequence[str] | None = None, sighting: Sequence[str] | None = None
) -> Frequencies:
    """Count the bearers of every value in ``keyed`` (see :func:`identity.identities`), which stands by system.

    ``docks`` are the makers of cards that wander, ``sighting`` the systems that sight, where they are known already.
    """
    system = keyed["system"].rank("dense").cast(pl.Int64)
    name, serials, uuids, tags = (numbers(keyed[f"{key}_key"]) for key in ("name", "serial", "uuid", "tag"))
    card = numbers(keyed["mac_keys"].list.first())
    nobody = np.zeros(keyed.height, dtype=np.int64)
    serial = _column(serials, system, _first(name, uuids, tags, card), nobody).without(MOST_BEARERS)
    own = pl.Series(serial.values)
    uuid = _column(uuids, system, _first(own, tags, name), nobody).without(MOST_BEARERS * 4)
    user = numbers(keyed["user"].str.to_lowercase())
    registered = _first(own, pl.Series(uuid.values), tags)
    who = _first(registered, card)
    items = _items(keyed["mac_keys"])
    makers = items.texts.str.slice(0, 8)
    if sighting is None:  # a dock that many use is not one device that is seen often
        wandering = _docks(_flat(items, system, who, nobody), makers) if docks is None else docks
        at_dock = keyed["mac_keys"].list.first().str.slice(0, 8).is_in(wandering).fill_null(value=False)
        sitting = _first(user, name)
        seat = pl.select(pl.when(sitting != 0).then(card ^ sitting).otherwise(0)).to_series()
        shown = pl.select(pl.when(at_dock).then(seat).otherwise(card)).to_series()
        sighting = _sighting(keyed["system"], _first(registered, shown), registered != 0)
    sights = keyed["system"].is_in(list(sighting)).to_numpy()
    any_many = np.where(sights, keyed.height, 0)  # however often a system sights a value, it may be of one device
    cards = _flat(items, system, who, any_many)
    wandering = _docks(cards, makers) if docks is None else docks
    at_docks = makers.is_in(wandering)
    cards = _cards(cards, at_docks)
    tag = _column(tags, system, _first(own, name), any_many)
    who = _hardware(keyed.height, (serial, uuid, tag, *_spread(cards, keyed.height)))
    usual = _usual(system, who, sights)  # not so a name
    holder = _first(who, user)  # where no hardware tells, whose it is may: of one name are the telephones of many
    cut = numbers(keyed.select(pl.when(_long).then(_name.str.slice(0, CUT))).to_series())
    of_name, of_cut, of_user, theirs = side_by_side((
        partial(_column, name, system, holder, usual, agreed=True),
        partial(_column, cut, system, name, usual, agreed=True),
        partial(_column, user, system, who, any_many),
        partial(_column, _both(name, user), system, who, any_many),
    ), keyed.height)  # fmt: skip
    lists: list[Callable[[], Any]] = [  # what takes longest first
        lambda: _near(keyed["serial_key"], system, serial),
        lambda: _spread(_cards(_flat(items, system, who, any_many), at_docks), keyed.height),
        lambda: _spread(_flat(_items(keyed["drawn_macs"]), system, who, any_many), keyed.height),
        lambda: _spread(_flat(_items(keyed["ips"]), system, who, any_many), keyed.height),
        lambda: _networks(keyed["ips"]),
    ]
    near, macs, drawn, ips, network = side_by_side(lists, keyed.height)
    return Frequencies(
        height=keyed.height, system=system.to_numpy(), serial=serial, uuid=uuid, tag=tag, name=of_name, cut=of_cut,
        user=of_user, theirs=theirs, macs=macs, drawn=drawn, ips=ips, network=network, near=near,
        docks=wandering, sighting=sighting, sights=sights,
    )  # fmt: skip


def _networks(addresses: pl.Series) -> Numbers:
    """A number for the network that a record's addresses are of: a site's, as they are usually given out.

    The first two octets of IPv4, and 48 bits of IPv6 (RFC 6177).  Addresses that are good on a link alone (RFC 3927,
    RFC 4291), or within the device, are of no network.
    """
    flat = pl.DataFrame({"row": np.arange(len(addresses)), "said": addresses})
    flat = flat.filter(pl.col("said").list.len() > 0).explode("said")
    flat = flat.filter(pl.col("said").str.contains(_NOWHERE).not_())
    prefix = pl.col("said").str.extract(r"^([0-9]+\.[0-9]+)\.")
    networks = flat.with_columns(prefix.alias("net")).filter(
        pl.col("net").is_not_null() | pl.col("said").str.contains(":")
    )
    networks = networks.with_columns(pl.coalesce("net", pl.col("said").str.extract(_SITE))).drop_nulls("net")
    out = np.zeros(len(addresses), dtype=np.int64)
    if networks.height:
        row, net = networks["row"].to_numpy(), numbers(networks["net"]).to_numpy()
        begins = np.flatnonzero(starts(row))
        least, most = np.minimum.reduceat(net, begins), np.maximum.reduceat(net, begins)
        out[row[begins]] = np.where(least == most, least, 0)
    return out


#: The first 48 bits of an address (RFC 5952), and addresses that say nothing of a place.
_SITE = "^([0-9a-f]+:[0-9a-f]+:[0-9a-f]+):"
_NOWHERE = r"(?i)^(?:127\.|169\.254\.|fe[89ab]|::)"


def _near(texts: pl.Series, system: pl.Series, serial: ValueColumn) -> tuple[ValueColumn, ...]:
    there = serial.values != 0
    lonely = texts.to_frame("t").select(pl.when(pl.Series(there)).then("t")).to_series()
    nobody = np.zeros(len(texts), np.int16)
    columns = neighbours(lonely, system.to_numpy(), there & (serial.systems < 2))
    return tuple(ValueColumn(values, nobody, nobody) for values in columns)


def _sighting(system: pl.Series, who: pl.Series, registered: pl.Series) -> list[str]:
    """The systems of whose records with a sign of hardware many repeat that of another.

    Fewer will do where hardly any is ``registered``: what keeps no serials, UUIDs or tags has no machines enrolled.
    """
    known = pl.DataFrame({"system": system, "who": who, "kept": registered}).filter(pl.col("who") != 0)
    counted = known.group_by("system").agg(
        (1 - pl.col("who").n_unique() / pl.len()).alias("again"), pl.len().alias("n"), pl.col("kept").mean()
    )
    least = pl.when(pl.col("kept") < _KEPT).then(_SIGHTING / 3).otherwise(_SIGHTING)
    return counted.filter((pl.col("again") > least) & (pl.col("n") >= 10))["system"].sort().to_list()


def _usual(system: pl.Series, who: pl.Series, sights: npt.NDArray[np.bool_]) -> Numbers:
    """For each record how many its system holds of one device at most, as a rule; nought where it does not sight."""
    known = pl.DataFrame({"system": system, "who": who}).filter(pl.col("who") != 0, pl.Series(sights))
    many = known.group_by("system", "who").len().group_by("system").agg(pl.col("len").quantile(_AS_A_RULE, "higher"))
    usual_of = dict(many.iter_rows())
    usual = system.replace_strict(list(usual_of), list(usual_of.values()), default=1.0, return_dtype=pl.Float64)
    return np.where(sights, usual.cast(pl.Int64).to_numpy(), 0)


def _hardware(height: int, columns: Sequence[ValueColumn]) -> pl.Series:
    """For each record a number for its device as far as hardware tells; nought where nothing does.

    Records that share a value which one device alone bears hang together, whatever system they are of.
    """
    rows, values = [], []
    for column in columns:
        mine = np.flatnonzero((column.values != 0) & (column.bearers <= 1))
        rows.append(mine)
        values.append(column.values[mine])
    row, value = np.concatenate(rows), np.concatenate(values)
    order = argsorted(value)
    same = np.flatnonzero(value[order][1:] == value[order][:-1])
    labels = components(height, row[order[same]], row[order[same + 1]])
    known = np.zeros(height, dtype=np.bool_)
    known[row] = True
    # named by the least value, so that the number does not depend on the order of records
    least = np.full(height, np.iinfo(np.int64).max)
    np.minimum.at(least, labels[row], value)
    return pl.Series(np.where(known, least[labels], 0))


def numbers(texts: pl.Series) -> pl.Series:
    """A number for each text, the same for the same; nought for none."""
    return texts.to_frame("text").select(_NUMBER).to_series()


_HASHED = pl.col("text").hash(seed=7).reinterpret(signed=True)
_NUMBER = pl.when(pl.col("text").is_null()).then(0).when(_HASHED == 0).then(1).otherwise(_HASHED)


def _first(*keys: pl.Series) -> pl.Series:
    """What tells a record's device from the next within a system: the first of its keys, or nought."""
    return pl.select(pl.coalesce(pl.when(key != 0).then(key) for key in keys).fill_null(0)).to_series()


def _both(one: pl.Series, other: pl.Series) -> pl.Series:
    """A number for two values together; nought where either is missing."""
    with np.errstate(over="ignore"):
        mixed = (one.to_numpy() ^ _ODD) * _ODD + other.to_numpy()
    return pl.Series(np.where((one.to_numpy() != 0) & (other.to_numpy() != 0), mixed, 0))


def _column(
    values: pl.Series, system: pl.Series, who: pl.Series, usual: Numbers, *, agreed: bool = False
) -> ValueColumn:
    codes = values.to_numpy()
    return ValueColumn(codes, *_bearers(codes, system.to_numpy(), who.to_numpy(), usual, agreed=agreed))


def _bearers(
    values: Numbers, system: Numbers, who: Numbers, usual: Numbers, *, agreed: bool = False
) -> tuple[Small, Small]:
    """For each place its value's most distinct bearers in one system, and the number of systems; nought for nought.

    Places stand by ``system``.  A record that nothing else identifies is no proof of a second bearer,
    unless others are like it in a system that does not sight.
    """
    most_of, systems = np.zeros(len(values), np.int16), np.zeros(len(values), np.int16)
    at = np.flatnonzero(values)
    if not len(at):
        return most_of, systems
    at = at[argsorted(values[at])]
    value, where = values[at], system[at]
    new = np.r_[True, value[1:] != value[:-1]]
    begins = np.flatnonzero(new | np.r_[True, where[1:] != where[:-1]])  # a value in one system is one run
    lengths = np.diff(np.r_[begins, len(at)])
    number = np.cumsum(new) - 1
    many = np.bincount(number[begins])
    bearers = _distinct(lengths, who[at], usual[at][begins])
    first = np.flatnonzero(new[begins])
    most = _agreed(bearers, many) if agreed else np.maximum.reduceat(bearers, first)
    if agreed:  # so many records are not usual of fewer
        most = np.maximum(most, np.maximum.reduceat(_fewest(lengths, usual[at][begins]), first))
    most_of[at] = np.clip(most, 1, _MANY)[number]
    systems[at] = many[number]
    return most_of, systems


def _agreed(bearers: Numbers, systems: Numbers) -> Numbers:
    """Of the bearers that each system shows, value by value, the most; of three systems or more what two agree on.

    One system alone may hold a device twice.  Systems that show none have nothing to say.
    """
    value = np.repeat(np.arange(len(systems)), systems)
    order = np.lexsort((-bearers, value))
    first = np.cumsum(systems) - systems
    say = np.bincount(value, weights=bearers > 0, minlength=len(systems))
    return np.asarray(bearers[order][first + (say > 2)])


def _distinct(lengths: Numbers, who: Numbers, usual: Numbers) -> Numbers:
    """How many different ones each run of ``who`` holds; those of no name count for themselves, if they are more.

    Not so in a system that sights: ``usual`` many there may be one, and so many alone show none.
    """
    long = lengths > 1
    out = np.where((usual > 0) & (who[np.cumsum(lengths) - lengths] == 0), 0, 1)
    inside = np.repeat(long, lengths)
    run, who = np.repeat(np.arange(len(lengths)), lengths)[inside], who[inside]
    order = argsorted(who)
    order = order[argsorted(run[order])]
    run, who = run[order], who[order]
    first = np.r_[True, (run[1:] != run[:-1]) | (who[1:] != who[:-1])][: len(run)]
    named = np.bincount(run[first & (who != 0)], minlength=len(lengths))
    nameless = np.bincount(run[who == 0], minlength=len(lengths))
    fewest = _fewest(nameless, usual)
    nameless = np.where(usual > 0, np.where(fewest > 1, fewest, 0), nameless)
    out[long] = np.maximum(named, nameless)[long]
    return out


def _fewest(records: Numbers, usual: Numbers) -> Numbers:
    """How many devices so many records are of at least, where a system sights; nought where it does not."""
    return np.where(usual > 0, -(-records // np.maximum(usual, 1)), 0)


@dataclass(frozen=True)
class _Items:
    """The values of lists below each other: the ``row`` of each, as it was ``said``, and its number."""

    row: Numbers
    texts: pl.Series
    value: Numbers


def _items(lists: pl.Series) -> _Items:
    row = np.repeat(np.arange(len(lists)), lists.list.len().fill_null(0).to_numpy())
    texts = lists.drop_nulls().explode(empty_as_null=False)
    if texts.null_count():
        there = texts.is_not_null()
        row, texts = row[there.to_numpy()], texts.filter(there)
    return _Items(row, texts, numbers(texts).to_numpy())


def _flat(items: _Items, system: pl.Series, who: pl.Series, usual: Numbers) -> pl.DataFrame:
    """Each value of each list with its ``row`` and its bearers."""
    where, whose = (part.to_numpy()[items.row] for part in (system, who))
    bearers, systems = _bearers(items.value, where, whose, usual[items.row])
    return pl.DataFrame({"row": items.row, "value": items.value, "bearers": bearers, "systems": systems})


def _spread(flat: pl.DataFrame, height: int) -> tuple[ValueColumn, ...]:
    """Up to ``WIDTH`` columns of a list's values; those that are known elsewhere come first."""
    alone = flat.select(
        (pl.col("row") != pl.col("row").shift(1)).fill_null(True)
        & (pl.col("row") != pl.col("row").shift(-1)).fill_null(True)
    ).to_series()
    if alone.all():  # also where there is none
        return (_placed(flat, height),)
    several = flat.filter(~alone).sort("row", pl.col("systems") == 1, "bearers", "value")
    several = several.with_columns(pl.int_range(pl.len()).over("row").alias("at"))
    placed = pl.concat([flat.filter(alone).with_columns(pl.lit(0, dtype=pl.Int64).alias("at")), several])
    most = int(placed["at"].max() or 0) + 1  # type: ignore[arg-type]
    return tuple(_placed(placed.filter(pl.col("at") == at), height) for at in range(min(WIDTH, most)))


def _placed(mine: pl.DataFrame, height: int) -> ValueColumn:
    rows = mine["row"].to_numpy()
    values, bearers, systems = np.zeros(height, np.int64), np.zeros(height, np.int16), np.zeros(height, np.int16)
    values[rows], bearers[rows], systems[rows] = mine["value"], mine["bearers"], mine["systems"]
    return ValueColumn(values, bearers, systems)


def _docks(flat: pl.DataFrame, makers: pl.Series) -> Sequence[str]:
    """The makers whose cards are often shared.  A maker is known by the first three octets (IEEE, OUI)."""
    cards = flat.select("value", "bearers").with_columns(makers.alias("maker")).unique("value")
    of_each = cards.group_by("maker").agg(
        ((pl.col("bearers") > 1).sum() / pl.len()).alias("share"), pl.len().alias("n")
    )  # fmt: skip
    return of_each.filter((pl.col("share") > _WANDERING) & (pl.col("n") >= 10))["maker"].sort().to_list()


def _cards(flat: pl.DataFrame, at_docks: pl.Series) -> pl.DataFrame:
    """Cards of a maker whose cards are often shared are shared ones, even where only one bearer shows."""
    shared = at_docks & (flat["bearers"] < _WANDERER)
    return flat.with_columns(pl.when(shared).then(_WANDERER).otherwise("bearers").cast(pl.Int16).alias("bearers"))

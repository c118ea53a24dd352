"""How many devices bear a value: what many share tells little, what one bears alone tells most.

Every value becomes a number (its hash), every kind of value a *column*: for each record the number,
nought where it has none, and the *crowd*, the most bearers that any one system shows.  Two records
of one system are normally two devices, so a system counts bearers without knowing which is which.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
import polars as pl

from concordex.match.identity import CUT

Numbers = npt.NDArray[np.int64]
Small = npt.NDArray[np.int16]

#: A serial or UUID that more devices of one system bear than this means nothing.
MOST_BEARERS = 3

_name = pl.col("name_key")
_long = _name.str.len_chars() >= CUT  # what is shorter was not cut

#: Of a list, this many values are looked at: those first that other records show as well.
WIDTH = 4

#: A maker's cards of which this share is seen at several devices are docks or adapters.
_WANDERING = 0.1


@dataclass(frozen=True)
class Column:
    """One kind of value: for each record its number (nought: none), its crowd, and in how many systems it is."""

    values: Numbers
    crowd: Small
    systems: Small

    def without(self, most: int) -> Column:
        """The same, with values that more than ``most`` bear taken for missing."""
        return Column(np.where(self.crowd > most, 0, self.values), self.crowd, self.systems)


@dataclass(frozen=True)
class Crowds:
    """The columns of all records, in the order of their rows."""

    height: int
    system: Numbers
    serial: Column
    uuid: Column
    tag: Column
    name: Column
    cut: Column
    user: Column
    macs: tuple[Column, ...]
    drawn: tuple[Column, ...]
    ips: tuple[Column, ...]


def crowds(keyed: pl.DataFrame) -> Crowds:
    """Count the bearers of every value in ``keyed`` (see :func:`identity.identities`)."""
    system = keyed["system"].rank("dense").cast(pl.Int64)
    name, serials, uuids, tags = (numbers(keyed[f"{key}_key"]) for key in ("name", "serial", "uuid", "tag"))
    card = numbers(keyed["mac_keys"].list.first())
    serial = _column(serials, system, _first(name, uuids, tags, card)).without(MOST_BEARERS)
    own = pl.Series(serial.values)
    uuid = _column(uuids, system, _first(own, tags, name)).without(MOST_BEARERS * 4)
    who = _first(own, pl.Series(uuid.values), tags, card)
    cut = numbers(keyed.select(pl.when(_long).then(_name.str.slice(0, CUT))).to_series())
    return Crowds(
        height=keyed.height, system=system.to_numpy(), serial=serial,
        uuid=uuid, tag=_column(tags, system, _first(own, name)), name=_column(name, system, who),
        cut=_column(cut, system, name), user=_column(numbers(keyed["user"].str.to_lowercase()), system, who),
        macs=_lists(keyed["mac_keys"], system, who, cards=True), drawn=_lists(keyed["drawn_macs"], system, who),
        ips=_lists(keyed["ips"], system, who),
    )  # fmt: skip


def numbers(texts: pl.Series) -> pl.Series:
    """A number for each text, the same for the same; nought for none."""
    there = texts.is_not_null()
    hashed = texts.hash(seed=7).reinterpret(signed=True)
    return pl.select(pl.when(there).then(pl.when(hashed == 0).then(1).otherwise(hashed)).otherwise(0)).to_series()


def _first(*keys: pl.Series) -> pl.Series:
    """What tells a record's device from the next within a system: the first of its keys, or nought."""
    return pl.select(pl.coalesce(pl.when(key != 0).then(key) for key in keys).fill_null(0)).to_series()


def _column(values: pl.Series, system: pl.Series, who: pl.Series) -> Column:
    rows = pl.DataFrame({"value": values, "system": system, "who": who})
    counted = rows.select("value").lazy().join(_bearers(rows).lazy(), on="value", how="left", maintain_order="left")
    found = counted.select(pl.col("crowd", "systems").fill_null(0).cast(pl.Int16)).collect()
    return Column(values.to_numpy(), found["crowd"].to_numpy(), found["systems"].to_numpy())


def _bearers(rows: pl.DataFrame) -> pl.DataFrame:
    """For each value the most distinct bearers in one system, and the number of systems.

    A record that nothing else identifies is no proof of a second bearer, unless others are like it.
    """
    each = rows.lazy().filter(pl.col("value") != 0).group_by("value", "system").agg(pl.len().alias("n")).collect()
    several = each.filter(pl.col("n") > 1)
    among = rows.lazy().join(several.lazy().select("value", "system"), on=["value", "system"], how="semi")
    named = among.filter(pl.col("who") != 0).unique(["value", "system", "who"])
    nameless = among.filter(pl.col("who") == 0)
    told = (
        pl.concat([part.group_by("value", "system").agg(pl.len().alias("crowd")) for part in (named, nameless)])
        .group_by("value").agg(pl.col("crowd").max())
    )  # fmt: skip
    spread = each.lazy().group_by("value").agg(pl.len().alias("systems"))
    capped = pl.col("crowd").fill_null(1).clip(0, 1000)
    return spread.join(told, on="value", how="left").select("value", capped, "systems").collect()


def _lists(lists: pl.Series, system: pl.Series, who: pl.Series, *, cards: bool = False) -> tuple[Column, ...]:
    """Up to ``WIDTH`` columns of a list's values; those that are known elsewhere come first."""
    height = len(lists)
    frame = pl.DataFrame({"row": np.arange(height), "said": lists, "system": system, "who": who})
    flat = frame.filter(pl.col("said").list.len() > 0).explode("said").drop_nulls("said")
    flat = flat.with_columns(numbers(flat["said"]).alias("value"))
    flat = flat.join(_bearers(flat.select("value", "system", "who")), on="value", how="left", maintain_order="left")
    if cards:
        flat = _wandering(flat)
    alone = flat.select(
        (pl.col("row") != pl.col("row").shift(1)).fill_null(True)
        & (pl.col("row") != pl.col("row").shift(-1)).fill_null(True)
    ).to_series()
    several = flat.filter(~alone).sort("row", pl.col("systems") == 1, "crowd", "value")
    several = several.with_columns(pl.int_range(pl.len()).over("row").alias("at"))
    placed = pl.concat([flat.filter(alone).with_columns(pl.lit(0, dtype=pl.Int64).alias("at")), several])
    most = int(placed["at"].max() or 0) + 1 if placed.height else 1  # type: ignore[arg-type]
    return tuple(_placed(placed.filter(pl.col("at") == at), height) for at in range(min(WIDTH, most)))


def _placed(mine: pl.DataFrame, height: int) -> Column:
    rows = mine["row"].to_numpy()
    values, crowd, systems = np.zeros(height, np.int64), np.zeros(height, np.int16), np.zeros(height, np.int16)
    values[rows], crowd[rows], systems[rows] = mine["value"], mine["crowd"], mine["systems"]
    return Column(values, crowd, systems)


def _wandering(flat: pl.DataFrame) -> pl.DataFrame:
    """Cards of a maker whose cards are often shared are shared ones, even where only one bearer shows.

    A maker is known by the first three octets (IEEE, OUI).
    """
    maker = flat.unique("value").group_by(pl.col("said").str.slice(0, 8).alias("maker")).agg(
        ((pl.col("crowd") > 1).sum() / pl.len()).alias("share"), pl.len().alias("n")
    )  # fmt: skip
    docks = maker.filter((pl.col("share") > _WANDERING) & (pl.col("n") >= 10))["maker"]
    shared = pl.col("said").str.slice(0, 8).is_in(docks.implode()) & (pl.col("crowd") == 1)
    return flat.with_columns(pl.when(shared).then(2).otherwise("crowd").alias("crowd"))

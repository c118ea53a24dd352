"""From pairs to groups: which pairs are links, and what the links hold together."""

from __future__ import annotations

import polars as pl

#: Evidence from the weakest: what is dropped first when a group holds what cannot be one device.
_WEAKEST_FIRST = ("name", "mac", "uuid")
_SURE = ("reference", "serial")


def links(pairs: pl.DataFrame) -> pl.DataFrame:
    """The pairs that are taken to be one device.

    Across systems any trusted key links, unless the serials contradict it.  Within a system two
    records are two devices, unless they have one serial and nothing else against it.
    """
    across = pl.col("same_system").not_()
    by_serial = pl.col("serial") & (across | pl.col("names_differ").not_() | pl.col("mac") | pl.col("uuid"))
    by_card = (pl.col("mac") | pl.col("uuid")) & across & pl.col("serials_differ").not_()
    by_name = pl.col("name") & across & (pl.col("serials_differ") | pl.col("kinds_differ")).not_()
    return pairs.filter(pl.col("reference") | by_serial | by_card | by_name)


def groups(keyed: pl.DataFrame, linked: pl.DataFrame) -> pl.Series:
    """For each row of ``keyed`` the number of its group; chains that join two serials are cut.

    A chain is cut at its weakest kind of evidence first, in the groups concerned alone.
    """
    same = [_same_serial(keyed), linked.filter("mistyped").select("a", "b")]
    serials = _components(keyed.height, pl.concat(same))
    known = keyed["serial_key"].is_not_null()
    group = _components(keyed.height, linked.select("a", "b"))
    for kind in _WEAKEST_FIRST:
        torn = _torn(group, serials, known)
        if torn.is_empty():
            break
        others = [pl.col(name) for name in (*_SURE, *_WEAKEST_FIRST[_WEAKEST_FIRST.index(kind) + 1 :])]
        only_this = pl.col(kind) & pl.any_horizontal(others).not_()
        in_torn = pl.Series(group.gather(linked["a"])).is_in(torn.implode())
        linked = linked.filter((only_this & in_torn).not_())
        group = _components(keyed.height, linked.select("a", "b"))
    return group.alias("group")


def _same_serial(keyed: pl.DataFrame) -> pl.DataFrame:
    held = keyed.drop_nulls("serial_key").select(
        pl.col("row").first().over("serial_key").alias("a"), pl.col("row").alias("b")
    )
    return held.filter(pl.col("a") != pl.col("b"))


def _torn(group: pl.Series, serials: pl.Series, known: pl.Series) -> pl.Series:
    """The groups that hold more than one serial."""
    frame = pl.DataFrame({"group": group, "serial": serials, "known": known}).filter("known")
    several = frame.group_by("group").agg(pl.col("serial").n_unique().alias("n")).filter(pl.col("n") > 1)
    return several["group"]


def _components(size: int, edges: pl.DataFrame) -> pl.Series:
    """Connected components of ``size`` rows; each is numbered by its first row."""
    import numpy as np
    from scipy.sparse import coo_array
    from scipy.sparse.csgraph import connected_components

    a, b = edges["a"].to_numpy(), edges["b"].to_numpy()
    graph = coo_array((np.ones(len(a), dtype=np.int8), (a, b)), shape=(size, size))
    _, labels = connected_components(graph, directed=False)
    frame = pl.DataFrame({"label": labels.astype("int64")}).with_row_index("row")
    return frame.select(pl.col("row").min().over("label").cast(pl.UInt32)).to_series()

"""Links as both their ends tell them: the cables that they mean, and what cannot be as it is told."""

from __future__ import annotations

from typing import Any

import polars as pl

#: One end's account of a link: a ``system`` says that a device of its own (``near``, by id) has on a port what it calls
#: ``far``, with what it says of that.
ENDS: dict[str, Any] = {
    "system": pl.String, "record_id": pl.String, "near": pl.String, "near_port": pl.String, "far": pl.String,
    "far_port": pl.String, "far_name": pl.String, "far_ip": pl.String, "speed": pl.Float64, "duplex": pl.String,
    "status": pl.String, "first_seen": pl.Datetime("us", "UTC"),
}  # fmt: skip
#: A device that links may mean, by its ``id`` in a system; ``device`` is the same for all records of one.
NODES: dict[str, Any] = {
    "system": pl.String, "id": pl.String, "name": pl.String, "kind": pl.String, "site": pl.String,
    "ips": pl.List(pl.String), "entry": pl.String, "device": pl.String,
}  # fmt: skip
#: Words for a link that carries nothing now.
DOWN = ("down", "lost", "off")

_HERE, _THERE = ["system", "near", "near_port"], ["system", "far", "far_port"]


def cables(ends: pl.DataFrame) -> pl.DataFrame:
    """One row for each cable, from the end that comes first: as in :data:`ENDS`, and ``told``, by ``both`` ends or
    ``one``.  Its state is the worse of what they say, its speed the lesser, and it is there since the earlier."""
    if ends.is_empty():
        return ends.with_columns(pl.lit("one").alias("told"))
    turned = ends.rename({"near": "far", "near_port": "far_port", "far": "near", "far_port": "near_port"})
    at, over = (pl.concat_str(name, pl.col(f"{name}_port").fill_null(""), separator="\n") for name in ("near", "far"))
    first = pl.concat([
        ends.with_columns(pl.lit(0).alias("way")).filter(at <= over),
        turned.select(ends.columns).with_columns(pl.lit(1).alias("way")).filter(at < over),
    ])  # fmt: skip
    is_down = pl.col("status").str.to_lowercase().is_in(DOWN)
    return first.group_by([*_HERE, *_THERE[1:]], maintain_order=True).agg(
        pl.col("record_id").first(), pl.col("speed").min(), pl.col("duplex").first(),
        pl.when(is_down.any()).then(pl.col("status").filter(is_down).first()).otherwise(pl.col("status").first()),
        pl.col("first_seen").min(),
        pl.when(pl.col("way").n_unique() > 1).then(pl.lit("both")).otherwise(pl.lit("one")).alias("told"),
    )  # fmt: skip


def untrue(ends: pl.DataFrame, nodes: pl.DataFrame, known: list[str]) -> pl.DataFrame:
    """What cannot be as it is told: ``kind``, ``system``, ``record_id``, the device ``near`` and what was ``seen``.

    ``disputed`` is a link of whose far port another end tells otherwise; ``contradicted`` one whose far end has another
    name, or no such address; ``unknown`` one to a device that the system does not know, of the systems that are
    ``known`` whole; ``uneven`` one whose ends differ in speed or duplex.
    """
    called = nodes.select("system", "id", pl.coalesce("name", "id").alias("called"))
    named = ends.with_row_index("row")
    for end in ("near", "far"):
        named = named.join(
            called.rename({"id": end, "called": f"{end}_called"}), on=["system", end], how="left", maintain_order="left"
        )
    named = named.with_columns(
        pl.coalesce("near_called", "near").alias("near_called"),
        pl.coalesce("far_called", "far_name", "far").alias("far_called"),
    )
    return pl.concat([
        _disputed(named, nodes, known), _contradicted(named, nodes), _unknown(named, nodes, known), _uneven(named),
    ])  # fmt: skip


def _told(frame: pl.DataFrame, kind: str, seen: pl.Expr) -> pl.DataFrame:
    return frame.select(pl.lit(kind).alias("kind"), "system", "record_id", "near", seen.alias("seen"))


def _at(end: str) -> pl.Expr:
    """An end as people call it: the device and the port."""
    return pl.concat_str(f"{end}_called", f"{end}_port", separator=" ", ignore_nulls=True)


def _answered(named: pl.DataFrame) -> pl.DataFrame:
    """Each end with what the port at its other end tells, where that tells anything."""
    ported = named.filter(pl.col("near_port").is_not_null() & pl.col("far_port").is_not_null())
    back = ported.select(pl.all().name.suffix("_back")).rename(
        {"system_back": "system", "near_back": "far", "near_port_back": "far_port"}
    )
    return ported.join(back, on=_THERE, maintain_order="left")


def _agrees() -> pl.Expr:
    return (pl.col("far_back") == pl.col("near")) & (pl.col("far_port_back") == pl.col("near_port"))


def _disputed(named: pl.DataFrame, nodes: pl.DataFrame, known: list[str]) -> pl.DataFrame:
    """Where one port tells of what it is not in, others that mean it are in dispute with it: that is told once.

    One that tells of a device that nobody knows is told of as that.
    """
    strange = _strangers(named, nodes, known).select("row")
    both = _answered(named).join(strange, left_on="row_back", right_on="row", how="anti", maintain_order="left")
    agreed = both.filter(_agrees())["row"]
    torn = both.filter(_agrees().not_(), pl.col("row").is_in(agreed.implode()).not_())
    settled = pl.col("row_back").is_in(agreed.implode()) & pl.col("row").is_in(torn["row_back"].implode())
    other = pl.concat_str("far_called_back", "far_port_back", separator=" ", ignore_nulls=True)
    seen = pl.format("{} tells of {}, which tells of {}", _at("near"), _at("far"), other)
    return _told(torn.filter(settled.not_()).unique("row", maintain_order=True), "disputed", seen)


def _uneven(named: pl.DataFrame) -> pl.DataFrame:
    both = _answered(named).filter(_agrees(), pl.col("row") < pl.col("row_back"))
    differ = [pl.col(name) != pl.col(f"{name}_back") for name in ("speed", "duplex")]
    words = [
        pl.when(test).then(pl.format(f"{name} {{}} and {{}}", _plain(name), _plain(f"{name}_back")))
        for test, name in zip(differ, ("speed", "duplex"), strict=True)
    ]
    torn = both.filter(pl.any_horizontal(differ))
    what = pl.concat_str(words, separator=", ", ignore_nulls=True)
    return _told(torn, "uneven", pl.format("{} and {} differ: {}", _at("near"), _at("far"), what))


def _plain(name: str) -> pl.Expr:
    """A value as people write it: 1000, not 1000.0."""
    return pl.col(name).cast(pl.String).str.replace(r"\.0$", "")


def _contradicted(named: pl.DataFrame, nodes: pl.DataFrame) -> pl.DataFrame:
    known = nodes.select("system", pl.col("id").alias("far"), pl.col("name").alias("its_name"), "ips")
    met = named.join(known, on=["system", "far"], maintain_order="left")
    name = _bare("far_name") != _bare("its_name")
    address = pl.col("far_ip").is_not_null() & (pl.col("ips").list.len() > 0)
    address &= pl.col("ips").list.contains(pl.col("far_ip")).not_()
    met = met.with_columns(name.fill_null(value=False).alias("_name"), address.fill_null(value=False).alias("_address"))
    torn = met.filter(pl.col("_name") | pl.col("_address"))
    said = pl.when("_name").then("far_name").otherwise("far_ip")
    real = pl.when("_name").then("its_name").otherwise(pl.col("ips").list.join(", "))
    seen = pl.format("{} tells of {} there, and {} is {}", _at("near"), said, pl.col("far"), real)
    return _told(torn, "contradicted", seen)


def _bare(name: str) -> pl.Expr:
    """A name without its domain, in small letters."""
    return pl.col(name).str.strip_chars().str.to_lowercase().str.replace(r"\..*$", "")


def _unknown(named: pl.DataFrame, nodes: pl.DataFrame, known: list[str]) -> pl.DataFrame:
    lost = _strangers(named, nodes, known)
    what = pl.concat_str("far", "far_name", "far_ip", separator=", ", ignore_nulls=True)
    return _told(lost, "unknown", pl.format("{} tells of a device that nobody knows: {}", _at("near"), what))


def _strangers(named: pl.DataFrame, nodes: pl.DataFrame, known: list[str]) -> pl.DataFrame:
    """Ends that tell of devices that their system should know, and does not."""
    of_known = named.filter(pl.col("system").is_in(known), pl.col("far").is_not_null())
    ids = nodes.select("system", pl.col("id").alias("far"))
    return of_known.join(ids, on=["system", "far"], how="anti", maintain_order="left")

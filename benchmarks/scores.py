"""How right a concordance is: pairs, B-cubed, whole entries; and three plain joins to compare with."""

from __future__ import annotations

import polars as pl

from concordex.match.components import components

_NOTHING = ["na", "n/a", "tbd", "unknown", "none", "", "tobefilled", "notspecified"]


def scores(records: pl.DataFrame, entry: str = "entry") -> dict[str, float]:
    """Pairwise precision, recall and F1, B-cubed F1 (Bagga and Baldwin 1998), and the share of whole entries."""
    cells = records.group_by(entry, "device").agg(pl.len().cast(pl.Float64).alias("n"))
    said = records.group_by(entry).agg(pl.len().cast(pl.Float64).alias("said"))
    real = records.group_by("device").agg(pl.len().cast(pl.Float64).alias("real"))
    cells = cells.join(said, on=entry).join(real, on="device")
    agreed, called, true = (_pairs(frame[name]) for frame, name in ((cells, "n"), (said, "said"), (real, "real")))
    precision, recall = agreed / max(called, 1.0), agreed / max(true, 1.0)
    size = records.height
    cubed_p = float((cells["n"] ** 2 / cells["said"]).sum()) / size
    cubed_r = float((cells["n"] ** 2 / cells["real"]).sum()) / size
    whole = cells.filter((pl.col("n") == pl.col("said")) & (pl.col("n") == pl.col("real"))).height
    return {
        "precision": precision, "recall": recall, "F1": _f1(precision, recall), "B-cubed F1": _f1(cubed_p, cubed_r),
        "entries right": whole / max(said.height, 1),
    }  # fmt: skip


def by_case(records: pl.DataFrame, entry: str = "entry") -> pl.DataFrame:
    """Precision and recall of the pairs that touch each hard case."""
    rows = []
    for case in sorted(records["case"].unique()):
        of = pl.col("case") == case
        agreed, called, true = (_touching(records, keys, of) for keys in ([entry, "device"], [entry], ["device"]))
        rows.append(
            (case, agreed / max(called, 1.0), agreed / max(true, 1.0), int(called - agreed), int(true - agreed))
        )
    return pl.DataFrame(rows, schema=["case", "precision", "recall", "wrong pairs", "lost pairs"], orient="row")


def knowing(keyed: pl.DataFrame) -> pl.Series:
    """The entry of each record by one who knows the truth, and joins what hangs together by any key that it shares.

    What is lost beyond that has nothing that identifies it.  ``keyed`` is as of ``concordex.match.identity``.
    """
    rows = keyed.with_row_index("at")
    tokens = []
    for key in ("serial_key", "uuid_key", "tag_key", "name_key", "mac_keys", "drawn_macs"):
        said = rows.select("at", "device", pl.col(key).alias("value"))
        said = said.explode("value") if said.schema["value"] == pl.List(pl.String) else said
        tokens.append(said.drop_nulls().select("at", pl.struct("device", pl.lit(key), "value").hash().alias("token")))
    told = pl.concat(tokens).sort("token", "at")
    same = (
        told.filter(pl.col("token") == pl.col("token").shift(-1))["at"],
        told.filter(pl.col("token") == pl.col("token").shift(1))["at"],
    )
    return pl.Series(components(keyed.height, *(side.cast(pl.Int64).to_numpy() for side in same)))


def joined(records: pl.DataFrame, manner: str) -> pl.Series:
    """The entry of each record by a plain join: ``name``, ``first key`` or ``guarded``.

    The last two look each record up by its serial, else by one of its MACs, else by its name, among
    the records before it, and join what they find: the script that everybody writes first.
    """
    if manner == "name":
        name = pl.col("name").str.to_lowercase().str.strip_chars()
        return records.with_row_index("row").select(pl.coalesce(name, pl.format("row {}", "row"))).to_series()
    tokens = _tokens(records, guarded=manner == "guarded")
    keys = tokens.group_by("row", maintain_order=True).agg("key").sort("row")
    known: dict[str, int] = {}
    entry = list(range(records.height))
    for row, mine in keys.iter_rows():
        entry[row] = next((known[key] for key in mine if key in known), row)
        for key in mine:
            known.setdefault(key, entry[row])
    return pl.Series(entry)


def _tokens(records: pl.DataFrame, *, guarded: bool) -> pl.DataFrame:
    """The keys of each record, the best first."""
    serial = pl.col("serial").str.to_uppercase().str.replace_all("[^A-Z0-9]", "")
    serial = pl.when(pl.col("serial").str.to_lowercase().str.replace_all(" ", "").is_in(_NOTHING).not_()).then(serial)
    name = pl.col("name").str.to_lowercase().str.strip_chars().str.replace(r"\..*$", "")
    rows = records.with_row_index("row")
    tokens = pl.concat([
        rows.select("row", pl.lit("serial ") + serial.alias("key")),
        rows.select("row", "macs").explode("macs").select("row", pl.lit("mac ") + pl.col("macs").alias("key")),
        rows.select("row", pl.lit("name ") + name.alias("key")),
    ], how="vertical_relaxed").rename({"literal": "key"}).drop_nulls("key")  # fmt: skip
    if guarded:
        unusable = pl.col("key").str.contains("^mac (?:.[26ae]|00:00:5e:00:01)")
        tokens = tokens.filter(unusable.not_() & (pl.len().over("key") <= 6))
    return tokens


def _touching(records: pl.DataFrame, keys: list[str], of: pl.Expr) -> float:
    grouped = records.group_by(keys).agg(
        pl.len().cast(pl.Float64).alias("n"), of.not_().sum().cast(pl.Float64).alias("rest")
    )
    return _pairs(grouped["n"]) - _pairs(grouped["rest"])


def _pairs(counts: pl.Series) -> float:
    return float((counts * (counts - 1) / 2).sum())


def _f1(precision: float, recall: float) -> float:
    return 2 * precision * recall / (precision + recall) if precision + recall else 0.0

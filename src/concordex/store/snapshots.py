"""Parquet files, written whole, and without secrets of ours."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import polars as pl

from concordex.errors import StoreError
from concordex.landing import landing, make_folder
from concordex.model.fields import FIELDS, ORIGINAL
from concordex.store.catalogue import Snapshot
from concordex.unseen import UNSEEN

#: Small enough that a filter on one site skips most of a sorted file and memory stays flat.
_ROWS = 16_384


def write(frame: pl.DataFrame, path: Path, *, lasting: bool = True) -> None:
    """Write ``frame`` to ``path`` so that a reader finds all of it or nothing.

    What is not ``lasting`` is made anew often: it is written in half the time, and is half as large again.
    """
    frame = _fit_to_keep(frame)
    make_folder(path.parent)
    with landing(path, private=True) as making:
        if lasting:
            frame.write_parquet(making, compression="zstd", compression_level=1, row_group_size=_ROWS)
        else:
            frame.write_parquet(making, compression="lz4", row_group_size=4 * _ROWS)


def _fit_to_keep(frame: pl.DataFrame) -> pl.DataFrame:
    """``frame`` without our secrets: some systems repeat in their records what they were sent."""
    telling = UNSEEN.telling()
    texts = [name for name, kind in frame.schema.items() if kind == pl.String]
    if not telling or not texts:
        return frame
    holds = pl.any_horizontal(pl.col(name).str.contains_any(telling).fill_null(False) for name in texts)
    if not frame.select(holds.any()).item():
        return frame
    hidden = [
        pl.when(pl.col(name).str.contains_any(telling))
        .then(pl.col(name).map_elements(UNSEEN.text, return_dtype=pl.String))
        .otherwise(pl.col(name))
        for name in texts
    ]
    return frame.with_columns(hidden)


def beside(path: Path) -> Path:
    """The file that keeps the keys of the records that were left out of a snapshot."""
    return path.with_suffix(".keys.parquet")


def scan(path: Path) -> pl.LazyFrame:
    """The frame in ``path``, read as far as it is needed."""
    if (fault := damage(path)) is not None:
        raise StoreError(
            f"{path} is {fault}", advice="concordex pull makes a new snapshot, concordex reconcile a new concordance"
        )
    return pl.scan_parquet(path)


def damage(path: Path) -> str | None:
    """What is wrong with a file that we wrote: gone, or cut off; nothing where it can be read from both ends."""
    try:
        pl.read_parquet_schema(path)
    except FileNotFoundError:
        return "gone"
    except (pl.exceptions.PolarsError, OSError):
        return "damaged"
    return None


def together(root: Path, snapshots: Sequence[Snapshot]) -> pl.LazyFrame:
    """Snapshots of one table from several systems as one frame, with the ``system`` first."""
    frames = [
        scan(root / snapshot.file).with_columns(pl.lit(snapshot.system).alias("system"))
        for snapshot in snapshots
        if snapshot.file
    ]
    if not frames:
        return pl.LazyFrame(schema={"system": pl.String(), **{n: t.dtype for n, t in FIELDS.items()}})
    return join(frames)


def join(frames: Sequence[pl.LazyFrame]) -> pl.LazyFrame:
    """Frames of one table, each with its ``system``, below each other; columns in our order."""
    joined = pl.concat(frames, how="diagonal_relaxed") if len(frames) > 1 else frames[0]
    names = joined.collect_schema().names()
    ordered = [*(n for n in ("change", "system") if n in names), *(n for n in FIELDS if n in names)]
    if "what" in names:
        ordered.insert(6, "what")
    rest = [n for n in names if n not in ordered and n != ORIGINAL]
    return joined.select(*ordered, *rest, *([ORIGINAL] if ORIGINAL in names else []))

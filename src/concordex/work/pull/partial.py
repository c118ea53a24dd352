"""A pull of a part, put into the whole that was there."""

from __future__ import annotations

from collections.abc import Sequence

import polars as pl

from concordex.store.snapshots import join


def with_part(base: pl.DataFrame, part: pl.DataFrame, gone: Sequence[str] = ()) -> pl.DataFrame:
    """``base`` with the records of ``part`` in the place of their earlier selves, and without what is gone."""
    rest = base.filter(pl.col("record_id").is_in(list(gone)).not_()).join(
        part.select("record_id"), on="record_id", how="anti"
    )
    system = pl.lit("").alias("system")
    return join([rest.lazy().with_columns(system), part.lazy().with_columns(system)]).drop("system").collect()

"""Which records a word names: by a name, serial, MAC or IP address, asset tag, UUID or id."""

from __future__ import annotations

from collections.abc import Collection, Sequence

import polars as pl

from concordex.model.values import ip, mac

#: In this order: what is told first is what most people mean.
_TEXTS = ("name", "serial", "asset_tag", "uuid", "record_id")


def bearing(word: str, columns: Collection[str], also: Sequence[str] = ()) -> dict[str, pl.Expr]:
    """For each of the ``columns`` that may hold it, and each text column of ``also``, which records bear ``word``.

    Capitals and spaces around it do not count; addresses in any notation.
    """
    text = word.strip().lower()
    address = pl.select(macs=mac(pl.lit(word)), ips=ip(pl.lit(word))).row(0, named=True)
    tests = {name: pl.col(name).str.to_lowercase() == text for name in (*_TEXTS, *also) if name in columns}
    tests |= {
        name: pl.col(name).list.contains(value)
        for name, value in address.items()
        if value is not None and name in columns
    }
    return {name: test.fill_null(value=False) for name, test in tests.items()}

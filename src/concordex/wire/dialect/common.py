"""What a dialect says once: laid over the one that it extends, and what the lists of all its tables have in common."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any


def laid_over(below: Any, above: Any) -> Any:
    """A document laid over another; a null takes something away."""
    if not (isinstance(below, Mapping) and isinstance(above, Mapping)):
        return above
    if below.get("by") != above.get("by", below.get("by")):
        return above  # another way of paging or signing in: nothing of the old one is meant
    done = {key: value for key, value in below.items() if key not in above}
    for key, value in above.items():
        if value is not None:
            done[key] = laid_over(below.get(key), value)
    return done


def with_lists(document: Any) -> Any:
    """The document with what all ``lists`` have in common in the reading of each table that asks a system."""
    common = document.get("lists") if isinstance(document, Mapping) else None
    tables = document.get("tables") if isinstance(document, Mapping) else None
    if not (isinstance(common, Mapping) and isinstance(tables, Mapping)):
        return document
    done = {}
    for name, table in tables.items():
        read = table.get("read") if isinstance(table, Mapping) else None
        asks = isinstance(read, Mapping) and bool({"path", "operation", "rpc"} & read.keys())
        done[name] = {**table, "read": laid_over(common, read)} if asks else table
    return {**document, "tables": done}

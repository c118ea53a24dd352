"""The fields that every system's records are mapped to, and their types."""

from __future__ import annotations

from enum import StrEnum
from functools import cache
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    import polars as pl


class Type(StrEnum):
    """What a field's values are, which decides how they compare."""

    TEXT = "text"
    VERSION = "version"
    TIME = "time"
    NUMBER = "number"
    FLAG = "flag"
    MACS = "macs"
    IPS = "ips"
    TEXTS = "texts"

    @property
    def is_list(self) -> bool:
        """Whether one record may hold several values."""
        return self in (Type.MACS, Type.IPS, Type.TEXTS)

    @property
    def dtype(self) -> pl.DataType:
        """How a snapshot keeps the values."""
        return _dtypes()[self]


@cache
def _dtypes() -> dict[Type, pl.DataType]:
    import polars as pl  # commands that show no table do without it

    texts = pl.List(pl.String)
    return {
        Type.TIME: pl.Datetime("us", "UTC"), Type.NUMBER: pl.Float64(), Type.FLAG: pl.Boolean(),
        Type.MACS: texts, Type.IPS: texts, Type.TEXTS: texts, Type.TEXT: pl.String(), Type.VERSION: pl.String(),
    }  # fmt: skip


#: How text becomes a value: the names by which a dialect asks for it (``as``), and those of each type.
CONVERSION_NAMES = (
    "text", "lower", "upper", "slug", "version", "mac", "ip", "iso", "http_date", "ago", "epoch", "epoch_ms",
    "number", "flag",
)  # fmt: skip

BY_TYPE: dict[Type, str] = {
    Type.TEXT: "text", Type.VERSION: "version", Type.TIME: "iso", Type.NUMBER: "number", Type.FLAG: "flag",
    Type.MACS: "mac", Type.IPS: "ip", Type.TEXTS: "text",
}  # fmt: skip

FIELDS: dict[str, Type] = {
    "record_id": Type.TEXT,
    "name": Type.TEXT,
    "serial": Type.TEXT,
    "asset_tag": Type.TEXT,
    "uuid": Type.TEXT,
    "macs": Type.MACS,
    "ips": Type.IPS,
    "maker": Type.TEXT,
    "model": Type.TEXT,
    "kind": Type.TEXT,
    "role": Type.TEXT,
    "site": Type.TEXT,
    "location": Type.TEXT,
    "rack": Type.TEXT,
    "position": Type.NUMBER,
    "os": Type.TEXT,
    "os_version": Type.VERSION,
    "status": Type.TEXT,
    "user": Type.TEXT,
    "parent": Type.TEXT,
    "enrolled_at": Type.TIME,
    "first_seen": Type.TIME,
    "last_seen": Type.TIME,
}

#: What a filter on records and entries may ask, beside the fields themselves.
ASKABLE: dict[str, Type] = {
    **FIELDS, "system": Type.TEXT, "entry": Type.TEXT, "systems": Type.TEXTS, "records": Type.NUMBER,
}  # fmt: skip

KINDS = (
    "router", "switch", "access-point", "firewall", "wireless-controller", "load-balancer", "server",
    "virtual-machine", "laptop", "desktop", "tablet", "phone", "handheld", "printer", "camera", "sensor",
    "console-server", "patch-panel", "power", "other",
)  # fmt: skip

#: Kept beside the fields: the system's own record as JSON text (RFC 8259).
ORIGINAL = "original"

#: Names by which a filter may also call a field: any of its values is meant.
ALIASES = {"mac": "macs", "ip": "ips"}


def type_of(dtype: pl.DataType, name: str) -> Type:
    """The type of a stored column: by its name where that is one of ours, else by what it holds."""
    import polars as pl

    if name in FIELDS:
        return FIELDS[name]
    if isinstance(dtype, pl.List):
        return Type.TEXTS
    if isinstance(dtype, pl.Datetime):
        return Type.TIME
    if dtype == pl.Boolean:
        return Type.FLAG
    return Type.NUMBER if dtype.is_numeric() else Type.TEXT

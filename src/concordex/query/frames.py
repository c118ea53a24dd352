"""A filter as a Polars expression that is true or false for every record, never missing."""

from __future__ import annotations

import operator as op
from collections.abc import Callable
from functools import reduce
from typing import Any

import polars as pl

from concordex.model.fields import ORIGINAL, Type
from concordex.model.scalars import version_parts
from concordex.model.values import distinct, iso
from concordex.query.bind import Binder, Bound
from concordex.query.tree import And, Clause, Node, Not, Or

#: So many parts are each looked at for what of a file need not be read; a long chain of them is planned very slowly.
_FEW = 16
_COMPARE: dict[str, Callable[[Any, Any], Any]] = {
    "=": op.eq, "!=": op.ne, "<": op.lt, "<=": op.le, ">": op.gt, ">=": op.ge, "older than": op.lt,
    "newer than": op.gt,
}  # fmt: skip


def to_polars(node: Node, binder: Binder) -> pl.Expr:
    """The records for which ``node`` holds.

    A test of a missing value does not hold, and ``!=`` is the opposite of ``=``: every filter
    splits a table into two parts that together are the whole.
    """
    if isinstance(node, And):
        parts = [to_polars(part, binder) for part in node.parts]
        return reduce(op.and_, parts) if len(parts) <= _FEW else pl.all_horizontal(parts)
    if isinstance(node, Or):
        parts = [to_polars(part, binder) for part in node.parts]
        return reduce(op.or_, parts) if len(parts) <= _FEW else pl.any_horizontal(parts)
    if isinstance(node, Not):
        return to_polars(node.part, binder).not_()
    return _clause(node, binder)


def extra_value(path: str) -> pl.Expr:
    """What the system's own record holds at a dotted path, as text."""
    steps = "".join(f"['{step}']" for step in path.replace("'", "").split("."))
    return pl.col(ORIGINAL).str.json_path_match(f"${steps}")


def _clause(clause: Clause, binder: Binder) -> pl.Expr:
    bound = binder.bind(clause)
    if bound.operator == "!=":
        return _holds(_as(bound, "=")).not_()
    return _holds(bound)


def _as(bound: Bound, operator: str) -> Bound:
    return Bound(
        column=bound.column, type=bound.type, operator=operator, values=bound.values, counted=bound.counted,
        extra=bound.extra,
    )  # fmt: skip


def _holds(bound: Bound) -> pl.Expr:
    value = pl.col(bound.column) if bound.extra is None else extra_value(bound.extra)
    if bound.counted:
        return _compared(bound.operator, value.list.len().fill_null(0), bound.values[0])
    if bound.operator in ("missing", "present"):
        there = value.is_not_null() & (value.list.len() > 0) if bound.type.is_list else value.is_not_null()
        return there if bound.operator == "present" else there.not_()
    if bound.type.is_list:
        return value.list.eval(_one(pl.element(), bound)).list.any().fill_null(False)
    return _one(_typed(value, bound), bound).fill_null(False)


def _typed(value: pl.Expr, bound: Bound) -> pl.Expr:
    if bound.extra is None:
        return value
    if bound.type is Type.NUMBER:
        return value.cast(pl.Float64, strict=False)
    return iso(value) if bound.type is Type.TIME else value


def _one(value: pl.Expr, bound: Bound) -> pl.Expr:
    wanted, operator = bound.values, bound.operator
    if operator in ("like", "matches"):
        return value.str.contains(wanted[0])
    if operator == "within":
        return _within(value, wanted[0])
    if bound.type is Type.VERSION:
        return distinct(value, lambda text: _any(operator, version_parts(text), wanted), pl.Boolean())
    if bound.type in (Type.TEXT, Type.TEXTS):
        value = value.str.to_lowercase()
    if operator == "in":
        return value.is_in(list(wanted))
    return _compared(operator, value, wanted[0])


def _compared(operator: str, value: pl.Expr, wanted: Any) -> pl.Expr:
    compared: pl.Expr = _COMPARE[operator](value, wanted)
    return compared


def _any(operator: str, value: Any, wanted: tuple[Any, ...]) -> bool:
    return value in wanted if operator == "in" else bool(_COMPARE[operator](value, wanted[0]))


def _within(value: pl.Expr, wanted: Any) -> pl.Expr:
    if isinstance(wanted, str):  # the beginning of a MAC address
        return value.str.starts_with(wanted)
    if wanted.version == 4:
        octets = value.str.split_exact(".", 3)
        number = reduce(
            lambda total, at: total * 256 + octets.struct.field(f"field_{at}").cast(pl.UInt32, strict=False),
            range(1, 4),
            octets.struct.field("field_0").cast(pl.UInt32, strict=False),
        )
        low, high = int(wanted.network_address), int(wanted.broadcast_address)
        return number.is_between(low, high)
    return distinct(value, lambda text: ":" in text and _in_network(text, wanted), pl.Boolean())


def _in_network(address: str, network: Any) -> bool:
    import ipaddress

    return ipaddress.ip_address(address) in network

"""The kinds of configuration object that a dialect knows."""

from __future__ import annotations

from concordex.change.objects import Kind
from concordex.wire import dialect as d
from concordex.wire.dialect.order import order


def kinds_of(dialect: d.Dialect) -> dict[str, Kind]:
    """The kinds of object that a dialect knows, each after those that it refers to."""
    kinds = {}
    for name in order(dialect, list(dialect.tables)):
        table, spec = dialect.tables[name], dialect.tables[name].config
        if spec is None:
            continue
        write = table.write
        kinds[name] = Kind(
            table=name, name=str(table.fields["name"].from_[0]), single=spec.single,
            id=str(table.fields["record_id"].from_[0]), within=spec.within,
            volatile=spec.volatile, secrets=sorted(table.unread), references=spec.references, sets=spec.sets,
            place=spec.place, shares=spec.shares_names, bound=spec.bound, by=spec.by, at=spec.at,
            can_create=bool(write and write.create), can_update=bool(write and write.update),
            can_delete=bool(write and write.delete),
        )  # fmt: skip
    return kinds

"""A record altered as a request says: members, a whole record, or a patch."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from typing import Any

from concordex.model.members import pruned, put, stands, value_at
from concordex.wire import dialect as d
from concordex.wire.copy.declined import Cause, Declined, untold
from concordex.wire.copy.placing import placed
from concordex.wire.http.formats import merged

Record = dict[str, Any]


def altered(how: d.Update, record: Mapping[str, Any], sent: Any, kept: Sequence[str]) -> Record:
    """``record`` as it is after an update; ``kept`` are members that stay where a whole record is sent."""
    if how.form_of == "json_patch":
        return patched(record, sent)
    if not isinstance(sent, Mapping):
        raise Declined(Cause.WRONG, "there is no record in the body")
    if how.form_of == "patch_op":
        return _operated(record, sent.get("Operations"))
    sent = {name: value for name, value in sent.items() if name != how.id}
    if how.form_of == "merge_patch":
        return dict(merge_patched(record, sent))
    if how.whole:
        stay = {name: record[name] for name in (*kept, *how.whole.without) if name in record}
        return {**sent, **stay}
    return merged(record, sent)


def merge_patched(target: Any, patch: Any) -> Any:
    """RFC 7396, section 2."""
    if not isinstance(patch, Mapping):
        return patch
    made = dict(target) if isinstance(target, Mapping) else {}
    for name, value in patch.items():
        if value is None:
            made.pop(name, None)
        else:
            made[name] = merge_patched(made.get(name), value)
    return made


def patched(record: Mapping[str, Any], patch: Any) -> Record:
    """RFC 6902, by its library."""
    import jsonpatch

    if not isinstance(patch, list):
        raise Declined(Cause.WRONG, "a patch is a list of operations")
    try:
        made = jsonpatch.apply_patch(dict(record), patch)
    except (jsonpatch.JsonPatchException, jsonpatch.JsonPointerException, TypeError, ValueError, KeyError) as error:
        raise Declined(Cause.WRONG, f"the patch cannot be applied: {error}") from error
    if not isinstance(made, dict):
        raise Declined(Cause.WRONG, "the patch leaves no record")
    return made


def _operated(record: Mapping[str, Any], operations: Any) -> Record:
    """RFC 7644, section 3.5.2, as far as a plain path leads; what filters values within it is not known here."""
    made = dict(record)
    for operation in operations if isinstance(operations, list) else [None]:
        told = operation if isinstance(operation, Mapping) else {}
        op, path = str(told.get("op")).lower(), told.get("path")
        if op not in ("add", "replace", "remove") or (path is None and not isinstance(told.get("value"), Mapping)):
            raise Declined(Cause.WRONG, "a patch lists operations: add, replace or remove, with their paths")
        if path is None:
            made = merged(made, told["value"])
        elif not isinstance(path, str) or not re.fullmatch(r"\w+(\.\w+)*", path):
            raise untold(f"what the path {path} means in a patch")
        else:
            made = pruned(made, [path]) if op == "remove" else put(made, path, told.get("value"))
    return made


def as_read(table: d.Table, record: Mapping[str, Any], sent: Mapping[str, Any]) -> Record:
    """``record`` with what was sent also where the dialect reads it, if that is another member."""
    write, made = table.write, dict(record)
    if write is None:
        return made
    ways: dict[str, str] = {name: how.to for name, how in write.fields.items()}
    ways |= {name: how.to for name, how in write.references.items()}
    for name, to in ways.items():
        spec = table.fields.get(name)
        if spec is None or not spec.from_ or not stands(sent, to.split(".")):
            continue
        if any(path == to for path in spec.from_):
            continue
        steps = spec.from_[0].steps
        if not steps:
            raise untold(f"where {name}, once it is written to {to}, is read")
        made = dict(placed(made, steps, value_at(sent, to)))
    return made


def without_secrets(write: d.Write, record: Mapping[str, Any]) -> Record:
    """``record`` without what is sent once and never shown."""
    made = dict(record)
    for how in write.fields.values():
        if (how.once or how.secret) and stands(made, how.to.split(".")):
            made = put(made, how.to, None)
    return made

"""What a system says can be called, for people: operations by section, and one of them with an example that runs."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import orjson

from concordex.cli import draw
from concordex.cli.emit import Format
from concordex.cli.rows import emit_rows
from concordex.errors import CalledWrongly
from concordex.words import plural, suggestion

if TYPE_CHECKING:
    from concordex.insight.described import Described, Operation


def draw_operations(
    told: Described, words: Sequence[str], columns: Sequence[str], limit: int | None, form: Format | None,
    output: Path | None,
) -> None:  # fmt: skip
    """The operations of which all words stand somewhere."""
    found = sorted(told.about(words), key=lambda one: one.section)
    rows = [
        {"section": one.section, "operation": one.name, "method": one.method, "path": one.path,
         "about": f"(deprecated) {one.about}" if one.deprecated else one.about}
        for one in found
    ]  # fmt: skip
    if not rows:
        raise CalledWrongly(f"none of {plural(len(told.operations), 'operation')} is about {' '.join(words)}",
                            advice="concordex call SYSTEM --list")  # fmt: skip
    emit_rows(rows, form, output, columns=columns, limit=limit)
    draw.note(f"{told.title}: {len(rows):,} of {plural(len(told.operations), 'operation')} ({told.form})")


def draw_operation(system: str, told: Described, name: str) -> None:
    """One operation: its parameters, its body, its answers, and how it is called."""
    operation = told.named(name)
    if operation is None:
        known = [one.name for one in told.operations]
        raise CalledWrongly(f"there is no operation {name!r}", advice=suggestion(name, known))
    draw.heading(f"{operation.method} {operation.path}")
    if operation.about:
        draw.line(operation.about)
    rows = [
        (p.name, p.stands, p.kind, "yes" if p.required else "", p.about)
        for p in sorted(operation.parameters, key=lambda p: (p.stands != "path", p.stands, not p.required))
    ]
    if rows:
        draw.line()
        draw.table(["parameter", "stands in", "type", "required", "about"], rows)
    if operation.body:
        draw.line()
        draw.line(f"body: {operation.body}")
        if operation.example is not None:
            draw.line(orjson.dumps(operation.example, option=orjson.OPT_INDENT_2).decode())
    if operation.answers:
        draw.line()
        draw.table(["answer", "about"], list(operation.answers.items()))
    draw.line()
    draw.line(_example(system, operation))


def _example(system: str, operation: Operation) -> str:
    words = ["concordex", "call", system, operation.name]
    if operation.question:
        given = [f"{p.name}=VALUE" for p in operation.parameters if p.required]
        return shlex.join([*words, *given]) + ("" if operation.section == "query" else " --write")
    words += [
        f"{p.name}={p.example if p.example is not None else 'VALUE'}"
        for p in operation.parameters
        if p.required and p.stands in ("path", "query", "header")
    ]
    if operation.example is not None:
        words += ["--json", orjson.dumps(operation.example).decode()]
    return shlex.join(words) + (" --write" if operation.method not in ("GET", "HEAD", "OPTIONS") else "")

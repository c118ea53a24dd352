"""What left here, as rows: when, by whom, what, and what came of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import Any

from concordex.cli.reasons import words as words_of


def rows_of(entries: Iterable[Mapping[str, Any]]) -> list[dict[str, Any]]:
    """A row for each step of the journal that was sent."""
    return [
        {
            "sent": datetime.fromisoformat(row["sent"]), "by": row["about"].get("by"), "change": row["change"],
            "kind": row["kind"], "from": row["about"].get("from"), "system": row["system"], "table": row["name"],
            "action": row["operation"], "record": row["label"], "record_id": row["record_id"], "state": row["state"],
            "why": words_of(row["why"]) or None,
        }
        for row in entries
    ]  # fmt: skip

"""What became better and worse since an earlier reconciliation, in a few lines."""

from __future__ import annotations

import json
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.store.database import DatabaseRow
    from concordex.work.workspace.base import BaseWorkspace

#: So many lines say what became better and worse.
_LINES = 10


def better_and_worse(workspace: BaseWorkspace, moment: datetime) -> tuple[datetime, list[str], list[str]]:
    """When the reconciliation was with which the newest is compared, and what became better, and worse, since."""
    rows = workspace.catalogue.reconciliations()
    earlier = [row for row in rows if datetime.fromisoformat(str(row["made"])) <= moment]
    if not earlier:
        raise CalledWrongly(
            f"nothing was reconciled by {moment:%Y-%m-%d %H:%M} UTC",
            advice=f"the first time was {str(rows[0]['made'])[:16]}" if rows else "concordex reconcile",
        )
    changes = sorted(_changed(earlier[-1], rows[-1]), reverse=True)[:_LINES]
    better = [text for _, is_better, text in changes if is_better]
    return datetime.fromisoformat(str(earlier[-1]["made"])), better, [t for _, is_better, t in changes if not is_better]


def _changed(then: DatabaseRow, now: DatabaseRow) -> list[tuple[float, bool, str]]:
    """What is otherwise: by how much, whether that is better, and the same in words."""
    before, after = json.loads(then["summary"]), json.loads(now["summary"])
    told = []
    for kind in {*before["findings"], *after["findings"]}:
        was, is_now = before["findings"].get(kind, 0), after["findings"].get(kind, 0)
        if was != is_now:
            told.append(
                (abs(is_now - was) / max(was, 1) ** 0.5, is_now < was, f"{kind}: {was:,} findings, now {is_now:,}")
            )
    for system in {*before["systems"]} & {*after["systems"]}:
        old, new = before["systems"][system], after["systems"][system]
        for what, word in (("entries", "devices known"), ("agreement", "of its values confirmed")):
            was, is_now = old.get(what) or 0, new.get(what) or 0
            least = 0.01 if what == "agreement" else 0
            if abs(is_now - was) > least:
                shown = [f"{x:.0%}" if what == "agreement" else f"{x:,}" for x in (was, is_now)]
                weight = abs(is_now - was) * (100 if what == "agreement" else 1) / max(was, 1) ** 0.5
                told.append((weight, is_now > was, f"{system}: {shown[0]} {word}, now {shown[1]}"))
    return told

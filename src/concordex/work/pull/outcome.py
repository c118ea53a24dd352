"""What came of several tables, in one word."""

from __future__ import annotations

from collections.abc import Sequence

from concordex.store.catalogue import Snapshot


def outcome_of(snapshots: Sequence[Snapshot]) -> str:
    """What may be said of a pull by what came of its tables; a trusted table counts as whole."""
    outcomes = {"whole" if snapshot.whole else snapshot.outcome for snapshot in snapshots}
    if len(outcomes) == 1:
        return outcomes.pop()
    return "unproven" if outcomes == {"whole", "unproven"} else "partial"

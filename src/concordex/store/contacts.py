"""How it stands between us and each system: since when it fails, by pulls and by checks."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property

from concordex.store.database import Database
from concordex.unseen import fit_to_keep

SCHEMA = """
CREATE TABLE IF NOT EXISTS checked (
    system TEXT PRIMARY KEY, moment TEXT NOT NULL, failing_since TEXT, fault TEXT, good TEXT
);
"""


@dataclass(frozen=True, kw_only=True)
class Contact:
    """A system as it was last met: when, and since when it fails, if it does; in part where some of its tables come."""

    met: datetime | None = None
    failing_since: datetime | None = None
    in_part: bool = False
    fault: str = ""


class Contacts:
    """What pulls and checks say of systems."""

    def __init__(self, database: Database) -> None:
        self._database = database

    @cached_property
    def _knows_checks(self) -> bool:
        """Whether checks are noted here: an earlier release did not."""
        return bool(self._database.columns_of("checked"))

    def note_check(self, system: str, fault: str) -> None:
        """Note what a check of a system came to: no fault where it went well."""
        now = datetime.now(UTC).isoformat()
        known = self._database.rows("SELECT failing_since, good FROM checked WHERE system = ?", (system,))
        since = (known[0]["failing_since"] if known and known[0]["failing_since"] else now) if fault else None
        good = (known[0]["good"] if known else None) if fault else now
        values = (system, now, since, fit_to_keep(fault), good)
        self._database.run(
            "INSERT INTO checked VALUES (?, ?, ?, ?, ?) ON CONFLICT (system) DO UPDATE SET moment = excluded.moment,"
            " failing_since = excluded.failing_since, fault = excluded.fault, good = excluded.good",
            values,
        )

    def of(self, system: str) -> Contact:
        """A system, by what came last: a pull or a check."""
        latest = self._database.rows(
            "SELECT name, taken, outcome, fault FROM snapshots AS s WHERE system = ? AND id ="
            " (SELECT MAX(id) FROM snapshots WHERE system = s.system AND name = s.name)",
            (system,),
        )
        checked = self._database.rows("SELECT * FROM checked WHERE system = ?", (system,)) if self._knows_checks else []
        met = max((row["taken"] for row in latest), default=None)
        if checked and (met is None or checked[0]["moment"] > met):
            own = checked[0]
            since = min(filter(None, [own["failing_since"], self._failing_since(system, own["good"])]), default=None)
            return Contact(
                met=_moment(own["moment"]), failing_since=_moment(since) if own["failing_since"] else None,
                fault=own["fault"] or "",
            )  # fmt: skip
        bad = [row for row in latest if row["outcome"] == "failed"]
        since = self._failing_since(system, checked[0]["good"] if checked else None) if bad else None
        return Contact(
            met=_moment(met), failing_since=_moment(since),
            in_part=bool(bad) and len(bad) < len(latest), fault=next((row["fault"] or "" for row in bad), ""),
        )  # fmt: skip

    def _failing_since(self, system: str, good: str | None) -> str | None:
        """Of the tables that fail, the first failure since they last came, and since a check last went well."""
        (row,) = self._database.rows(
            "SELECT MIN(taken) AS since FROM snapshots AS s WHERE system = ? AND outcome = 'failed' AND id > COALESCE("
            "(SELECT MAX(id) FROM snapshots WHERE system = s.system AND name = s.name AND outcome <> 'failed'), 0)"
            " AND taken > ?",
            (system, good or ""),
        )
        return row["since"] if row["since"] else None


def _moment(text: str | None) -> datetime | None:
    return None if not text else datetime.fromisoformat(text)

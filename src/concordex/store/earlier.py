"""Changes that an earlier release has kept, given the names of this one; or told, where nothing may be written."""

from __future__ import annotations

import json
from typing import Any

from concordex.errors import StoreError
from concordex.store.database import Database

#: What was called otherwise, in the documents of steps and changes.
_CALLED = {"was": "before", "shall": "desired", "act": "action", "grave": "irreversible"}

#: The same of how a run was asked for.
_ASKED = {"most": "batch_size", "regardless": "force"}


def is_of_today(database: Database) -> bool:
    """Whether the steps in a catalogue are kept as this release keeps them."""
    return "operation" in database.columns_of("steps")


def brought_up(database: Database) -> None:
    """Give steps and changes the names of this release, all of them or none."""
    if is_of_today(database):
        return
    with database.atomic():
        database.run("ALTER TABLE steps RENAME COLUMN action TO operation")
        database.run("UPDATE steps SET operation = 'action' WHERE operation = 'act'")
        database.run("UPDATE steps SET causes = 'staged' WHERE reason = 'staged, and not committed'")
        database.run("UPDATE changes SET kind = 'action' WHERE kind = 'act'")
        steps = database.rows("SELECT change, number, body, whole FROM steps")
        database.run_many(
            "UPDATE steps SET body = ?, whole = ? WHERE change = ? AND number = ?",
            [(_renamed(row["body"]), _renamed(row["whole"]), row["change"], row["number"]) for row in steps],
        )
        changes = database.rows("SELECT id, about FROM changes")
        database.run_many(
            "UPDATE changes SET about = ? WHERE id = ?", [(_renamed(row["about"]), row["id"]) for row in changes]
        )


def check_today(database: Database) -> None:
    """Raise StoreError where an earlier release has kept the changes, and nothing may be written here."""
    if not is_of_today(database):
        raise StoreError(
            f"{database.place} stores its changes in the form of an earlier release",
            advice="run once a command that writes here, such as `concordex pull`",
        )


def _renamed(text: str | None) -> str | None:
    """A document with the members of today."""
    if not text:
        return text
    about: dict[str, Any] = json.loads(text)
    about = {_CALLED.get(name, name): value for name, value in about.items()}
    if isinstance(how := about.get("how"), dict):
        about["how"] = {_ASKED.get(name, name): value for name, value in how.items()}
    return json.dumps(about)

"""The catalogue as a file of its own, as it stood at one moment, while others go on."""

from __future__ import annotations

import sqlite3
from contextlib import closing
from functools import partial
from typing import TYPE_CHECKING

from concordex.store.carry import carry
from concordex.store.catalogue import Catalogue
from concordex.store.sqlite import SqliteDatabase

if TYPE_CHECKING:
    from pathlib import Path

    from concordex.work.workspace.base import BaseWorkspace


def copy_catalogue(workspace: BaseWorkspace, into: Path) -> None:
    """Write the catalogue into a new SQLite file, be it such a one or in a database that is shared."""
    if workspace.server is None:
        source = f"{workspace.catalogue_file.resolve().as_uri()}?mode=ro"
        with closing(sqlite3.connect(source, uri=True)) as here, closing(sqlite3.connect(into)) as copy:
            here.backup(copy)
            copy.execute("PRAGMA journal_mode=DELETE")
        return
    memory = workspace.memory.database
    with closing(Catalogue(partial(SqliteDatabase, into), write=True).database) as copied, memory.steady():
        carry(memory, copied)
        copied.run("PRAGMA journal_mode=DELETE")

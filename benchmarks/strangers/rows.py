"""The fleet as tables that one explores with SQL: run with a port."""

import sqlite3
import sys
import tempfile
from pathlib import Path

import uvicorn
from data import fleet
from datasette.app import Datasette

folder = Path(tempfile.mkdtemp())
with sqlite3.connect(folder / "fleet.db") as db:
    for table, rows in fleet().items():
        names = ", ".join(f"{name} {'integer primary key' if name == 'id' else 'text'}" for name in rows[0])
        db.execute(f"create table {table} ({names})")
        db.executemany(
            f"insert into {table} values ({', '.join('?' * len(rows[0]))})", [tuple(r.values()) for r in rows]
        )
uvicorn.run(Datasette([str(folder / "fleet.db")]).app(), port=int(sys.argv[1]), log_level="error")

"""The fleet behind endpoints that are made of tables, each total by a call of its own: run with a port."""

import asyncio
import sys
import tempfile
from pathlib import Path

import uvicorn
from data import fleet
from piccolo.columns import Boolean, Integer, Varchar
from piccolo.engine.sqlite import SQLiteEngine
from piccolo.table import Table, create_db_tables_sync
from piccolo_api.crud.endpoints import PiccoloCRUD
from starlette.applications import Starlette
from starlette.routing import Mount

DB = SQLiteEngine(path=str(Path(tempfile.mkdtemp()) / "fleet.sqlite"))
KINDS = {bool: Boolean, int: Integer, str: Varchar}
made = []
for name, rows in fleet().items():
    columns = {member: KINDS[type(value)]() for member, value in rows[0].items() if member != "id"}
    table = type(name.capitalize()[:-1], (Table,), columns, db=DB, tablename=name)
    made.append((name, table, rows))
create_db_tables_sync(*(table for _, table, _ in made))


async def fill() -> None:
    """Put every row into its table."""
    for _, table, rows in made:
        for begin in range(0, len(rows), 50):
            await table.insert(*(table(**row) for row in rows[begin : begin + 50]))


asyncio.run(fill())
app = Starlette(
    routes=[Mount(f"/rest/{name}", PiccoloCRUD(table, read_only=False, page_size=15)) for name, table, _ in made]
)
uvicorn.run(app, port=int(sys.argv[1]), log_level="error")

"""The fleet behind the lookups of a console that is made of models: run with a port."""

import asyncio
import sys
import tempfile
from pathlib import Path

import uvicorn
from data import fleet
from sqlalchemy import Boolean, Column, Integer, String
from sqlalchemy.ext.asyncio import async_sessionmaker, create_async_engine
from sqlalchemy.orm import DeclarativeBase
from starlette.applications import Starlette
from starlette_admin.contrib.sqla import Admin, ModelView

KINDS = {bool: Boolean, int: Integer, str: String}
engine = create_async_engine(f"sqlite+aiosqlite:///{Path(tempfile.mkdtemp()) / 'fleet.sqlite'}")
sessions = async_sessionmaker(engine, expire_on_commit=False)


class Base(DeclarativeBase):
    """What the models share."""


app, models, admin = Starlette(), [], Admin(engine, title="Quay console")
for name, rows in fleet().items():
    columns = {member: Column(KINDS[type(value)], primary_key=member == "id") for member, value in rows[0].items()}
    model = type(name.capitalize()[:-1], (Base,), {"__tablename__": name, **columns})
    admin.add_view(ModelView(model, key=name))
    models.append((model, rows))


async def fill() -> None:
    """Put every row into its table."""
    async with engine.begin() as connection:
        await connection.run_sync(Base.metadata.create_all)
    async with sessions() as one:
        for model, rows in models:
            one.add_all(model(**row) for row in rows)
        await one.commit()


asyncio.run(fill())
admin.mount_to(app)
uvicorn.run(app, port=int(sys.argv[1]), log_level="error")

"""The fleet behind endpoints that a toolkit makes of models, with pages by number: run with a port."""

import asyncio
import sys
import tempfile
from pathlib import Path

import uvicorn
from data import fleet
from fastapi import FastAPI
from fastcrud import crud_router
from pydantic import create_model
from sqlalchemy import Boolean, Column, Integer, String
from sqlalchemy.ext.asyncio import async_sessionmaker, create_async_engine
from sqlalchemy.orm import DeclarativeBase

KINDS = {bool: Boolean, int: Integer, str: String}
engine = create_async_engine(f"sqlite+aiosqlite:///{Path(tempfile.mkdtemp()) / 'fleet.sqlite'}")
sessions = async_sessionmaker(engine, expire_on_commit=False)


class Base(DeclarativeBase):
    """What the models share."""


async def session():
    """A session for one request."""
    async with sessions() as one:
        yield one


app, models = FastAPI(title="Quay tables"), []
for name, rows in fleet().items():
    columns = {member: Column(KINDS[type(value)], primary_key=member == "id") for member, value in rows[0].items()}
    model = type(name.capitalize()[:-1], (Base,), {"__tablename__": name, **columns})
    schema = create_model(f"{name}Schema", **{member: (type(value), ...) for member, value in rows[0].items()})
    app.include_router(
        crud_router(
            session=session, model=model, create_schema=schema, update_schema=schema, select_schema=schema,
            path=f"/{name}", tags=[name],
        )
    )  # fmt: skip
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
uvicorn.run(app, port=int(sys.argv[1]), log_level="error")

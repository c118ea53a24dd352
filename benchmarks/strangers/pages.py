"""The fleet behind pages of a framework's add-on, by number and by cursor: run with a port."""

import sys

import uvicorn
from data import fleet
from fastapi import Depends, FastAPI, HTTPException
from fastapi.security import OAuth2PasswordBearer, OAuth2PasswordRequestForm
from fastapi_pagination import Page, add_pagination, paginate
from fastapi_pagination.limit_offset import LimitOffsetPage
from fastapi_pagination.limit_offset import LimitOffsetParams as Window
from pydantic import BaseModel, create_model

FLEET = fleet()
app = FastAPI(title="Quay pages")
bearer = OAuth2PasswordBearer(tokenUrl="enter")


@app.post("/enter")
def enter(form: OAuth2PasswordRequestForm = Depends()) -> dict[str, str]:  # noqa: B008
    """Let somebody in (RFC 6749, section 4.3)."""
    if (form.username, form.password) != ("quay", "watch-word"):
        raise HTTPException(401)
    return {"access_token": "lamplight-0123456789abcdef", "token_type": "bearer"}


def let_in(token: str = Depends(bearer)) -> None:
    """Refuse who has no token."""
    if token != "lamplight-0123456789abcdef":
        raise HTTPException(401)


def kind(table: str) -> type[BaseModel]:
    """A model with the members of a table."""
    return create_model(table, **{name: (type(value), ...) for name, value in FLEET[table][0].items()})


Device, Office, Port = kind("devices"), kind("offices"), kind("ports")


@app.get("/v2/inventory/devices", dependencies=[Depends(let_in)])
def devices() -> Page[Device]:
    """Devices, by numbered pages."""
    return paginate([Device(**row) for row in FLEET["devices"]])


@app.get("/v2/inventory/offices", dependencies=[Depends(let_in)])
def offices() -> Page[Office]:
    """Offices, by numbered pages."""
    return paginate([Office(**row) for row in FLEET["offices"]])


@app.get("/v2/inventory/ports", dependencies=[Depends(let_in)])
def ports(window: Window = Depends()) -> LimitOffsetPage[Port]:  # noqa: B008
    """Ports, by offsets."""
    return paginate([Port(**row) for row in FLEET["ports"]], window)


add_pagination(app)
uvicorn.run(app, port=int(sys.argv[1]), log_level="error")

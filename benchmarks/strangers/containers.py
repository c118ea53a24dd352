"""The fleet behind a framework's containers of pages: by number, by offset and by mark: run with a port."""

import sys

import uvicorn
from data import fleet
from litestar import Litestar, get
from litestar.pagination import (
    AbstractSyncClassicPaginator,
    AbstractSyncCursorPaginator,
    AbstractSyncOffsetPaginator,
    ClassicPagination,
    CursorPagination,
    OffsetPagination,
)

FLEET = fleet()


class Numbered(AbstractSyncClassicPaginator[dict]):
    """Offices by pages."""

    def get_total(self, page_size: int) -> int:
        return -(-len(FLEET["offices"]) // page_size)

    def get_items(self, page_size: int, current_page: int) -> list[dict]:
        return FLEET["offices"][(current_page - 1) * page_size : current_page * page_size]


class Skipped(AbstractSyncOffsetPaginator[dict]):
    """Devices by offsets."""

    def get_total(self) -> int:
        return len(FLEET["devices"])

    def get_items(self, limit: int, offset: int) -> list[dict]:
        return FLEET["devices"][offset : offset + limit]


class Marked(AbstractSyncCursorPaginator[str, dict]):
    """Ports by marks: the name of the last port."""

    def get_items(self, cursor: str | None, results_per_page: int) -> tuple[list[dict], str | None]:
        names = [row["port_name"] for row in FLEET["ports"]]
        begin = names.index(cursor) + 1 if cursor else 0
        rows = FLEET["ports"][begin : begin + results_per_page]
        return rows, rows[-1]["port_name"] if rows else None


@get("/offices")
def offices(page_size: int = 10, current_page: int = 1) -> ClassicPagination[dict]:
    return Numbered()(page_size=page_size, current_page=current_page)


@get("/devices")
def devices(limit: int = 10, offset: int = 0) -> OffsetPagination[dict]:
    return Skipped()(limit=limit, offset=offset)


@get("/ports")
def ports(cursor: str | None = None, results_per_page: int = 10) -> CursorPagination[str, dict]:
    return Marked()(cursor=cursor, results_per_page=results_per_page)


uvicorn.run(Litestar([offices, devices, ports]), port=int(sys.argv[1]), log_level="error")

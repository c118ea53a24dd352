"""A page server for the benchmarks: ready-made pages, a fixed latency, no framework in the way.

    python benchmarks/pages.py --records 100000 --size 500 --latency 20

prints the port on its first line and serves until it is ended.  It speaks just enough HTTP/1.1
(RFC 9112) for a keep-alive GET of ``/items?start=N&size=M`` and of ``/items/N``, so that what a
benchmark measures is the client and not the server.
"""

from __future__ import annotations

import argparse
import asyncio
import re
from functools import lru_cache

import orjson

QUERY = re.compile(rb"GET /items\?(?:start=(\d+))&?(?:size=(\d+))?")
ONE = re.compile(rb"GET /items/n(\d+) ")


def record(number: int, width: int) -> dict[str, object]:
    """One made-up device record of about ``width`` bytes as JSON."""
    body: dict[str, object] = {
        "id": f"n{number:07d}",
        "label": f"sw-{number:07d}",
        "serial": f"QX{number:09d}",
        "mac": f"00:1b:{number >> 24 & 255:02x}:{number >> 16 & 255:02x}:{number >> 8 & 255:02x}:{number & 255:02x}",
        "address": f"10.{number >> 16 & 255}.{number >> 8 & 255}.{number & 255}",
        "place": ("cobble-quay", "gull-stairs", "depot")[number % 3],
        "family": ("switch", "router", "access-point")[number % 3],
        "release": f"7.{number % 5}.{number % 17}",
        "heard": 1_790_000_000_000 + number * 1000,
    }
    return body | {"note": "x" * max(0, width - len(orjson.dumps(body)) - 10)}


class Pages:
    """The whole list, rendered a page at a time and kept."""

    def __init__(self, records: int, width: int) -> None:
        self.records, self.width = records, width

    @lru_cache(maxsize=100_000)  # noqa: B019 - one object for the life of the process
    def page(self, start: int, size: int) -> bytes:
        rows = [record(n, self.width) for n in range(start, min(start + size, self.records))]
        return _answer({"count": self.records, "items": rows})

    @lru_cache(maxsize=100_000)  # noqa: B019
    def one(self, number: int) -> bytes:
        return _answer(record(number, self.width))


def _answer(body: object) -> bytes:
    content = orjson.dumps(body)
    head = f"HTTP/1.1 200 OK\r\nContent-Type: application/json\r\nContent-Length: {len(content)}\r\n\r\n"
    return head.encode() + content


async def serve(pages: Pages, latency: float, size: int) -> None:
    async def talk(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        try:
            while True:
                head = await reader.readuntil(b"\r\n\r\n")
                one, found = ONE.match(head), QUERY.match(head)
                start = int(found[1]) if found else 0
                await asyncio.sleep(latency)
                whole = pages.one(int(one[1])) if one else None
                writer.write(whole or pages.page(start, int(found[2]) if found and found[2] else size))
                await writer.drain()
        except (asyncio.IncompleteReadError, ConnectionError):
            writer.close()

    for start in range(0, pages.records, size):
        pages.page(start, size)
    server = await asyncio.start_server(talk, "127.0.0.1", 0)
    print(server.sockets[0].getsockname()[1], flush=True)
    await server.serve_forever()


if __name__ == "__main__":
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--records", type=int, default=100_000)
    parser.add_argument("--size", type=int, default=500)
    parser.add_argument("--width", type=int, default=1000)
    parser.add_argument("--latency", type=float, default=20, help="milliseconds")
    given = parser.parse_args()
    asyncio.run(serve(Pages(given.records, given.width), given.latency / 1000, given.size))

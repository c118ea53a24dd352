"""Which HTTP client?  100,000 records of about 1 KB, pages of 500, 20 ms latency, 8 in flight.

    python benchmarks/clients.py

Each client fetches the same 200 pages and decodes them with orjson; the last line fetches
without decoding.  httpx is not a dependency of Concordex: the line is left out without it.
"""

from __future__ import annotations

import asyncio
import statistics
import subprocess
import sys
import time
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import orjson

RECORDS, SIZE, FLIGHT = 100_000, 500, 8
STARTS = range(0, RECORDS, SIZE)
Decode = Callable[[bytes], object]


async def aiohttp_pages(base: str, decode: Decode) -> None:
    import aiohttp

    gate = asyncio.Semaphore(FLIGHT)
    async with aiohttp.ClientSession() as session:

        async def one(start: int) -> None:
            async with gate, session.get(f"{base}?start={start}") as answer:
                decode(await answer.read())

        await asyncio.gather(*map(one, STARTS))


async def httpx_pages(base: str, decode: Decode) -> None:
    import httpx

    gate = asyncio.Semaphore(FLIGHT)
    async with httpx.AsyncClient() as client:

        async def one(start: int) -> None:
            async with gate:
                decode((await client.get(f"{base}?start={start}")).content)

        await asyncio.gather(*map(one, STARTS))


def urllib3_pages(base: str, decode: Decode) -> None:
    import urllib3

    pool = urllib3.PoolManager(maxsize=FLIGHT)

    def one(start: int) -> None:
        decode(pool.request("GET", f"{base}?start={start}").data)

    with ThreadPoolExecutor(FLIGHT) as threads:
        list(threads.map(one, STARTS))


CLIENTS: dict[str, Callable[[str], None]] = {
    "httpx + orjson": lambda base: asyncio.run(httpx_pages(base, orjson.loads)),
    "aiohttp + orjson": lambda base: asyncio.run(aiohttp_pages(base, orjson.loads)),
    "urllib3 in threads + orjson": lambda base: urllib3_pages(base, orjson.loads),
    "aiohttp, not decoded": lambda base: asyncio.run(aiohttp_pages(base, len)),
}


def main() -> None:
    command = [sys.executable, str(Path(__file__).with_name("pages.py"))]
    with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as server:
        assert server.stdout
        base = f"http://127.0.0.1:{server.stdout.readline().strip()}/items"
        for name, fetch in CLIENTS.items():
            times = []
            try:
                for _ in range(4):
                    begun = time.perf_counter()
                    fetch(base)
                    times.append(time.perf_counter() - begun)
            except ImportError:
                continue
            print(f"{name:32} {statistics.median(times[1:]):6.2f} s")
        server.terminate()


if __name__ == "__main__":
    main()

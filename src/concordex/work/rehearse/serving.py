"""A copy served on a loopback port, in a thread of this process."""

from __future__ import annotations

import asyncio
import socket
import threading
from types import TracebackType
from typing import Any, Self

from aiohttp import web

from concordex.errors import CalledWrongly
from concordex.wire.copy.copy import Copy

#: The largest body that is taken, in bytes.
_LARGEST = 64_000_000


class Served:
    """A copy that can be reached at ``url`` while the ``with`` block runs; nowhere but on this machine."""

    def __init__(self, copy: Copy, port: int = 0) -> None:
        """Raises CalledWrongly where the port is taken."""
        self.copy = copy
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_STREAM, socket.IPPROTO_TCP)
        self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
        try:
            self._socket.bind(("127.0.0.1", port))
        except OSError as error:
            self._socket.close()
            raise CalledWrongly(
                f"port {port} cannot be taken",
                why=error.strerror or str(error),
                advice="leave --port out for a free one",
            ) from error
        self.url = f"http://127.0.0.1:{self._socket.getsockname()[1]}"
        self._loop = asyncio.new_event_loop()
        self._thread = threading.Thread(target=self._serve, daemon=True)
        self._up = threading.Event()
        self._ended: asyncio.Event
        self._fault: BaseException | None = None

    def __enter__(self) -> Self:
        self._thread.start()
        self._up.wait()
        if self._fault is not None:
            raise self._fault
        return self

    def __exit__(
        self, kind: type[BaseException] | None, error: BaseException | None, trace: TracebackType | None
    ) -> None:
        self._loop.call_soon_threadsafe(self._ended.set)
        self._thread.join(5)

    def _serve(self) -> None:
        try:
            self._loop.run_until_complete(self._through())
        except BaseException as error:  # it is told where somebody waits for the server
            self._fault = error
        finally:
            self._up.set()
            self._loop.close()

    async def _through(self) -> None:
        self._ended = asyncio.Event()

        def taken(message: Any, payload: Any, protocol: Any, writer: Any, task: Any) -> web.BaseRequest:
            return web.BaseRequest(message, payload, protocol, writer, task, self._loop, client_max_size=_LARGEST)

        runner = web.ServerRunner(web.Server(self._answer, request_factory=taken), shutdown_timeout=1)
        await runner.setup()
        await web.SockSite(runner, self._socket).start()
        self._up.set()
        await self._ended.wait()
        await runner.cleanup()

    async def _answer(self, request: web.BaseRequest) -> web.Response:
        headers = {name.lower(): value for name, value in request.headers.items()}
        if headers.get("host", "").rpartition(":")[0] not in ("127.0.0.1", "localhost"):
            return web.Response(status=421)  # a page of somebody's that had its name lead here (RFC 9110, 15.5.20)
        url = request.rel_url
        sent = self.copy.answer(
            request.method, url.raw_path, url.raw_query_string, headers, await request.read(), self.url
        )
        response = web.Response(status=sent.status, body=sent.content, headers=sent.headers)
        for name, value in sent.cookies.items():
            response.headers.add("Set-Cookie", f"{name}={value}; Path=/; HttpOnly")
        return response

"""aiohttp, loaded without the machine's certificate authorities: they are read when somebody is first judged by them.

It reads them when it is loaded, which takes longer than all the rest of it, and most of it for nothing: each system's
own are read when that is spoken to.
"""

from __future__ import annotations

import ssl
from functools import cache
from typing import Any

_made = ssl.create_default_context


class _Later(ssl.SSLContext):
    """Judges as a default context does, which is made when the first connection asks for it."""

    def wrap_bio(self, *args: Any, **kwargs: Any) -> ssl.SSLObject:
        return _read().wrap_bio(*args, **kwargs)

    def wrap_socket(self, *args: Any, **kwargs: Any) -> ssl.SSLSocket:
        return _read().wrap_socket(*args, **kwargs)


@cache
def _read() -> ssl.SSLContext:
    context = _made()
    context.set_alpn_protocols(("http/1.1",))  # as aiohttp does
    return context


def _later(*args: Any, **kwargs: Any) -> ssl.SSLContext:
    return _made(*args, **kwargs) if args or kwargs else _Later(ssl.PROTOCOL_TLS_CLIENT)


ssl.create_default_context = _later
try:
    import aiohttp
finally:
    ssl.create_default_context = _made

__all__ = ["aiohttp"]

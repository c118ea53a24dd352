"""aiohttp, loaded without the machine's certificate authorities: they are read when somebody is first judged by them.

It reads them twice when it is loaded, which takes longer than all the rest of it, and most of it for nothing: each
system's own are read when that is spoken to, and its second context judges nobody.
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


def _unread(self: ssl.SSLContext) -> None:
    """In place of reading them into the context that judges nobody."""
    if self.verify_mode is not ssl.CERT_NONE:
        super(ssl.SSLContext, self).set_default_verify_paths()


ssl.create_default_context = _later
ssl.SSLContext.set_default_verify_paths = _unread  # type: ignore[method-assign]
try:
    import aiohttp
finally:
    ssl.create_default_context = _made
    del ssl.SSLContext.set_default_verify_paths  # what it inherits holds again

__all__ = ["aiohttp"]

"""Every error that Concordex raises on purpose.

    ConcordexError          status 1
      CalledWrongly         status 2: an unknown name, an option that makes no sense
        QueryError          a filter, with the place of the mistake
      DocumentError         a workspace or dialect file, with file, line and key
      StoreError            the folder below the workspace, or the catalogue in it
      WireError             talking to a system
        Unreachable         network fault: no name, no route, cut off, timed out
        Untrusted           TLS: the certificate is not trusted
        SignInRefused       401 or 403: wrong, expired or too weak a credential
        RequestRefused      any other 4xx: our request is at fault
          Duplicate         such a record is there already
          Withheld          not sent: a value that it needs is not there, or a secret that stood in it was not kept
          Conflict          somebody else altered it meanwhile
        ServerFault         5xx or 429, after the tries that were allowed
        BadAnswer           an answer came, and it cannot be read as promised
        ForeignHost         a link or redirect leads away from the system's own host
      SecretError           a credential that cannot be found
      Stopped               status 5: a guard or the person stopped it

An error says what happened, ``where``, ``why`` as far as known, and what to do ``next``.
"""

from __future__ import annotations

from typing import Any


def _masked(text: str) -> str:
    from concordex.unseen import masked  # when first something goes wrong: most commands begin sooner

    return masked(text)


class ConcordexError(Exception):
    """Something that a person should read, not a trace; no text of it holds a secret."""

    status = 1

    def __init__(self, what: str, *, where: str = "", why: str = "", advice: str = "") -> None:
        super().__init__(_masked(what))
        self.what, self.where, self.why, self.advice = what, where, why, advice

    def __setattr__(self, name: str, value: object) -> None:
        super().__setattr__(name, _masked(value) if isinstance(value, str) else value)

    def __str__(self) -> str:
        place = f"{self.where}: " if self.where else ""
        reason = f" ({self.why})" if self.why else ""
        return f"{place}{self.what}{reason}"


class CalledWrongly(ConcordexError):
    """The call itself cannot be meant as it stands."""

    status = 2


class QueryError(CalledWrongly):
    """A mistake in a filter expression; ``start`` and ``end`` bound it in ``text``."""

    def __init__(self, what: str, text: str, start: int, end: int, advice: str = "") -> None:
        super().__init__(what, advice=advice)
        self.text, self.start, self.end = text, start, max(end, start + 1)

    def __str__(self) -> str:
        caret = " " * self.start + "^" * (self.end - self.start)
        return f"{self.what}\n    {self.text}\n    {caret}"


class DocumentError(ConcordexError):
    """A file of ours that is not as its format asks: every fault, each with line and key."""

    def __init__(self, path: str, faults: list[tuple[int, str, str]], advice: str = "") -> None:
        self.path, self.faults = path, faults
        lines = [f"{f'line {line}: ' if line else ''}{f'{key}: ' if key else ''}{text}" for line, key, text in faults]
        super().__init__("\n  ".join(lines), where=path, advice=advice)


class StoreError(ConcordexError):
    """The store cannot be read or written."""


class SecretError(ConcordexError):
    """A secret that is named in the workspace cannot be had."""


class WireError(ConcordexError):
    """Talking to a system failed; ``untouched`` where the request cannot have had any effect."""

    untouched = False


class Unreachable(WireError):
    """The network did not carry the request or its answer.

    ``nameless`` where the host's name does not resolve; ``untouched`` where no connection came about.
    """

    def __init__(self, what: str, *, nameless: bool = False, untouched: bool = False, **rest: str) -> None:
        super().__init__(what, **rest)
        self.nameless, self.untouched = nameless, untouched or nameless


class Untrusted(WireError):
    """The system's certificate is not trusted."""

    untouched = True


class SignInRefused(WireError):
    """The system does not accept the credential (401), or not for this (403)."""

    def __init__(self, what: str, *, http: int, **rest: str) -> None:
        super().__init__(what, **rest)
        self.http = http


class RequestRefused(WireError):
    """The system refused the request (4xx); ``body`` is its decoded answer where it has one.

    ``because`` are reasons that whoever sent it adds, in place of ``why``.
    """

    because: Any = ()

    def __init__(self, what: str, *, http: int, body: object = None, **rest: str) -> None:
        super().__init__(what, **rest)
        self.http, self.body = http, body


class Duplicate(RequestRefused):
    """The system refused to make a record that is there already."""


class Withheld(RequestRefused):
    """It was not sent: a value that it needs is not there, or a secret of ours that stood in it was not kept."""

    def __init__(self, what: str, **rest: str) -> None:
        super().__init__(what, http=0, **rest)


class Conflict(RequestRefused):
    """The system refused a write because something else was written meanwhile."""


class ServerFault(WireError):
    """The system failed (5xx) or was too busy (429).

    ``untouched`` where it says that it did not take the request: 429 (RFC 6585, section 4), its own word for busy,
    or 503 with Retry-After (RFC 9110, section 15.6.4).
    """

    def __init__(
        self, what: str, *, http: int, wait: float | None = None, untouched: bool = False, **rest: str
    ) -> None:
        super().__init__(what, **rest)
        self.http, self.wait, self.untouched = http, wait, untouched


class BadAnswer(WireError):
    """The answer is not what the dialect says it should be; ``cut`` where it ended too early."""

    def __init__(self, what: str, *, cut: bool = False, **rest: str) -> None:
        super().__init__(what, **rest)
        self.cut = cut


class NotRecorded(BadAnswer):
    """A recording, in the place of a system, was not asked this when it was made."""


class ForeignHost(WireError):
    """A link leads to another host, where our credentials must not go."""


class Stopped(ConcordexError):
    """A guard or the person stopped the run."""

    status = 5

"""An HTTP Archive, as browsers save what a page asked (HAR 1.2), read entry by entry however long it is."""

from __future__ import annotations

import base64
import binascii
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, unquote, urlsplit

import xxhash

from concordex.errors import BadAnswer, DocumentError
from concordex.insight.recorded import KEPT, Recorded, leaves, shortened
from concordex.wire import dialect as d
from concordex.wire.http.formats import decode

#: A body that is longer is not taken apart: it is no list that a console shows.
_LONGEST = 20_000_000
#: So much is read at once: a text that goes over several pieces is looked through from its beginning with each.
_BUFFER = 4_000_000


@dataclass
class Archive:
    """The entries of a file, where a text that is ``sought`` stands in them, and what of it could not be read."""

    path: Path
    sought: str | None = None
    kept: int = KEPT  # so many records of a list
    notes: list[str] = field(default_factory=list)

    def calls(self) -> Iterator[Recorded]:
        """Each entry in its turn; a file that ends in the middle gives what stands before."""
        import ijson  # type: ignore[import-untyped]

        odd, number = 0, 0
        try:
            with self.path.open("rb") as file:
                for entry in ijson.items(file, "log.entries.item", use_float=True, buf_size=_BUFFER):
                    number += 1
                    try:
                        yield _recorded(number, entry, self.sought, self.kept)
                    except (KeyError, TypeError, ValueError, AttributeError):
                        odd += 1
        except ijson.JSONError as error:
            if not number:
                raise DocumentError(str(self.path), [(0, "", f"no HTTP Archive: {_said(error)}")]) from error
            self.notes.append(f"{self.path} ends, or breaks off, after {number:,} requests: {_said(error)}")
        except OSError as error:
            raise DocumentError(str(self.path), [(0, "", f"cannot be read: {error.strerror or error}")]) from error
        if not number:
            raise DocumentError(str(self.path), [(0, "log.entries", "holds no request: is it an HTTP Archive?")])
        if odd:
            self.notes.append(f"{odd:,} of {number:,} requests are not as HAR 1.2 says, and were left out")


def _said(error: Exception) -> str:
    return str(error).split("\n")[0].strip()[:120]


def _recorded(number: int, entry: Mapping[str, Any], sought: str | None, kept: int) -> Recorded:
    asked, came = entry["request"], entry["response"]
    parts = urlsplit(asked["url"])
    content = came.get("content") or {}
    kind = str(content.get("mimeType") or "").partition(";")[0].strip().lower()
    answer, cut = _answer(content, kind)
    return Recorded(
        number=number, at=_moment(entry["startedDateTime"]), method=str(asked["method"]).upper(), host=parts.netloc,
        path=unquote(parts.path), query=parse_qsl(parts.query, keep_blank_values=True), headers=_pairs(asked),
        sent=shortened(_sent(asked.get("postData") or {}), kept), status=int(came["status"]), kind=kind,
        answer_headers=_pairs(came), answer=shortened(answer, kept), size=int(content.get("size") or 0), cut=cut,
        digest=xxhash.xxh3_128_hexdigest(str(content.get("text") or "").encode()), found=_places(answer, sought),
    )  # fmt: skip


def _places(answer: Any, sought: str | None) -> list[str]:
    """Where an answer holds a text, without regard to case; of a list the place in any record."""
    if sought is None:
        return []
    word = sought.lower()
    told = (re.sub(r"\[\d+\]", "[*]", place) for place, value in leaves(answer) if word in value.lower())
    return list(dict.fromkeys(told))


def _moment(text: str) -> datetime:
    at = datetime.fromisoformat(text)
    return at if at.tzinfo else at.replace(tzinfo=UTC)


def _pairs(message: Mapping[str, Any]) -> list[tuple[str, str]]:
    return [(str(header["name"]), str(header["value"])) for header in message.get("headers") or []]


def _sent(posted: Mapping[str, Any]) -> Any:
    kind = str(posted.get("mimeType") or "")
    if "json" in kind or str(posted.get("text") or "").lstrip()[:1] in ("{", "["):
        return _json(posted.get("text"))
    if "x-www-form-urlencoded" in kind:
        given = posted.get("params") or []
        return {p["name"]: p.get("value") for p in given} if given else dict(parse_qsl(posted.get("text") or ""))
    return posted.get("text")


def _answer(content: Mapping[str, Any], kind: str) -> tuple[Any, bool]:
    """The body as JSON, where it is that; and whether it was cut off."""
    text = content.get("text")
    if not isinstance(text, str) or len(text) > _LONGEST:
        return None, False
    if content.get("encoding") == "base64":
        if "json" not in kind:
            return None, False
        try:
            text = base64.b64decode(text).decode()
        except (binascii.Error, UnicodeDecodeError):
            return None, True
    looks = text.lstrip()[:1] in ("{", "[")
    if "xml" in kind and "html" not in kind and "svg" not in kind:
        return _xml(text)
    if "json" not in kind and not looks:
        return None, False
    body = _json(text)
    return body, body is None and looks


def _xml(text: str) -> tuple[Any, bool]:
    try:
        return decode(text.encode(), d.XmlShape(by="xml")), False
    except BadAnswer as error:
        return None, error.cut


def _json(text: str | None) -> Any:
    try:
        return json.loads(text) if text else None
    except ValueError:
        return None

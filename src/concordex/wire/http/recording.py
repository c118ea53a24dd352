"""What was asked and answered, kept as an HTTP Archive (HAR 1.2) without secrets; and answered again from it."""

from __future__ import annotations

import base64
import json
from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import UTC, datetime
from pathlib import Path
from typing import Any, BinaryIO
from urllib.parse import parse_qsl, urlencode, urlsplit

from multidict import CIMultiDict
from yarl import URL

from concordex.errors import DocumentError, NotRecorded
from concordex.unseen import HIDDEN, UNSEEN, is_credential
from concordex.wire import dialect as d
from concordex.wire.http.answers import Reply
from concordex.wire.http.transport import Endpoint, Transport

#: Headers of an answer that a recording keeps: what a dialect may read, and what says how the body is to be read.
_LEFT_OUT = {"date", "server", "connection", "keep-alive", "transfer-encoding", "content-encoding", "content-length"}


@dataclass(frozen=True, kw_only=True)
class Sending:
    """One request and its reply; ``secret`` where it opened a session."""

    method: str
    url: str
    headers: Mapping[str, str]
    body: bytes | None
    reply: Reply
    began: datetime
    took: float  # milliseconds
    secret: bool = False
    dated: datetime | None = None  # what time it was there, by the first answer that told it


class Recorder:
    """Writes what is sent into a file as it goes; each entry when the next one comes.

    What signing in gave is known by then, and nothing is ever written with a secret in it.
    """

    def __init__(self, path: Path, system: str, dialect: str) -> None:
        self.path, self._head = path, {"_system": system, "_dialect": dialect}
        self._waiting: Sending | None = None
        self._file: BinaryIO | None = None
        self._count = 0

    def __call__(self, sending: Sending) -> None:
        """Take down one request with its reply."""
        waiting, self._waiting = self._waiting, sending
        if waiting is not None:
            self._write(waiting)

    def close(self) -> None:
        """Write what is left, and the end of the file."""
        waiting, self._waiting = self._waiting, None
        if waiting is not None:
            self._write(waiting)
        if self._file is not None:
            self._file.write(b"\n]}}\n")
            self._file.close()
            self._file = None

    def _write(self, sending: Sending) -> None:
        if self._file is None:
            self._file = self.path.open("wb")
            self.path.chmod(0o600)
            head = {"version": "1.2", "creator": {"name": "concordex", "version": "1"}, **self._head}
            self._file.write(b'{"log": ' + json.dumps(head)[:-1].encode() + b', "entries": [\n')
        self._file.write((b",\n" if self._count else b"") + json.dumps(_entry(sending), ensure_ascii=False).encode())
        self._count += 1


def _entry(sending: Sending) -> dict[str, Any]:
    url = UNSEEN.hidden(sending.url)
    asked: dict[str, Any] = {
        "method": sending.method, "url": url, "httpVersion": "HTTP/1.1", "cookies": [], "headersSize": -1,
        "headers": _pairs(sending.headers.items()), "bodySize": len(sending.body or b""),
        "queryString": [{"name": n, "value": v} for n, v in parse_qsl(urlsplit(url).query, keep_blank_values=True)],
    }  # fmt: skip
    if sending.body:
        kind = sending.headers.get("Content-Type", "")
        asked["postData"] = {"mimeType": kind, "text": UNSEEN.hidden(sending.body.decode(errors="replace"))}
    reply = sending.reply
    kept = [(name, value) for name, value in reply.headers.items() if name.lower() not in _LEFT_OUT]
    kind = reply.headers.get("Content-Type", "")
    came = {
        "status": reply.status, "statusText": "", "httpVersion": "HTTP/1.1", "cookies": [], "redirectURL": "",
        "headers": _pairs(kept), "headersSize": -1, "bodySize": len(reply.content),
        "content": {"size": len(reply.content), "mimeType": kind, **_content(reply.content, secret=sending.secret)},
    }  # fmt: skip
    return {
        "startedDateTime": sending.began.isoformat(), "time": sending.took, "request": asked, "response": came,
        "cache": {}, "timings": {"send": 0, "wait": sending.took, "receive": 0}, "_opens_session": sending.secret,
        **({"_now_there": sending.dated.isoformat()} if sending.dated else {}),
    }  # fmt: skip


def _pairs(headers: Any) -> list[dict[str, str]]:
    """Headers without a credential: of a cookie that is set its name and its attributes stay."""
    told = []
    for name, value in headers:
        if name.lower() == "set-cookie":
            pair, semicolon, rest = value.partition(";")
            shown = f"{pair.partition('=')[0]}={HIDDEN}{semicolon}{rest}"
        else:
            shown = HIDDEN if is_credential(name) else UNSEEN.hidden(value)
        told.append({"name": name, "value": shown})
    return told


def _content(content: bytes, *, secret: bool) -> dict[str, str]:
    try:
        text = content.decode()
    except UnicodeDecodeError:
        return {"text": base64.b64encode(content).decode(), "encoding": "base64"}
    return {"text": UNSEEN.hidden(text) if secret else UNSEEN.hidden(text, words=False)}


@dataclass
class Played:
    """The entries of a recording by what was asked; what was asked twice has one answer after the other."""

    path: Path
    system: str
    dialect: str
    began: datetime
    url: str
    now_there: datetime | None = None  # by the clock of the system
    _replies: dict[str, list[Reply]] = field(default_factory=lambda: defaultdict(list))
    _opening: dict[str, list[Reply]] = field(default_factory=lambda: defaultdict(list))
    _given: dict[str, int] = field(default_factory=lambda: defaultdict(int))

    def take(self, entry: Mapping[str, Any]) -> None:
        """Add an entry of the file."""
        asked, came = entry["request"], entry["response"]
        headers: CIMultiDict[str] = CIMultiDict((pair["name"], pair["value"]) for pair in came.get("headers") or [])
        content = came.get("content") or {}
        text = str(content.get("text") or "")
        packed = base64.b64decode(text) if content.get("encoding") == "base64" else text.encode()
        headers.setdefault("Content-Length", str(len(packed)))
        reply = Reply(
            int(came["status"]),
            packed,
            headers,
            headers.getall("Set-Cookie", []),
            headers.getall("Link", []),
            asked["url"],
        )
        sent = str((asked.get("postData") or {}).get("text") or "").encode() or None
        self._replies[_key(asked["method"], asked["url"], sent)[0]].append(reply)
        if entry.get("_now_there"):
            self.now_there = datetime.fromisoformat(entry["_now_there"])
        if entry.get("_opens_session"):
            self._opening[f"{asked['method']} {urlsplit(asked['url']).path}"].append(reply)

    def reply(self, method: str, url: str, body: bytes | None, *, secret: bool) -> Reply:
        """The answer to a request, as it came then; raises NotRecorded where nothing like it was asked."""
        key, ids = _key(method, url, body)
        found = self._replies.get(key)
        if not found and secret:  # whoever opened the session then is not who does now
            found = self._opening.get(f"{method} {urlsplit(url).path}")
        if not found:
            parts = urlsplit(url)
            raise NotRecorded(
                f"the recording {self.path.name} holds no {method} {parts.path}{'?' if parts.query else ''}"
                f"{UNSEEN.text(parts.query)}",
                where=self.system, advice="a recording answers what was asked when it was made, and nothing else",
            )  # fmt: skip
        at = min(self._given[key], len(found) - 1)
        self._given[key] += 1
        return _with_ids(found[at], ids) if ids else found[at]


def played(path: Path) -> Played:
    """A recording, to be answered from; raises DocumentError where it is none."""
    import ijson  # type: ignore[import-untyped]

    made: Played | None = None
    try:
        with path.open("rb") as file:
            names = {name: next(ijson.items(file, f"log.{name}"), "") for name in ("_system",)}
            file.seek(0)
            names["_dialect"] = next(ijson.items(file, "log._dialect"), "")
            file.seek(0)
            for entry in ijson.items(file, "log.entries.item", use_float=True):
                made = made or _begun(path, names, entry)
                made.take(entry)
    except (ijson.JSONError, AttributeError, KeyError, TypeError, ValueError) as error:
        raise DocumentError(str(path), [(0, "", f"is no recording that can be played: {_first(error)}")]) from error
    except OSError as error:
        raise DocumentError(str(path), [(0, "", f"cannot be read: {error.strerror or error}")]) from error
    if made is None:
        raise DocumentError(str(path), [(0, "log.entries", "holds no request")])
    return made


def _first(error: Exception) -> str:
    return str(error).strip().split("\n")[0].strip()


def _begun(path: Path, names: Mapping[str, str], entry: Mapping[str, Any]) -> Played:
    at = datetime.fromisoformat(entry["startedDateTime"])
    parts = urlsplit(entry["request"]["url"])
    began = at if at.tzinfo else at.replace(tzinfo=UTC)
    system = names["_system"] or path.stem
    return Played(path, system, names["_dialect"], began, f"{parts.scheme}://{parts.netloc}")


def _key(method: str, url: str, body: bytes | None) -> tuple[str, list[Any]]:
    """What tells one request from another, and the numbers of its calls of JSON-RPC, which do not."""
    parts = urlsplit(url)
    query = urlencode(sorted(parse_qsl(parts.query, keep_blank_values=True)))
    sent, ids = body.decode(errors="replace") if body else "", list[Any]()
    try:
        value = json.loads(sent) if sent[:1] in ("{", "[") else None
    except ValueError:
        value = None
    if value is not None:
        calls = value if isinstance(value, list) else [value]
        if all(isinstance(call, dict) and call.get("jsonrpc") for call in calls):
            ids = [call.pop("id", None) for call in calls]
        sent = json.dumps(value, sort_keys=True)
    return f"{method} {parts.path}?{query} {sent}", ids


def _with_ids(reply: Reply, ids: Sequence[Any]) -> Reply:
    """An answer of JSON-RPC under the numbers of who asks now, in the order in which they were asked then."""
    body = json.loads(reply.content or b"null")
    answers = body if isinstance(body, list) else [body]
    known = sorted(
        (answer for answer in answers if isinstance(answer, dict)), key=lambda answer: str(answer.get("id")).zfill(12)
    )
    for answer, number in zip(known, ids, strict=False):
        answer["id"] = number
    return Reply(reply.status, json.dumps(body).encode(), reply.headers, reply.cookies, reply.links, reply.url)


class PlayedTransport(Transport):
    """Answers from a recording; nothing leaves this machine."""

    def __init__(self, endpoint: Endpoint, dialect: d.Dialect, recording: Played) -> None:
        super().__init__(endpoint, dialect)
        self._recording, self._pause = recording, 0.0

    async def open(self) -> None:
        """Nothing is needed."""

    async def close(self) -> None:
        """Nothing was opened."""

    def forget_cookies(self) -> None:
        """There are none."""

    async def send(
        self, method: str, url: URL, headers: Mapping[str, str], body: bytes | None, *, gives_secrets: bool = False
    ) -> Reply:
        """What was answered then."""
        del headers
        self.traffic.requests += 1
        reply = self._recording.reply(method, str(url), body, secret=gives_secrets)
        self.traffic.received += len(reply.content)
        return reply


def recordings(folder: Path) -> Iterator[Path]:
    """The recordings in a folder, in the order of their names; or the one that is named."""
    yield from sorted(folder.glob("*.har")) if folder.is_dir() else [folder]

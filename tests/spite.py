"""A server that takes records and answers as it pleases: late, cut, twice, under wrong ids, or with lies."""

from __future__ import annotations

import threading
import time
import zlib
from collections import Counter
from collections.abc import Callable, Sequence
from copy import deepcopy
from pathlib import Path
from typing import Any

from tests.conftest import Near
from tests.lamplight import Lamplight

#: What a write may meet; all but the first are spite.
MANNERS = (
    "ok", "late", "cut", "cut_before", "fail", "fail_after", "bare", "fewer", "wrong", "lie", "twice", "busy", "away",
    "part",
)  # fmt: skip
#: Those after which nothing was done.
UNDONE = ("cut_before", "fail", "lie", "busy", "away")

DIALECT = """
format: 1
name: spite
title: Spite
shape: {by: json}
limits: {settles: SETTLES, timeout: TIMEOUT, tries: 3}
tables:
  sites:
    read: {path: /sites, records: all, complete: one answer holds all}
    fields: {record_id: id, name: label}
    write:
      keys: name
      required: name
      fields: {name: label}
      create: {path: /sites}
      delete: {path: "/sites/{record_id}"}
  devices:
    read: {path: /devices, records: all, complete: one answer holds all}
    fields:
      record_id: id
      name: label
      site: {from: room, via: sites}
      comment: {from: note, type: text}
      position: {from: at, type: number}
      status: mood
      seen: {from: seen, type: time}
    write:
      keys: name
      required: name
      fields: {name: label, comment: {to: note, empty: ""}, position: {to: at, number: true}, seen: seen}
      references: {site: {to: room, via: sites, by: {name: site}}}
      create: {path: /devices MANY}
      update: {path: "/devices/{record_id}" HOW}
      delete: {path: "/devices/{record_id}"}
      actions: {ring: {path: "/devices/{record_id}/ring"}}
"""


class Spite:
    """Records by table and id; each write takes the next of ``plan``, and is well done when that is empty."""

    def __init__(self) -> None:
        self.tables: dict[str, dict[int, dict[str, Any]]] = {"sites": {}, "devices": {}}
        self.plan: list[str] = []
        self.only = ("POST", "PUT", "PATCH", "DELETE")  # which requests are met with spite
        self.delay = 0.5
        self.rung: list[int] = []
        self.asked: Counter[str] = Counter()
        self.rival: Callable[[str, str], None] = lambda method, path: None  # what others do at every request
        self.meets: Callable[..., tuple | None] = lambda *_: None  # how writes are met, where not by doing them
        self.took = 0.0  # seconds for every write
        self.forbidden: set[str] = set()
        self.tags = True
        self.lists: list[dict[str, str]] = []  # what the list of devices was asked with
        self.narrow: Callable[[list, dict[str, str]], list] = lambda records, query: records
        self.objects: Callable[[dict[str, str]], tuple | None] = lambda query: None
        self.sent: list[tuple[str, Any, str | None]] = []
        self._next, self._lock = 100, threading.Lock()

    def put(self, table: str, **members: Any) -> int:
        """A record that is there."""
        with self._lock:
            self._next += 1
            self.tables[table][self._next] = {"id": self._next, **members}
            return self._next

    def labels(self, table: str = "devices") -> Counter[str]:
        """How many records bear each name."""
        return Counter(one["label"] for one in list(self.tables[table].values()))

    def __call__(self, method: str, path: str, query: dict, body: Any, headers: dict[str, str]) -> tuple:
        """Answer one request."""
        self.rival(method, path)
        _, table, *more = path.split("/")
        self.asked[method] += 1
        if method == "GET":
            return self._read(table, more, query)
        manner = self.plan.pop(0) if self.plan and method in self.only else "ok"
        told = {
            "cut_before": (0, b""), "fail": (500, {"why": "out of order"}), "away": (503, {}, [("Retry-After", "0")]),
            "busy": (429, {"why": "slow down"}),
        }  # fmt: skip
        if manner in told:
            return told[manner]
        if manner == "part":  # it goes through a list until it meets a record that it does not like: the last
            self._met(method, table, more, body[:-1], headers) if method == "POST" and isinstance(body, list) else None
            return 400, {"why": "not this one"}
        if manner == "lie":
            sent = body if isinstance(body, list) else [body]
            return 200, [{"id": 9000 + at} for at in range(len(sent))] if isinstance(body, list) else {"id": 9000}
        if manner == "late":
            threading.Timer(self.delay, self._met, (method, table, more, body, headers)).start()
            return 504, {"why": "the gateway gave up"}
        time.sleep(self.took)
        done = self._met(method, table, more, deepcopy(body), headers)
        if manner == "twice" and method == "POST":
            self._met(method, table, more, deepcopy(body), headers)
        return self._said(manner, done)

    def _said(self, manner: str, done: tuple) -> tuple:
        said = done[1]
        if done[0] >= 400 or manner in ("ok", "twice"):
            return done
        if manner == "fewer":
            return done[0], said[:-1] if isinstance(said, list) else {}
        if manner == "wrong":
            wrong = min(self.tables["devices"], default=1)
            return done[0], [{"id": wrong} for _ in said] if isinstance(said, list) else {"id": wrong}
        return {"cut": (0, b""), "fail_after": (500, {}), "bare": (202, {})}[manner]

    def _read(self, table: str, more: list[str], query: dict[str, str]) -> tuple:
        records = list(self.tables[table].values())
        if table == "devices" and not more:
            self.lists.append(query)
            if refused := self.objects(query):
                return refused
            records = self.narrow(records, query)
        if more:
            one = self.tables[table].get(int(more[0]))
            tag = [("ETag", ("W/" if self.tags == "weak" else "") + _tag(one))] if one and self.tags else []
            return (200, deepcopy(one), tag) if one else (404, {"why": "no such record"})
        return 200, {"all": deepcopy(records), "n": len(records)}

    def _met(self, method: str, table: str, more: list[str], body: Any, headers: dict[str, str]) -> tuple:
        """What is answered to a write: as ``meets`` says, where it says something."""
        said = self.meets(method, table, more, body, headers)
        return self.do(method, table, more, body, headers) if said is None else said

    def do(self, method: str, table: str, more: list[str], body: Any, headers: dict[str, str]) -> tuple:
        """Do what is asked."""
        held = self.tables[table]
        self.sent.append((method, body, headers.get("If-Match")))
        if method == "POST" and more:
            self.rung.append(int(more[0]))
            return 200, {}
        if method == "POST":
            listed = body if isinstance(body, list) else [body]
            if self.forbidden & {one["label"] for one in listed}:
                return 403, {"why": "not this one"}
            made = [{"id": self.put(table, **one)} for one in listed]
            return 201, made if isinstance(body, list) else made[0]
        if not more:  # a list of alterations
            for one in body:
                held[one["id"]] |= one
            return 200, {}
        number = int(more[0])
        if number in held and headers.get("If-Match") not in (None, _tag(held[number])):
            return 412, {"why": "somebody was faster"}
        if number not in held:
            return 404, {"why": "no such record"}
        if held[number]["label"] in self.forbidden:
            return 403, {"why": "not this one"}
        if method == "DELETE":
            del held[number]
        elif method == "PATCH":
            held[number] |= body
        else:
            held[number] = {"id": number, **body}
        return 200, {}


def _tag(record: dict[str, Any]) -> str:
    return f'"{zlib.crc32(repr(sorted(record.items())).encode())}"'


def spiteful(
    folder: Path, serve: Callable[..., Lamplight], *, many: int = 1, how: str = "", settles: str = "1s",
    timeout: float = 5, more: Callable[[str], str] = str, also: Sequence[str] = (),
) -> tuple[Near, Spite]:  # fmt: skip
    """A workspace with one system that is spiteful, and that system."""
    spite = Spite()
    spite.tables |= {name: {} for name in also}
    url = serve(spite).url
    (folder / "dialects").mkdir(parents=True)
    text = DIALECT.replace(" MANY", f", batch_size: {many}" if many > 1 else "").replace(" HOW", how)
    text = text.replace("SETTLES", settles).replace("TIMEOUT", str(timeout))
    (folder / "dialects" / "spite.yaml").write_text(more(text))
    (folder / "concordex.yaml").write_text(
        f"format: 1\nsystems:\n  spite:\n    dialect: spite\n    url: {url}\nguards: {{creations: 5000, share: 1}}\n"
    )
    shell = Near(folder)
    shell("pull")
    return shell, spite

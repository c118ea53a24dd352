"""Requests that a browser recorded: which of them matter, what they have in common, and what opened the session."""

from __future__ import annotations

import re
from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from itertools import islice
from typing import Any

from concordex.insight.draft.seen import are_links
from concordex.insight.questions import AskedQuestion, question_of
from concordex.model import members
from concordex.unseen import HIDDEN

#: What a page is drawn with, by media type and by the ending of a path.
_DRAWN = re.compile(
    r"(text/(css|html|javascript)|application/(x-)?javascript|application/wasm|image/|font/|video/|audio/)"
)
_DRAWN_ENDING = re.compile(r"\.(js|mjs|css|map|png|jpe?g|gif|svg|ico|webp|woff2?|ttf|eot|html?|wasm)$", re.IGNORECASE)
#: A part of a path that is a value by its looks: a number, a UUID, hexadecimal, or a long mix of letters and digits.
_VALUE = re.compile(
    r"\d+|[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}|(?=.*\d)[0-9a-f]{6,}|(?=.*\d)(?=.*[A-Za-z])[\w.~=-]{12,}",
    re.IGNORECASE,
)
#: A release of an API, where nothing else ever stands in its place.
_RELEASE = re.compile(r"v?\d{1,2}(\.\d{1,2}){0,2}", re.IGNORECASE)
#: Members, parameters and headers that hold a secret, whatever stands there.  The kind of a token is none (RFC 6749,
#: section 5.1), nor is what leads to the next page.
_SECRET = re.compile(
    r"pass(word|phrase|wd)?$|secret|(?<!page)(?<!page[_-])(?<!skip)(?<!continuation)token(?!_?type)|api-?_?key|authorization|cookie|session_?(id|key)?$|^key$|credential"
    r"|csrf|xsrf",
    re.IGNORECASE,
)
#: A value that is shorter is in other places by chance.
_LONG, _SHORT, _KEY = 8, 3, 12
#: Operations that only read, by how they are commonly called.
_READING = re.compile(
    r"(^|[._])(get|list|read|look|find|search|query|fetch|show|detail|describe|info|view)", re.IGNORECASE
)
#: So many records of a list are kept, since a recording may hold very many; and to so many levels lists are looked for.
KEPT, _DEEP = 20, 4
#: So much of a text, and so many members, are kept of an answer: tokens are long, and files that are sent are longer.
_TEXT, _MEMBERS = 16_000, 5_000
#: One request that comes so often, each time the same, is a page that looks whether something has changed.
_OFTEN = 4
#: So many different words in one place of a path are values.
_SEVERAL = 3
MASK = "***"


@dataclass(frozen=True, kw_only=True)
class Recorded:
    """One request as it was recorded, with its answer: bodies where they could be taken apart, with short lists.

    ``digest`` tells one answer from another; ``found`` is where a text that was sought stands in it.
    """

    number: int
    at: datetime
    method: str
    host: str
    path: str
    query: Sequence[tuple[str, str]]
    headers: Sequence[tuple[str, str]]
    sent: Any
    status: int
    kind: str
    answer_headers: Sequence[tuple[str, str]]
    answer: Any
    size: int
    digest: str = ""
    found: Sequence[str] = ()
    cut: bool = False

    @property
    def operation(self) -> str | None:
        """The method of JSON-RPC 2.0, or the operation of GraphQL, that is asked for at one path."""
        if not isinstance(self.sent, Mapping):
            return None
        if "jsonrpc" in self.sent and isinstance(self.sent.get("method"), str):
            return str(self.sent["method"])
        return self.question.name if self.question else None

    @property
    def question(self) -> AskedQuestion | None:
        """What is asked as GraphQL."""
        return question_of(self.sent)


@dataclass(frozen=True, kw_only=True)
class CallGroup:
    """Requests of one form: their path with its variable parts, what was asked and what came."""

    method: str
    host: str
    path: str
    calls: Sequence[Recorded]

    @property
    def parameters(self) -> dict[str, list[str]]:
        """Each parameter of the address, and the values that it had."""
        seen: dict[str, dict[str, None]] = {}
        for call in self.calls:
            for name, value in call.query:
                seen.setdefault(name, {})[value] = None
        return {name: list(values) for name, values in seen.items()}

    @property
    def writes(self) -> bool:
        """Whether it may alter something: by its method; of one path for everything by the operation's kind or name."""
        if self.method in ("GET", "HEAD", "OPTIONS"):
            return False
        if any(call.question for call in self.calls):
            return not all(call.question and call.question.reads for call in self.calls)
        asked = self.calls[0].operation
        return asked is None or not _READING.search(asked)


@dataclass(frozen=True)
class GivenCredential:
    """What opened the session: the call whose answer holds what later calls carry, and where they carry it."""

    call: Recorded
    gives: str
    carried: str
    times: int


@dataclass(frozen=True, kw_only=True)
class Traced:
    """A recording, without noise: groups in the order of their first call, how it signed in, what was left out."""

    host: str
    groups: Sequence[CallGroup]
    sign_in: Sequence[GivenCredential]
    noise: Mapping[str, int] = field(default_factory=dict)
    secrets: int = 0


def traced(calls: Sequence[Recorded], host: str | None = None) -> Traced:
    """What a console asked of ``host``, or of the one that answered with most data."""
    noise: Counter[str] = Counter()
    data = [call for call in calls if _is_data(call, noise)]
    mine = host or _main_host(data)
    there = [call for call in data if call.host == mine]
    noise["of other hosts"] += len(data) - len(there)
    kept = list(_without_polling(there, noise))
    paths = _templates(kept)
    groups: dict[tuple[str, str], list[Recorded]] = defaultdict(list)
    for call in (one for batch in kept for one in _each_of_batch(batch)):
        path = paths[call.number] + (f" {call.operation}" if call.operation else "")
        groups[call.method, path].append(call)
    return Traced(
        host=mine, sign_in=list(_signed_in(there)), noise={what: count for what, count in noise.items() if count},
        secrets=len(set(_secrets_of(calls))),
        groups=[CallGroup(method=method, host=mine, path=path, calls=them) for (method, path), them in groups.items()],
    )  # fmt: skip


def _each_of_batch(call: Recorded) -> Iterator[Recorded]:
    """The calls of a batch of JSON-RPC 2.0 (its section 6) by themselves, each with its answer by its id."""
    sent, answer = call.sent, call.answer
    if not (isinstance(sent, list) and sent and all(isinstance(one, Mapping) and "jsonrpc" in one for one in sent)):
        yield call
        return
    by_id = {str(one.get("id")): one for one in answer if isinstance(one, Mapping)} if isinstance(answer, list) else {}
    for one in sent:
        came = by_id.get(str(one.get("id")))
        if came is not None:
            yield replace(call, sent=one, answer=came)


def _is_data(call: Recorded, noise: Counter[str]) -> bool:
    if call.method == "OPTIONS":
        noise["questions of the browser (OPTIONS)"] += 1
    elif call.answer is None and (_DRAWN.match(call.kind) or _DRAWN_ENDING.search(call.path)):
        noise["what the page is drawn with"] += 1
    else:
        return True
    return False


def _main_host(calls: Sequence[Recorded]) -> str:
    weight: Counter[str] = Counter()
    for call in calls:
        weight[call.host] += call.size if call.answer is not None else 0
    return max(weight, key=lambda host: (weight[host], host), default="")


def _without_polling(calls: Sequence[Recorded], noise: Counter[str]) -> Iterator[Recorded]:
    """Of one request that came again and again, always with the same answer, the first."""
    seen: dict[str, list[Recorded]] = defaultdict(list)
    for call in calls:
        seen[repr((call.method, call.path, call.query, call.sent, call.digest))].append(call)
    often = {call.number for same in seen.values() if len(same) >= _OFTEN for call in same[1:]}
    for call in calls:
        if call.number in often:
            noise["asked again and again, with the same answer"] += 1
        else:
            yield call


def _templates(calls: Sequence[Recorded]) -> dict[int, str]:
    """The path of each call with names in the place of values: what looks like one, and what varies where all else is
    the same."""
    parts = {call.number: call.path.strip("/").split("/") for call in calls}
    beside: dict[tuple[Any, ...], dict[str, set[str]]] = defaultdict(lambda: defaultdict(set))
    for call in calls:
        for at in range(1, len(parts[call.number])):
            beside[_beside(call, parts[call.number], at)][parts[call.number][at]].add(_form(call.answer))
    after: dict[tuple[str, ...], dict[str, set[tuple[str, ...]]]] = defaultdict(lambda: defaultdict(set))
    for own in parts.values():
        for at, part in enumerate(own):
            after[tuple(own[:at])][part].add(tuple(own[at + 1 :]))
    told = {}
    for call in calls:
        own, names = parts[call.number], list[str]()
        for at, part in enumerate(own):
            varies = at > 0 and _are_values(beside[_beside(call, own, at)])
            if part.isalpha() and at == len(own) - 1 and any(True for _ in lists_in(call.answer)):
                varies = False  # words at the end that each give a list are its names
            there = after[tuple(own[:at])]
            is_version = _RELEASE.fullmatch(part) and len(there) == 1 and len(there[part]) > 1
            is_value = _VALUE.fullmatch(part) and not is_version
            names.append(f"{{{_name(own, at)}}}" if is_value or varies else part)
        end = "/" if own != [""] and call.path.endswith("/") else ""  # to some systems another path
        told[call.number] = "/" + "/".join(names) + end
    return told


def _are_values(found: Mapping[str, set[str]]) -> bool:
    """Whether what stood in one place of a path are values: not words that each led to records of a form of its own."""
    forms = [form for own in found.values() for form in own]
    are_names = all(part.isalpha() for part in found) and len(set(forms)) == len(forms) and "" not in forms
    return len(found) >= _SEVERAL and not are_names


def _form(answer: Any) -> str:
    """The members that the records of an answer have, to the last; empty where it holds none."""
    longest = max((held for _, held in lists_in(answer) if not are_links(held)), key=len, default=LongList([], 0))
    return " ".join(sorted({re.sub(r"\[\d+\]", "", path) for one in longest for path, _ in leaves(one)}))


def _beside(call: Recorded, parts: Sequence[str], at: int) -> tuple[Any, ...]:
    """What must be the same for two paths to differ in one place alone: where it is, all else, and what comes."""
    return at, len(parts), (*parts[:at], *parts[at + 1 :]), members_of(call.answer)


def _name(parts: Sequence[str], at: int) -> str:
    before = parts[at - 1] if at else "id"
    word = re.sub(r"\W", "_", before if not _VALUE.fullmatch(before) else "id")
    return word[:-1] if word.endswith("s") and not word.endswith("ss") else word


def members_of(answer: Any) -> tuple[str, ...]:
    """The names of the members of an answer and of the records in its lists, by which things differ."""
    own = sorted(map(str, answer)) if isinstance(answer, Mapping) else []
    held = [name for _, records in lists_in(answer) for name in sorted(map(str, records[0]))]
    return (*own, *held)


class LongList(list[Any]):
    """The first records of a list, and how many it had in all."""

    def __init__(self, records: Sequence[Any], kept: int) -> None:
        super().__init__(shortened(record, kept) for record in records[:kept])
        self.total = len(records)


def shortened(body: Any, kept: int = KEPT) -> Any:
    """A body with short lists and texts, and with no more members than somebody would look at."""
    if isinstance(body, list):
        return LongList(body, kept)
    if isinstance(body, dict):
        return {name: shortened(held, kept) for name, held in islice(body.items(), _MEMBERS)}
    return body[:_TEXT] if isinstance(body, str) else body


def lists_in(value: Any, path: str = "$", depth: int = 0) -> Iterator[tuple[str, LongList]]:
    """Each list of objects in an answer, by its path, to the fourth level."""
    if isinstance(value, LongList):
        if value and all(isinstance(item, Mapping) for item in value):
            yield path, value
    elif isinstance(value, Mapping) and depth < _DEEP:
        for name, held in value.items():
            yield from lists_in(held, f"{path}.{name}" if path != "$" else str(name), depth + 1)


def totals_in(value: Any, path: str = "") -> Iterator[tuple[str, int]]:
    """Each whole number beside lists in an answer, by its path, to the second level: one of them may be a total."""
    if isinstance(value, Mapping) and path.count(".") < 2:
        for name, held in value.items():
            here = f"{path}.{name}" if path else str(name)
            if isinstance(held, int) and not isinstance(held, bool):
                yield here, held
            elif isinstance(held, Mapping):
                yield from totals_in(held, here)


def leaves(body: Any) -> Iterator[tuple[str, str]]:
    """Each value in a body as text, by its path."""
    return ((path, str(value)) for path, value in members.leaves(body) if value is not None)


def _credentials(call: Recorded) -> Iterator[tuple[str, str]]:
    """Where a call carries a credential, and what: of a cookie each by itself."""
    for name, value in call.headers:
        if name.lower() == "cookie":
            for pair in value.split(";"):
                cookie, _, held = pair.strip().partition("=")
                yield f"cookie {cookie}", held
        elif _SECRET.search(name):
            manner, space, held = value.partition(" ")
            yield (f"header {name} ({manner})", held) if space else (f"header {name}", value)
    for name, value in call.query:
        if _SECRET.search(name):
            yield f"parameter {name}", value


#: Headers of requests and answers that carry no credential, whatever stands in them (RFC 9110, and what browsers add).
_STANDARD = re.compile(
    r"accept.*|cache-control|connection|content-.*|date|dnt|etag|expires|host|if-.*|keep-alive|last-modified|link"
    r"|location|origin|pragma|priority|range|referer|server|te|trailer|transfer-encoding|upgrade.*|user-agent|vary|via"
    r"|sec-.*|x-requested-with|x-forwarded-.*|age|allow|retry-after|strict-transport-security|signature.*",
    re.IGNORECASE,
)


def _carried(call: Recorded) -> Iterator[tuple[str, str]]:
    """Where a call may carry what an answer gave, and what: headers of any name, cookies, parameters, members."""
    yield from _credentials(call)
    for name, value in call.headers:
        if name.lower() != "cookie" and not _SECRET.search(name) and not _STANDARD.fullmatch(name):
            yield f"header {name}", value
    if isinstance(call.sent, Mapping):
        for name, held in call.sent.items():
            if isinstance(held, str) and name not in ("jsonrpc", "method", "query", "id"):
                yield f"member {name}", held


def _signed_in(calls: Sequence[Recorded]) -> Iterator[GivenCredential]:
    """The answers that gave what later calls carry: by the value itself, not by what it is called."""
    given: dict[str, tuple[Recorded, str]] = {}
    carried: Counter[tuple[int, str, str]] = Counter()
    first: dict[tuple[int, str, str], tuple[Recorded, str, str]] = {}
    for call in calls:
        for where, value in _carried(call):
            if len(value) >= _LONG and value in given:
                source, place = given[value]
                key = (source.number, place, where)
                carried[key] += 1
                first.setdefault(key, (source, place, where))
        for place, value in leaves(call.answer):
            if len(value) >= _LONG:
                given.setdefault(value, (call, place))
        for name, value in call.answer_headers:
            if name.lower() == "set-cookie":
                cookie, _, held = value.partition(";")[0].partition("=")
                given.setdefault(held, (call, f"cookie {cookie.strip()}"))
            elif not _STANDARD.fullmatch(name) and len(value) >= _LONG:
                given.setdefault(value, (call, f"header {name}"))
    for key, (source, place, where) in first.items():
        yield GivenCredential(source, place, where, carried[key])


def _secrets_of(calls: Sequence[Recorded]) -> Iterator[str]:
    """Every value that stands where a secret stands, or is carried as one; not what was put in its place before."""
    yield from (value for value in _carried_or_named(calls) if len(value.replace(HIDDEN, "")) >= _SHORT)


def _carried_or_named(calls: Sequence[Recorded]) -> Iterator[str]:
    for call in calls:
        yield from (value for _, value in _credentials(call) if len(value) >= _SHORT)
        for name, value in call.headers:  # a header of any name may hold a key
            if not _STANDARD.fullmatch(name) and len(value) >= _KEY and re.search(r"\d", value):
                yield value
        for name, value in call.answer_headers:
            if name.lower() == "set-cookie":
                yield value.partition(";")[0].partition("=")[2]
        for body in (call.sent, call.answer):
            named = ((path.rpartition(".")[2], value) for path, value in leaves(body))
            yield from (value for name, value in named if _SECRET.search(name) and len(value) >= _SHORT)


def secrets_in(calls: Sequence[Recorded]) -> set[str]:
    """The values that are to be shown nowhere."""
    return {value for value in _secrets_of(calls) if len(value) >= _LONG}


def is_secret(name: str) -> bool:
    """Whether what is called so holds a secret."""
    return _SECRET.search(name) is not None


def is_standard(header: str) -> bool:
    """Whether a header of that name carries no credential, whatever stands in it."""
    return _STANDARD.fullmatch(header) is not None

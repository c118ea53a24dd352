"""What a console's recording shows of an API: its lists with their answers, and what it sent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Any
from urllib.parse import urlencode

from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, OneSeen, WriteSeen, lists
from concordex.insight.recorded import CallGroup, Recorded, is_secret, leaves, secrets_in, traced
from concordex.unseen import UNSEEN
from concordex.work.learn.archive import Archive
from concordex.work.learn.from_sign_in import add_sign_in

#: So many records of a list in a recording are looked at.
_KEPT = 2_000
#: So many different words in a parameter are kinds of thing; more are the records of another list.
_KINDS = 6
_SAYS_WHY = re.compile(r"(^|\.)(message|text|detail|reason|why|error|title|description|words)$", re.IGNORECASE)


def of_recording(path: Path) -> ApiSeen:
    """What a console's recording shows; its secrets are masked from here on."""
    archive = Archive(path, kept=_KEPT)
    calls = list(archive.calls())
    UNSEEN.know(secrets_in(calls))
    told = traced(calls)
    seen = ApiSeen(title=told.host, notes=list(archive.notes))
    for group in told.groups:
        if group.writes:
            sent = group.calls[0].sent
            seen.writes.append(WriteSeen(method=group.method, path=group.path, sends=_names(sent)))
            if group.calls[0].operation and any(True for call in group.calls for _ in lists(_result(call.answer))):
                named = group.calls[0].operation
                seen.notes.append(f"{named} answered with records; its name does not say that it only reads: no table")
            continue
        if group.calls[0].operation and isinstance(group.calls[0].sent, Mapping) and "jsonrpc" in group.calls[0].sent:
            seen.rpc = group.path.removesuffix(f" {group.calls[0].operation}")
            called = _recorded_list(group)
            seen.lists += _of_methods(called)
            seen.ones += [
                OneSeen(path=called.path, rpc=called.rpc, values=answer.parameters, body=answer.body)
                for answer in called.answers
                if answer.parameters and isinstance(answer.body, Mapping) and not any(True for _ in lists(answer.body))
            ]
            continue
        if group.calls[0].question:
            seen.lists += _of_questions(group)
            continue
        listed = _recorded_list(group)
        if any(call.kind.endswith("xml") for call in group.calls):
            seen.shape = "xml"
        seen.ones += [OneSeen(path=listed.path, values=a.values, body=a.body) for a in listed.answers if a.values]
        if any(True for answer in listed.answers for _ in lists(answer.body)):
            seen.lists.append(listed)
    add_sign_in(seen, told.sign_in, [call for group in told.groups for call in group.calls])
    seen.error = next((why for group in told.groups for call in group.calls if (why := _why(call))), None)
    return seen


def _result(answer: Any) -> Any:
    return answer.get("result") if isinstance(answer, Mapping) else None


def _names(body: Any) -> list[str]:
    return list(map(str, body)) if isinstance(body, Mapping) else []


def _recorded_list(group: CallGroup) -> ListSeen:
    operation = group.calls[0].operation
    path = group.path.removesuffix(f" {operation}") if operation else group.path
    listed = ListSeen(path=path, rpc=operation, from_="the recording", headers=_headers(group))
    for call in group.calls:
        if not 200 <= call.status < 300:
            continue
        body, asked = call.answer, dict(call.query)
        if operation and isinstance(call.sent, Mapping) and isinstance(body, Mapping):
            body, params = body.get("result"), call.sent.get("params")
            asked = {n: str(v) for n, v in params.items()} if isinstance(params, Mapping) else {}
        asked = {name: value for name, value in asked.items() if not is_secret(name)}
        listed.answers.append(
            AnswerSeen(
                parameters=asked, body=body, values=_stood(path, call.path),
                headers={name.lower(): value for name, value in call.answer_headers},
                url=f"{call.path}?{urlencode(call.query)}" if call.query else call.path,
            )
        )  # fmt: skip
    return listed


def _of_methods(listed: ListSeen) -> Iterator[ListSeen]:
    """A method of JSON-RPC as one list for each kind of thing that it is asked for, or for each record of another."""
    by_words: dict[tuple[tuple[str, str], ...], list[AnswerSeen]] = {}
    for answer in listed.answers:
        if any(True for _ in lists(answer.body)):
            said = tuple(sorted((n, v) for n, v in answer.parameters.items() if not v.isdecimal()))
            by_words.setdefault(said, []).append(answer)
    if len(by_words) > _KINDS and all(len(said) == 1 for said in by_words):
        for said, answers in by_words.items():
            for answer in answers:
                answer.values = dict(said)
                answer.parameters = {n: v for n, v in answer.parameters.items() if n not in answer.values}
        listed.answers = [answer for answers in by_words.values() for answer in answers]
        yield listed
        return
    for said, answers in by_words.items():
        yield ListSeen(path=listed.path, rpc=listed.rpc, answers=answers, params=dict(said), from_=listed.from_)


def _of_questions(group: CallGroup) -> Iterator[ListSeen]:
    """The lists that a document of GraphQL asks for, each by its own member of the answer."""
    found: dict[str, ListSeen] = {}
    for call in group.calls:
        if not (200 <= call.status < 300 and isinstance(call.answer, Mapping) and call.question):
            continue
        document = str(call.sent["query"])
        variables = call.sent.get("variables") or {}
        asked = {f"variables.{path}": value for path, value in leaves(variables) if not is_secret(path)}
        path = group.path.removesuffix(f" {group.calls[0].operation}")
        for name in call.question.fields:
            inner = {where for where, _ in lists(call.answer) if where.startswith(f"data.{name}")}
            if inner or f"{document} {name}" in found:
                needed = {one: variables[one] for one in variables if one in call.question.needed}
                listed = found.setdefault(
                    f"{document} {name}",
                    ListSeen(
                        path=path, posts={"query": document, "variables": needed}, called=name, from_="the recording",
                        records=min(inner, key=len, default=None), headers=_headers(group),
                    ),
                )  # fmt: skip
                listed.answers.append(AnswerSeen(parameters=asked, body=call.answer, url=call.path))
    yield from found.values()


def _headers(group: CallGroup) -> dict[str, str]:
    """The media type that every call of a list asked for, where it is another than any list would be asked for with."""
    wanted = {value for call in group.calls for name, value in call.headers if name.lower() == "accept"}
    only = next(iter(wanted)) if len(wanted) == 1 else ""
    return {"Accept": only} if re.fullmatch(r"[\w.-]+/[\w.-]+\+\w+(;.*)?", only) else {}


def _stood(template: str, path: str) -> dict[str, str]:
    """What stands in a path for the names in its template."""
    pairs = zip(template.strip("/").split("/"), path.strip("/").split("/"), strict=False)
    return {told[1:-1]: own for told, own in pairs if re.fullmatch(r"\{\w+\}", told)}


def _why(call: Recorded) -> str | None:
    """Where a refusal says what is wrong."""
    if call.status < 400 or not isinstance(call.answer, Mapping):
        return None
    texts = [path for path, value in _texts(call.answer) if _SAYS_WHY.search(path) and isinstance(value, str)]
    return texts[0] if texts else None


def _texts(value: Any, path: str = "") -> Iterator[tuple[str, Any]]:
    if isinstance(value, Mapping):
        for name, held in value.items():
            yield from _texts(held, f"{path}.{name}" if path else str(name))
    elif not isinstance(value, list):
        yield path, value

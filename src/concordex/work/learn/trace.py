"""The call behind a click: what a console asked, by its recording, with its secrets masked."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from datetime import datetime, time
from pathlib import Path
from typing import Any

from concordex.errors import CalledWrongly
from concordex.insight.recorded import (
    MASK,
    CallGroup,
    GivenCredential,
    is_secret,
    lists_in,
    secrets_in,
    totals_in,
    traced,
)
from concordex.unseen import UNSEEN
from concordex.words import plural
from concordex.work.learn.archive import Archive

#: Seconds round a moment that a person remembers.
_NEAR = 10.0
#: So many values of a parameter, and members of a record, are named.
_SOME, _MEMBERS = 3, 6


@dataclass(frozen=True, kw_only=True)
class Trace:
    """What a recording shows: ``rows`` of calls, the noise that was left out, and what a reader must know."""

    host: str
    rows: Sequence[dict[str, Any]]
    signs_in: Sequence[str]
    noise: str
    notes: list[str] = field(default_factory=list)


def trace(path: Path, *, near: str | None = None, text: str | None = None, host: str | None = None) -> Trace:
    """The calls of a recording, grouped; of a moment (``near``, by the browser's clock) or of answers that hold a
    ``text``, each by itself."""
    archive = Archive(path, text)
    calls = list(archive.calls())
    UNSEEN.know(secrets_in(calls))  # masked from here on, also in errors
    told = traced(calls, host)
    if not told.groups:
        hosts = ", ".join(sorted({call.host for call in calls}))
        raise CalledWrongly(f"no data was asked{f' of {host}' if host else ''}", advice=f"the hosts are: {hosts}")
    chosen = told.groups
    if near is not None or text is not None:
        rows = list(_single(told.groups, near, text))
        if not rows:
            raise CalledWrongly("no call of the recording is that", advice="another --text, or a wider guess of --near")
    else:
        rows = [_row(group) for group in chosen]
    noise = ", ".join(f"{count:,} {what}" for what, count in told.noise.items())
    notes = list(archive.notes)
    if told.secrets:
        notes.append(
            f"{path} holds {plural(told.secrets, 'secret')} (passwords, tokens, cookies) as they are: hand it to nobody"
        )
    cut = sum(call.cut for group in told.groups for call in group.calls)
    notes += [f"of {plural(cut, 'answer')} the recording holds only a part"] if cut else []
    return Trace(host=told.host, rows=rows, signs_in=[*map(_signed, told.sign_in)], noise=noise, notes=notes)


def _row(group: CallGroup) -> dict[str, Any]:
    first = group.calls[0]
    largest = max(group.calls, key=lambda call: call.size)
    return {
        "at": first.at.strftime("%H:%M:%S"), "call": f"{group.method} {_masked(group.path)}", "times": len(group.calls),
        "parameters": _parameters(group), "sends": _members(first.sent),
        "status": ", ".join(dict.fromkeys(str(call.status) for call in group.calls)), "answers": _shape(largest.answer),
        "may_write": group.writes,
    }  # fmt: skip


def _single(groups: Sequence[CallGroup], near: str | None, text: str | None) -> Iterator[dict[str, Any]]:
    around = _time(near) if near is not None else None
    found = []
    for group in groups:
        for call in group.calls:
            if around is not None and _apart(call.at, around) > _NEAR:
                continue
            if text is None or call.found:
                found.append((call, group, call.found))
    for call, group, places in sorted(found, key=lambda one: one[0].at):
        query = "&".join(f"{name}={MASK if is_secret(name) else value}" for name, value in call.query)
        asked = f"{call.method} {call.path}{'?' if query else ''}{query}"
        yield {
            "at": call.at.strftime("%H:%M:%S"), "call": _masked(asked),
            "of": _masked(group.path), "sends": _masked(_members(call.sent)), "status": str(call.status),
            "answers": _shape(call.answer), "found_at": ", ".join(places[:_SOME]), "may_write": group.writes,
        }  # fmt: skip


def _time(text: str) -> time:
    try:
        return time.fromisoformat(text)
    except ValueError as error:
        advice = "say 14:03:22, by the browser's clock"
        raise CalledWrongly(f"--near {text}: is not a time of day", advice=advice) from error


def _apart(moment: datetime, around: time) -> float:
    seconds = [part.hour * 3600 + part.minute * 60 + part.second + part.microsecond / 1e6 for part in (moment, around)]
    apart = abs(seconds[0] - seconds[1])
    return min(apart, 86_400 - apart)


def _parameters(group: CallGroup) -> str:
    told = []
    for name, values in group.parameters.items():
        shown = [MASK] if is_secret(name) else [_masked(value) for value in values[:_SOME]]
        told.append(f"{name}={'|'.join(shown)}{'|…' if len(values) > _SOME and shown != [MASK] else ''}")
    return " ".join(told)


def _members(body: Any) -> str:
    if isinstance(body, list):
        return plural(len(body), "item")
    return ", ".join(map(str, body)) if isinstance(body, dict) else ""


def _shape(answer: Any) -> str:
    """The lists of an answer with how many records they hold, and what may be its total."""
    lists = list(lists_in(answer))
    if not lists:
        return _members(answer)
    most = max(records.total for _, records in lists)
    told = []
    for path, records in lists:
        names = list(dict.fromkeys(name for record in records for name in record))
        left = " …" if len(names) > _MEMBERS else ""
        told.append(f"{path}: {plural(records.total, 'record')} of {', '.join(names[:_MEMBERS])}{left}")
    return "; ".join([*told, *(f"{path} = {number:,}" for path, number in totals_in(answer) if number >= most)])


def _signed(sign_in: GivenCredential) -> str:
    call = sign_in.call
    return (
        f"{call.method} {_masked(call.path)} answers with {sign_in.gives}, which {plural(sign_in.times, 'later call')} "
        f"carried in the {sign_in.carried}"
    )


def _masked(text: str) -> str:
    return UNSEEN.text(text)

"""How a list is cut into pages, by what followed what: parameters that moved, marks and links that were given back."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise, permutations
from typing import Any
from urllib.parse import parse_qsl

from concordex.insight.draft.fields import Profile, time_form
from concordex.insight.draft.seen import AnswerSeen, ListSeen, around, below, known_by

_LIMIT = re.compile(r"(page_?)?(limit|size|count|take|many|per(_?page)?|rows|top|max|num|length|lines)$", re.IGNORECASE)
_OFFSET = re.compile(r"offset|skip|start|from|begin|first|since_?row", re.IGNORECASE)
_PAGE = re.compile(r"(?<!per)(?<!per[_-])page(_?(no|num|number|index))?$|^sheet$", re.IGNORECASE)
_MARK = re.compile(r"cursor|mark|token|after|continu|next", re.IGNORECASE)
#: So many answers of a list are compared with all the others, and so many with the one before them.
_FIRST, _MANY = 6, 300
#: Links that stand beside that to the next page, and lead to others.
_ELSEWHERE = re.compile(r"(^|[._-])(last|first|prev\w*|self|location|before)$", re.IGNORECASE)
_TOTAL = re.compile(r"total|count|all|found|matche|avail|overall|number|size|hits|^n$|records", re.IGNORECASE)


@dataclass
class PageGuess:
    """How a list is cut, as a dialect says it, and how many there are: each with why, or with what it may be.

    Nothing where nothing shows it.  ``may`` are candidates that nothing has shown.
    """

    pages: Mapping[str, Any] | None = None
    pages_why: str = ""
    total: str | None = None
    total_why: str = ""
    may: list[str] = field(default_factory=list)


def pages_of(listed: ListSeen, records: str) -> PageGuess:
    """What the answers of a list show of its pages; ``records`` is where they hold it."""
    made = PageGuess()
    seen = _Pages(
        listed, records, _total(listed, records, several=True)[0] is not None,
        max((listed.came(answer, records) for answer in listed.answers), default=0),
    )  # fmt: skip
    ways = (found for pair in _following(listed.answers) if (found := _moved(seen, *pair)) is not None)
    for number, found in enumerate(ways):
        if number == 0 or "limit" in found[0]:  # which pair shows how many are asked for
            made.pages, made.pages_why = found
        if "limit" in found[0]:
            break
    if made.pages is None:
        found = _spans(listed, records)
        if found is not None:
            made.pages, made.pages_why = found
    if made.pages is not None and made.pages["by"] == "cursor":
        made.pages = {**made.pages, **_more(listed, records, made.pages)}
    counted = {made.pages[way] for way in ("page", "offset") if made.pages and way in made.pages}
    cut = [answer for answer in listed.answers if counted <= answer.parameters.keys()]  # others may come in another way
    made.total, made.total_why, others = _total(
        replace(listed, answers=cut or listed.answers), records, several=made.pages is not None
    )
    made.may += others
    if made.pages is None:
        made.may += list(_candidates(listed, records))
    return made


def _following(answers: Sequence[AnswerSeen]) -> Iterator[tuple[AnswerSeen, AnswerSeen]]:
    """Answers that came after each other for the same list: those of several parents may be mixed."""
    for own in (told[:_MANY] for told in _by_values(answers)):
        yield from pairwise(own)
        for before in own[:_FIRST]:  # several pages may have been asked for at once
            yield from ((before, after) for after in own if after is not before)


def _by_values(answers: Sequence[AnswerSeen]) -> list[list[AnswerSeen]]:
    """The answers for each parent by themselves, in the order in which they came."""
    kept: dict[tuple[tuple[str, str], ...], list[AnswerSeen]] = {}
    for answer in answers:
        kept.setdefault(tuple(sorted(answer.values.items())), []).append(answer)
    return list(kept.values())


@dataclass(frozen=True)
class _Pages:
    """A list, where its records stand, whether a total shows in it, and how many records a page had at most."""

    listed: ListSeen
    records: str
    counts: bool
    most: int


def _moved(seen: _Pages, before: AnswerSeen, after: AnswerSeen) -> tuple[dict[str, Any], str] | None:
    """The way from one page to the next, where their records are others."""
    listed, records = seen.listed, seen.records
    here, there = listed.records_of(before, records), listed.records_of(after, records)
    if not here or not there or known_by(there[0]) in map(known_by, here):
        return None
    came = listed.came(before, records)
    size = {"size": seen.most}
    limit = _limit(before, after, came) or _limit(before, before, came)  # a link need not repeat how many
    told = {"limit": limit} if limit else {}
    moved = [name for name, value in after.parameters.items() if before.parameters.get(name) != value]
    found = _by_link(before, after, records) or _by_mark(before, after, moved, records)
    if found is not None:
        return {**found[0], **told, **size}, found[1]
    return _counted(before, after, moved, came, told | size, counts=seen.counts)


def _by_link(before: AnswerSeen, after: AnswerSeen, records: str) -> tuple[dict[str, Any], str] | None:
    """Where one page holds the address of the next: in the header Link, in the body, or in a header of its own."""
    link = re.search(r'<([^>]*)>\s*;[^,]*rel="?next"?', before.headers.get("link", ""))
    if link and _same_address(link[1], after.url):
        return {"by": "link_header"}, "the header Link of one page leads to the next (RFC 8288)"
    for path, value in around(before.body, records):
        if isinstance(value, str) and _same_address(value, after.url) and not _ELSEWHERE.search(_last(path)):
            return {"by": "link", "next": path}, f"{path} of one page is the address of the next"
    for header, value in before.headers.items():
        if _same_address(value, after.url) and not _ELSEWHERE.search(header):
            name = "-".join(word.capitalize() for word in header.split("-"))
            return {"by": "link", "next": f"header:{name}"}, f"{name} is the address of the next page"
    return None


def _by_mark(
    before: AnswerSeen, after: AnswerSeen, moved: Sequence[str], records: str
) -> tuple[dict[str, Any], str] | None:
    """Where a parameter gives back what the page before told."""
    for name in moved:
        sent = after.parameters[name]
        for path, value in around(before.body, records):
            if str(value) == sent and not (sent.isdecimal() and len(sent) < 4 and not _MARK.search(_own(name))):
                return {"by": "cursor", "next": path, "cursor": name}, f"{name} gives {path} back"
        for header, value in before.headers.items():
            if value == sent and not sent.isdecimal():
                told = {"by": "cursor", "next": f"header:{header}", "cursor": name}
                return told, f"{name} gives the header {header} back"
    return None


def _more(listed: ListSeen, records: str, pages: Mapping[str, Any]) -> dict[str, str]:
    """Where an answer says whether there is more: yes on every page whose mark was given back, and no on some other.

    Beside the mark of a connection (GraphQL Cursor Connections Specification, section 4) it is called hasNextPage.
    """
    sent = {answer.parameters.get(pages["cursor"]) for answer in listed.answers}
    told = [dict(around(answer.body, records)) | _headed(answer) for answer in listed.answers]
    went_on = [str(one.get(pages["next"])) in sent for one in told]
    flags = {path for one in told for path, value in one.items() if isinstance(value, bool)}
    connection = re.sub(r"endCursor$", "hasNextPage", pages["next"])
    if connection in flags:
        return {"more": connection}
    said = [path for path in sorted(flags) if _tells(path, told, went_on)]
    return {"more": said[0]} if len(said) == 1 else {}


def _tells(path: str, told: Sequence[Mapping[str, Any]], went_on: Sequence[bool]) -> bool:
    values = [one.get(path) for one in told]
    return False in values and all(value is True for value, on in zip(values, went_on, strict=True) if on)


def _headed(answer: AnswerSeen) -> dict[str, str]:
    return {f"header:{name}": value for name, value in answer.headers.items()}


def _spans(listed: ListSeen, records: str) -> tuple[dict[str, Any], str] | None:
    """A list that was read by spans of time: one ended where the next began, and one that came full was asked halved.

    Without a full one nobody knows what is cut off, and nothing is said.
    """
    for answers in _by_values(listed.answers):
        names = list(dict.fromkeys(name for answer in answers for name in answer.parameters))
        for since, until in permutations(names, 2):
            own = [answer for answer in answers[:_MANY] if {since, until} <= answer.parameters.keys()]
            told = [(answer.parameters[since], answer.parameters[until]) for answer in own]
            form = time_form(Profile("", [_number(text) for pair in told for text in pair]))
            ends = {end for _, end in told}
            if form not in ("iso", "epoch", "epoch_ms") or not any(begin in ends for begin, _ in told):
                continue
            full = [
                listed.came(answer, records)
                for answer, (begin, end) in zip(own, told, strict=True)
                if any(b == begin and _number(e) < _number(end) for b, e in told)
            ]
            if full and min(full) == max(full) == max(listed.came(answer, records) for answer in own):
                way = {"by": "window", "since": since, "until": until, "full": full[0]}
                why = f"one span ended where the next began, and one with {full[0]} records was asked again halved"
                return way | ({"time": form} if form != "iso" else {}), why
    return None


def _number(text: str) -> Any:
    return float(text) if re.fullmatch(r"\d+(\.\d+)?", text) else text


def _counted(
    before: AnswerSeen, after: AnswerSeen, moved: Sequence[str], came: int, told: Mapping[str, Any], *, counts: bool
) -> tuple[dict[str, Any], str] | None:
    for name in sorted(moved, key=lambda name: not (_OFFSET.search(_own(name)) or _PAGE.search(_own(name)))):
        sent, had = after.parameters[name], before.parameters.get(name)
        if _LIMIT.search(_own(name)) and not _PAGE.search(_own(name)):
            continue
        if not sent.isdecimal() or not (had is None or had.isdecimal()):
            continue
        to = int(sent)
        first = int(had) if had is not None else None
        if (first is not None and to - first == came and first in (0, 1)) or (first is None and to in (came, came + 1)):
            begin = first if first is not None else to - came
            # of pages that were asked for side by side, 1 and 3 are no offsets of a page of two
            if _OFFSET.search(_own(name)) or (came > 1 and not _PAGE.search(_own(name))):
                if "limit" not in told:
                    return None
                why = f"{name} went from {begin} to {to}, by the {came} records that came"
                return {"by": "offset", "offset": name, "first": begin, **told}, why
        if not (_PAGE.search(_own(name)) or _OFFSET.search(_own(name)) or counts):
            continue  # of 1 and 2 that are called something else only a total shows that they are no filter
        if (first is not None and to - first == 1 and first in (0, 1)) or (first is None and to in (1, 2)):
            begin = first if first is not None else to - 1
            return {"by": "number", "page": name, "first": begin, **told}, f"{name} went from {begin} to {to}"
    return None


def _limit(before: AnswerSeen, after: AnswerSeen, came: int) -> str | None:
    same = [name for name, value in after.parameters.items() if before.parameters.get(name) == value]
    fits = [name for name in same if after.parameters[name] == str(came)]
    named = [name for name in same if after.parameters[name].isdecimal() and _LIMIT.search(_own(name))]
    fits = [name for name in fits if came > 1 or name in named]
    return next(iter([name for name in fits if name in named] or fits or named), None)


def _same_address(one: str, other: str) -> bool:
    """Whether two addresses mean one page, whatever their hosts."""
    bare = [re.sub(r"^[A-Za-z][A-Za-z0-9+.-]*://[^/]*", "", text) for text in (one, other)]
    if not bare[0] or "?" not in bare[0]:
        return False
    paths = [text.partition("?") for text in bare]
    same_path = paths[0][0] == paths[1][0] or not paths[0][0] or paths[1][0].endswith(paths[0][0])
    asked = [sorted(parse_qsl(path[2], keep_blank_values=True)) for path in paths]  # encoded or plain
    return same_path and asked[0] == asked[1]


def _total(listed: ListSeen, records: str, *, several: bool) -> tuple[str | None, str, list[str]]:
    """Where the answers say how many there are in all: the same on every page, and more than one holds."""
    seen: dict[str, list[tuple[int, int]]] = {}
    for answer in listed.answers:
        came = listed.came(answer, records)
        for path, said in [*around(answer.body, records), *_numbers(answer.headers)]:
            value = int(said) if isinstance(said, str) and re.fullmatch(r"\d{1,9}", said) else said
            wanted = {text for name, text in answer.parameters.items() if _LIMIT.search(_own(name))}
            if isinstance(value, int) and not isinstance(value, bool) and value >= came and str(value) not in wanted:
                seen.setdefault(path, []).append((value, came))
    whole = {
        path: told for path, told in seen.items()
        if len(told) == len(listed.answers) and (len({v for v, _ in told}) == 1 or _by_parent(listed))
    }  # fmt: skip
    shown = [path for path, told in whole.items() if several and any(value > came for value, came in told)]
    named = [path for path in shown if _TOTAL.search(_last(path))]
    if len({tuple(whole[path]) for path in named}) == 1:  # of several that always say the same, one
        named = [min(named, key=lambda path: not re.search("total|all", _last(path), re.IGNORECASE))]
    if len(named) == 1 or len(shown) == 1:
        path = (named or shown)[0]
        return path, f"{whole[path][0][0]:,} on every page, and more than one page holds", []
    may = [path for path in whole if _TOTAL.search(_last(path)) or path.startswith("header:")]
    return None, "", [f"total: {path}" for path in (shown or may)]


def _last(path: str) -> str:
    """The last word of a path."""
    return next(reversed(re.findall(r"\w+", path)), "")


def _by_parent(listed: ListSeen) -> bool:
    return len({tuple(answer.values.items()) for answer in listed.answers}) > 1


def _numbers(headers: Mapping[str, str]) -> Iterator[tuple[str, int]]:
    for name, value in headers.items():
        if value.isdecimal() and re.search(r"count|total", name, re.IGNORECASE) and name != "content-length":
            yield f"header:{name}", int(value)


def _candidates(listed: ListSeen, records: str) -> Iterator[str]:
    """Ways that nothing has shown: by what parameters, and what stands beside the list, are called."""
    names = list(dict.fromkeys([*listed.takes, *(name for answer in listed.answers for name in answer.parameters)]))
    limits, offsets, pages, _ = parameters_of(names)
    limit = next(iter(limits), None)
    size = f", limit: {limit}" if limit else ""
    begin = next((name for name in names if re.fullmatch("since|after|from|start|begin", name, re.IGNORECASE)), None)
    end = next((name for name in names if re.fullmatch("until|before|to|end", name, re.IGNORECASE)), None)
    if begin and end:
        yield f"pages: {{by: window, since: {begin}, until: {end}, full: ?}}"
    yield from (f"pages: {{by: number, page: {name}{size}}}" for name in pages)
    if limit:
        yield from (
            f"pages: {{by: offset, offset: {name}{size}}}" for name in offsets if name not in (begin, end) or not end
        )
    for answer in listed.answers[:1]:
        if re.search(r'rel="?next"?', answer.headers.get("link", "")):
            yield f"pages: {{by: link_header{size}}}"
        for path, value in around(answer.body, records):
            if re.search("next|more|onward", path, re.IGNORECASE) and isinstance(value, str):
                way = "link" if re.match(r"https?://|/|\?", value) else "cursor"
                yield f"pages: {{by: {way}, next: {path}{size}}}"


#: The marks that an answer tells, each with the parameter that may give it back.
Marks = Callable[[AnswerSeen, str], Iterator[tuple[str, str]]]


def parameters_of(takes: Sequence[str]) -> tuple[list[str], list[str], list[str], Marks]:
    """Of parameters those for how many, for the first record, and for the page; and marks that are told."""
    limits = [name for name in dict.fromkeys(takes) if _LIMIT.search(_own(name)) and not _PAGE.search(_own(name))]
    connection = {"first", "after"} <= {*map(_own, takes)}  # the first so many after a mark
    limits += [name for name in dict.fromkeys(takes) if connection and _own(name) == "first"]
    rest = [name for name in dict.fromkeys(takes) if name not in limits]
    pages = [name for name in rest if _PAGE.search(_own(name))]
    offsets = [name for name in rest if _OFFSET.search(_own(name)) and name not in pages]
    named = [name for name in rest if _MARK.search(_own(name)) and name not in pages]

    def marks(answer: AnswerSeen, records: str) -> Iterator[tuple[str, str]]:
        told = [str(v) for path, v in around(answer.body, records) if _MARK.search(path) and not isinstance(v, bool)]
        yield from ((name, value) for name in named for value in told)

    return limits, offsets, pages, marks


def shaping(listed: ListSeen, pages: Mapping[str, Any] | None) -> dict[str, str]:
    """The parameters that every call of a list had, but for those that cut it into pages."""
    return shaping_of(listed.always, pages)


def shaping_of(parameters: Mapping[str, str], pages: Mapping[str, Any] | None) -> dict[str, str]:
    """Of some parameters those that do not cut a list into pages."""
    told = {str(value) for value in (pages or {}).values()}
    return {
        name: value for name, value in parameters.items()
        if name not in told and not (_LIMIT.search(_own(name)) and (value.isdecimal() or not value))
        and not any(known.search(_own(name)) for known in (_PAGE, _OFFSET, _MARK))
    }  # fmt: skip


def _own(name: str) -> str:
    """A parameter's own name: of ``page[limit]`` what stands in the brackets, of ``variables.page`` the last word."""
    held = re.fullmatch(r"\w+\[(\w+)\]", name)
    return held[1] if held else name.rpartition(".")[2]


def next_links(answer: AnswerSeen, records: str) -> Iterator[str]:
    """Addresses that may be those of a next page."""
    link = re.search(r'<([^>]*)>\s*;[^,]*rel="?next"?', answer.headers.get("link", ""))
    if link:
        yield link[1]
    for name, value in [*answer.headers.items(), *around(answer.body, records)]:
        is_link = isinstance(value, str) and re.match(r"(https?://|/|\?)\S*\?\S|\?\S", value)
        if is_link and not _ELSEWHERE.search(_last(name)):
            yield value


def in_one_manner(tables: Sequence[tuple[ListSeen, str, PageGuess]]) -> None:
    """What one list has shown of its pages and its total holds of another whose answers stand in the same envelope.

    It must have taken the same parameters, and its total must be no less than what came: a list that is called whole by
    it has shown as many.
    """
    shown = [(seen, records, guess) for seen, records, guess in tables if guess.pages and guess.pages["by"] != "window"]
    for seen, records, guess in tables:
        if guess.pages or guess.total:
            continue
        for other, others, by in shown:
            if _told(other, others, by) <= _told(seen, records, by) and _adds_up(seen, records, by):
                guess.pages, guess.total = by.pages, by.total
                guess.pages_why = f"as {other.rpc or other.path} showed it: both answer in one manner"
                guess.total_why = guess.pages_why if by.total else ""
                guess.may = []
                break


def _told(listed: ListSeen, records: str, guess: PageGuess) -> set[str]:
    """Whatever of a way of paging a list has: members beside its records, headers, and the parameters that it takes."""
    pages = guess.pages or {}
    wanted = {str(pages[name]) for name in ("next", "offset", "page", "cursor", "limit") if name in pages}
    wanted |= {guess.total} if guess.total else set()
    wanted = {name.lower() if name.startswith("header:") else name for name in wanted}
    beside = {path for answer in listed.answers for path in _paths(answer.body, records)}
    headers = {f"header:{name}" for answer in listed.answers for name in answer.headers}
    taken = {name for answer in listed.answers for name in answer.parameters} | {*listed.takes}
    return {f"at {records.rpartition('.')[0]}"} | (wanted & (beside | headers | taken))


def _paths(value: Any, records: str, path: str = "") -> Iterator[str]:
    """The members beside a list by their paths, those that are null as well."""
    if path != records and isinstance(value, Mapping):
        for name, held in value.items():
            yield from _paths(held, records, below(path, str(name)))
    elif path and path != records and not isinstance(value, list):
        yield path


def _adds_up(listed: ListSeen, records: str, guess: PageGuess) -> bool:
    """Whether a total stands in each answer, and is no less than what came; without one a list proves nothing."""
    if not guess.total:
        return bool(guess.pages and "next" in guess.pages)
    for answer in listed.answers:
        told = [
            value for path, value in [*around(answer.body, records), *_numbers(answer.headers)] if path == guess.total
        ]
        came = listed.came(answer, records)
        if len(told) != 1 or isinstance(told[0], bool) or not isinstance(told[0], int) or told[0] < came:
            return False
    return bool(listed.answers)

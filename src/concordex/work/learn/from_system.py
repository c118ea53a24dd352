"""What a system itself answers, list by list, to see how each is cut: nothing but reading is asked."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from copy import deepcopy
from dataclasses import dataclass, replace
from typing import Any
from urllib.parse import parse_qsl, quote, urlsplit

from concordex.errors import BadAnswer, CalledWrongly, ForeignHost
from concordex.insight.draft.fields import id_of
from concordex.insight.draft.pages import Marks, next_links, parameters_of, shaping
from concordex.insight.draft.seen import AnswerSeen, ListSeen, OneSeen, known_by, lists, value_of
from concordex.insight.questions import question_of
from concordex.insight.recorded import is_secret
from concordex.model.members import put_into
from concordex.wire.http.formats import decode
from concordex.wire.http.session import Request, Session

#: Parents whose lists are asked for, pages that are asked for of one list, and lists in all: a draft asks little.
_PARENTS, _LISTS = 3, 60
#: How many records a small page is asked for.
_SMALL = 2
#: So many parameters that may say how many are tried.
_SIZES = 3


@dataclass(frozen=True)
class Asking:
    """Asks a system for lists, and for nothing that could alter something; ``base`` is what its paths begin with."""

    session: Session
    base: str

    def based(self, path: str) -> str:
        """A path from the root: guides leave out what all of them begin with."""
        return path if not self.base or path.startswith(f"{self.base}/") else f"{self.base}{path}"

    async def ask(
        self, listed: ListSeen, path: str, query: Mapping[str, str], values: Mapping[str, str]
    ) -> AnswerSeen | None:
        """What a list answers at a path; None where it refuses, or answers with no data."""
        shape = self.session.dialect.shape
        own = path if "://" in path else path.removeprefix(self.base)
        request = Request(method="GET", path=own, query=dict(query), headers=dict(listed.headers), shape=shape)
        if listed.posts:
            request = Request(
                method="POST", path=own, headers=dict(listed.headers), shape=shape, body=_body(listed.posts, query)
            )
        try:
            made = await self.session.exchange(request)
            if made.reply.status != 200:
                return None
            body = decode(made.reply.content, shape)
        except (BadAnswer, CalledWrongly, ForeignHost):  # a link that leads elsewhere is not followed
            return None
        parts = urlsplit(made.url)
        links = ", ".join(made.reply.links)
        headers = {name.lower(): value for name, value in made.reply.headers.items()} | (
            {"link": links} if links else {}
        )
        url = f"{parts.path}?{parts.query}" if parts.query else parts.path
        asked = dict(query) or {n: v for n, v in parse_qsl(parts.query) if not is_secret(n)}
        return AnswerSeen(parameters=asked, body=body, values=values, headers=headers, url=url)


def _body(posts: Mapping[str, Any], query: Mapping[str, str]) -> dict[str, Any]:
    """A document that only reads, with the variables that parameters stand for."""
    question = question_of(posts)
    if question is None or not question.reads:
        raise CalledWrongly("this document of GraphQL is none that only reads: it is not asked")
    body: dict[str, Any] = deepcopy(dict(posts))
    for name, value in query.items():
        number = value.isdecimal() and name.removeprefix("variables.").partition(".")[0] in question.numbers
        put_into(body, name, int(value) if number else value)
    return body


async def of_system(
    session: Session, known: Sequence[ListSeen], base: str
) -> tuple[list[ListSeen], list[OneSeen], list[str]]:
    """Lists as the system itself answers for them: each asked once, and on as its parameters and answers lead.

    Nothing but reading is asked; what refuses is told.
    """
    asked, notes, asking = list[ListSeen](), list[str](), Asking(session, base)
    open_ = [one for one in known if one.rpc is None and "{" not in one.path][:_LISTS]
    hung = [one for one in known if one.rpc is None and one.path.count("{") == 1][:_LISTS]
    for listed in open_:
        await _probed(asking, listed, listed.path, {}, asked, notes)
    for listed in hung:
        name = re.findall(r"\{(\w+)\}", listed.path)[0]
        above = asking.based(listed.path.partition("/{")[0])
        if not above or listed.path.rstrip("/").endswith(f"/{{{name}}}"):
            await _named_in_guide(asking, listed, name, asked)
            continue
        owner = next((one for one in asked if one.path.rstrip("/") == above), None)
        for own in _some_ids(owner)[:_PARENTS] if owner else ():
            path = listed.path.replace(f"{{{name}}}", quote(own, safe=""))
            await _probed(asking, listed, path, {name: own}, asked, notes)
    return asked, await _one_by_one(asking, known, asked), notes


async def _named_in_guide(asking: Asking, listed: ListSeen, name: str, asked: list[ListSeen]) -> None:
    """Lists whose names stand as words in a guide: each word is tried in the place of the name."""
    for word in listed.words:
        path = listed.path.replace(f"{{{name}}}", word)
        if not any(one.path == asking.based(path) for one in asked):
            one = ListSeen(path=path, takes=listed.takes, from_=listed.from_)
            await _probed(asking, one, path, {}, asked, [])


def _some_ids(owner: ListSeen) -> list[str]:
    for answer in owner.answers:
        for path, _ in lists(answer.body):
            records = owner.records_of(answer, path)
            record_id, _, _ = id_of([records])
            if record_id:
                return [str(value_of(record, record_id)) for record in records]
    return []


async def _one_by_one(asking: Asking, known: Sequence[ListSeen], asked: Sequence[ListSeen]) -> list[OneSeen]:
    """Some records by themselves, where a path is that of a list and a name after it."""
    ones = []
    for path in (asking.based(one.path) for one in known if one.rpc is None):
        owner = next(
            (one for one in asked if re.fullmatch(re.escape(one.path.rstrip("/")) + r"/\{\w+\}/?", path)), None
        )
        if owner is None:
            continue
        name = re.findall(r"\{(\w+)\}", path)[-1]
        for answer in owner.answers[:_PARENTS]:
            alone = ListSeen(path=owner.path, answers=[answer])
            for own in _some_ids(alone)[:_PARENTS]:
                where = path
                for stood, value in {**answer.values, name: own}.items():
                    where = where.replace(f"{{{stood}}}", quote(value, safe=""))
                came = await asking.ask(alone, where, {}, {**answer.values, name: own})
                if came is not None:
                    ones.append(OneSeen(path=path, values=came.values, body=came.body))
    return ones


#: The first page, how it was asked to be small, and parameters: for how many, for the first record, for the page.
_Told = tuple[AnswerSeen, dict[str, str], list[str], list[str], list[str], Marks]


async def _probed(
    asking: Asking, listed: ListSeen, path: str, values: Mapping[str, str], into: list[ListSeen],
    notes: list[str],
) -> None:  # fmt: skip
    """Ask one list, and its second page in each way that may be one, until another page comes."""
    first = await asking.ask(listed, path, {}, values)
    shape = await _shape(asking, listed, path, first, values)
    if shape:
        first = await asking.ask(listed, path, shape, values)
    if first is None or not any(True for _ in lists(first.body)):
        if first is None:
            what = f"{path} {listed.called}" if listed.posts else f"GET {path}"
            notes.append(f"{what} was refused or answered with no data")
        return
    own = asking.based(listed.path)
    new = replace(listed, path=own, answers=[], records=None, from_="the system")
    kept = next((one for one in into if one.where == new.where), None)
    if kept is None:
        kept = new
        into.append(kept)
    kept.query = shape
    kept.answers.append(first)
    if len(kept.answers) > 1 and kept.answers[0].values != values:
        return  # how it is cut was seen with the first one
    where = max(lists(first.body), key=lambda one: len(one[1]))[0]
    limits, offsets, pages, marks = parameters_of(kept.takes)
    size: dict[str, str] = {}
    for name in limits[:_SIZES] or pages:  # how many are wanted is told by what comes, whatever it is called
        small = await asking.ask(kept, path, {**shape, name: str(_SMALL)}, values)
        if small is not None and kept.came(small, where) == _SMALL and not _is_another(kept, small, first, where):
            size, first = {name: str(_SMALL)}, small
            kept.answers.append(small)
            break
    pages = [one for one in pages if one not in size]
    await _to_the_next(asking, kept, where, path, shape, (first, size, limits, offsets, pages, marks), values)


async def _to_the_next(
    asking: Asking, kept: ListSeen, where: str, path: str, shape: Mapping[str, str], told: _Told,
    values: Mapping[str, str],
) -> None:  # fmt: skip
    """Ask for the next page in each way that may lead there, until another page comes."""
    first, size, limits, offsets, pages, marks = told
    sizes = [
        {name: str(_SMALL)} for name in limits[:_SIZES] if pages and name not in size
    ]  # some only count with a page
    for wanted in [size, *sizes, {}] if size or sizes else [{}]:
        many = _SMALL if wanted else kept.came(first, where)
        for steps in _next_ways(first, where, wanted, offsets, pages, marks, many):
            came = await _followed(asking, kept, where, path, shape, steps, values)
            heeded = not wanted or steps[0][0] is not None or all(kept.came(page, where) <= _SMALL for page in came)
            if came and heeded and _is_another(kept, came[-1], first, where):
                kept.answers.extend(came)
                return


async def _followed(
    asking: Asking, listed: ListSeen, where: str, path: str, shape: Mapping[str, str], steps: Sequence[Step],
    values: Mapping[str, str],
) -> list[AnswerSeen]:  # fmt: skip
    """The pages that some requests bring; none where one of them brings nothing."""
    told = [
        await asking.ask(listed, link or path, query if link else {**shape, **query}, values) for link, query in steps
    ]
    came = [page for page in told if page is not None and listed.records_of(page, where)]
    return came if len(came) == len(steps) else []


async def _shape(
    asking: Asking, listed: ListSeen, path: str, without: AnswerSeen | None, values: Mapping[str, str]
) -> dict[str, str]:
    """The parameters that a console always sent, where the answer without them is another, with no list in that place.

    Where it is refused without them, or holds the same list, they may narrow it, and are left away.
    """
    always = shaping(listed, None) if listed.from_ == "the recording" else {}
    found = [(len(records), place) for answer in listed.answers for place, records in lists(answer.body)]
    place = max(found, default=(0, ""))[1]
    if not always or not found or without is None or place in dict(lists(without.body)):
        return {}
    asked = await asking.ask(listed, path, always, values)
    return always if asked is not None and place in dict(lists(asked.body)) else {}


def _is_another(listed: ListSeen, page: AnswerSeen, first: AnswerSeen, where: str) -> bool:
    """Whether a page begins with a record that the first has not."""
    begins = known_by(listed.records_of(page, where)[0])
    return all(begins != known_by(record) for record in listed.records_of(first, where))


Step = tuple[str | None, dict[str, str]]


def _next_ways(
    first: AnswerSeen, where: str, size: Mapping[str, str], offsets: Sequence[str], pages: Sequence[str],
    marks: Marks, came: int,
) -> Iterator[list[Step]]:  # fmt: skip
    """Requests that would bring another page: by a link, or by parameters as they are commonly called."""
    for link in next_links(first, where):
        yield [(link, {})]
    for mark, value in marks(first, where):
        yield [(None, {**size, mark: value})]
    for name in offsets:
        for begin in (0, 1):
            yield [(None, {**size, name: str(begin)}), (None, {**size, name: str(begin + came)})]
    for name in pages:
        for begin in (1, 0):
            yield [(None, {**size, name: str(begin)}), (None, {**size, name: str(begin + 1)})]

"""What is seen of an API in each source that a draft is made from: a recording, a description, a guide, the system."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from pathlib import Path
from typing import Any
from urllib.parse import parse_qsl, quote, urlencode, urlsplit

from concordex.errors import BadAnswer, CalledWrongly, ConcordexError
from concordex.insight.described import Described
from concordex.insight.draft.fields import id_of
from concordex.insight.draft.pages import Marks, next_links, parameters_of
from concordex.insight.draft.seen import AnswerSeen, ApiSeen, ListSeen, OneSeen, WriteSeen, known_by, lists
from concordex.insight.recorded import CallGroup, GivenCredential, Recorded, is_secret, is_standard, secrets_in, traced
from concordex.unseen import UNSEEN
from concordex.wire.http.formats import decode
from concordex.wire.http.session import Request, Session
from concordex.work.learn.archive import Archive

#: So many records of a list in a recording are looked at.
_KEPT = 2_000
#: Parents whose lists are asked for, pages that are asked for of one list, and lists in all: a draft asks little.
_PARENTS, _LISTS = 3, 60
#: So many different words in a parameter are kinds of thing; more are the records of another list.
_KINDS = 6
#: How many words of a guide are tried where a name in a path may be one of them.
_WORDS = 60
#: How many records a small page is asked for.
_SMALL = 2
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
            continue
        if group.calls[0].operation and isinstance(group.calls[0].sent, Mapping) and "jsonrpc" in group.calls[0].sent:
            seen.rpc = group.path.removesuffix(f" {group.calls[0].operation}")
            seen.lists += _of_methods(_recorded_list(group))
            continue
        listed = _recorded_list(group)
        if any(call.kind.endswith("xml") for call in group.calls):
            seen.shape = "xml"
        seen.ones += [OneSeen(path=listed.path, values=a.values, body=a.body) for a in listed.answers if a.values]
        if any(True for answer in listed.answers for _ in lists(answer.body)):
            seen.lists.append(listed)
    _signed_in(seen, told.sign_in, [call for group in told.groups for call in group.calls])
    seen.error = next((why for group in told.groups for call in group.calls if (why := _why(call))), None)
    return seen


def _names(body: Any) -> list[str]:
    return list(map(str, body)) if isinstance(body, Mapping) else []


def _recorded_list(group: CallGroup) -> ListSeen:
    operation = group.calls[0].operation
    path = group.path.removesuffix(f" {operation}") if operation else group.path
    listed = ListSeen(path=path, rpc=operation, from_="the recording")
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


def _signed_in(seen: ApiSeen, given: Sequence[GivenCredential], calls: Sequence[Recorded]) -> None:
    """The sign-in of a console: the call whose answer gave what the later ones carried, or what all of them carry."""
    used = [one for one in given if one.call.method == "POST" and one.call.sent is not None]
    if used:
        best = max(used, key=lambda one: one.times)
        mine = [one for one in used if one.call.number == best.call.number and one.times * 2 >= best.times]
        if isinstance(best.call.sent, Mapping) and best.call.sent.get("grant_type") == "client_credentials":
            seen.sign_in = {"by": "client_credentials", "path": best.call.path}
            seen.sign_in_why = "OAuth 2.0, grant_type=client_credentials (RFC 6749, 4.4)"
            seen.credentials = {"client": {}, "secret": {"secret": True}}
            return
        _by_call(seen, best.call, mine)
        return
    for name, value in calls[-1].headers if calls else ():
        if name.lower() == "authorization" and value.lower().startswith("basic "):
            seen.sign_in, seen.sign_in_why = {"by": "basic"}, "every request carried Authorization: Basic (RFC 7617)"
            seen.credentials = {"user": {}, "password": {"secret": True}}
        elif name.lower() == "signature-input":
            told = re.search(r'alg="([\w-]+)"', value)
            seen.sign_in = {"by": "signature", **({"algorithm": told[1]} if told else {})}
            seen.sign_in_why = "requests were signed (RFC 9421)"
            seen.credentials = {"key_id": {}, "key": {"secret": True}}
        elif name.lower() != "cookie" and (is_secret(name) or _with_all(name, value, calls)):
            manner, space, _ = value.partition(" ")
            text = f"{manner} {{token}}" if space else "{token}"
            seen.sign_in = {"by": "header", "header": name, "value": text}
            seen.sign_in_why = f"requests carried the header {name}, and no answer gave what stands in it"
            seen.credentials = {"token": {"secret": True}}
        else:
            continue
        return


def _with_all(name: str, value: str, calls: Sequence[Recorded]) -> bool:
    """Whether a header of no standard stands in every call, the same, and looks like a key."""
    return (
        not is_standard(name) and len(value) >= 8
        and all((name, value) in list(call.headers) for call in calls)
    )  # fmt: skip


def _by_call(seen: ApiSeen, call: Recorded, given: Sequence[GivenCredential]) -> None:
    sent = call.sent if isinstance(call.sent, Mapping) else {}
    method = str(sent["method"]) if "jsonrpc" in sent and "method" in sent else None
    named = sent.get("params") if method else sent
    body, credentials = _with_names(named if isinstance(named, Mapping) else {})
    form = any("x-www-form-urlencoded" in value for name, value in call.headers if name.lower() == "content-type")
    gives: dict[str, str] = {}
    carries: dict[str, Any] = {}
    for number, one in enumerate(given):
        kind, _, where = one.carried.partition(" ")
        if kind == "cookie":
            carries["cookies"] = True
            continue
        name = f"given{number or ''}"
        place = one.gives.removeprefix("result.") if method else one.gives
        gives[name] = place.replace("cookie ", "cookie:").replace("header ", "header:")
        header, _, manner = where.partition(" (")
        if kind == "header":
            carries.setdefault("headers", {})[header] = (
                f"{manner.removesuffix(')')} {{{name}}}" if manner else f"{{{name}}}"
            )
        else:
            carries.setdefault("body" if kind == "member" else "query", {})[where] = f"{{{name}}}"
    if method:
        told: dict[str, Any] = {"rpc": method, "params": body}
        seen.rpc = seen.rpc or call.path
    else:
        told = {"path": call.path, **({"method": call.method} if call.method != "POST" else {})}
        told |= {"form" if form else "json": body} if body else {}
    seen.sign_in = {"by": "call", "call": told, **({"gives": gives} if gives else {}), "carries": carries}
    seen.sign_in_why = f"{max(one.times for one in given)} later requests carried what its answer gave"
    seen.credentials = credentials


def _with_names(sent: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, dict[str, Any]]]:
    """What is sent to sign in, with names in the place of what a person knows; and these names."""
    body: dict[str, Any] = {}
    credentials: dict[str, dict[str, Any]] = {}
    texts = [name for name, value in sent.items() if isinstance(value, str)]
    secret = [name for name in texts if is_secret(name)] or texts[1:]  # of two texts the second is the secret
    for name, value in sent.items():
        if name in texts and re.fullmatch(r"[A-Za-z_]\w*", name):
            credentials[name] = {"secret": True} if name in secret else {}
            body[name] = f"{{{name}}}"
        else:
            body[name] = value
    return body, credentials


def of_description(told: Described) -> ApiSeen:
    """What a description says: its lists, by the answers that it describes, what may be written, how one signs in."""
    seen = ApiSeen(title=told.title, notes=list(told.notes))
    for operation in told.operations:
        if operation.deprecated:
            continue
        if operation.method != "GET":
            sends = [one.name for one in operation.parameters if one.stands == "body"]
            seen.writes.append(WriteSeen(method=operation.method, path=operation.path, sends=sends))
            continue
        body = operation.returns
        takes = [one.name for one in operation.parameters if one.stands == "query"]
        listed = ListSeen(path=operation.path, takes=takes, about=operation.about, from_="the description")
        if body is not None:
            listed.answers = [AnswerSeen(parameters={}, body=body)]
            listed.records = next((path for path, _ in lists(body)), None)
        seen.lists.append(listed)
    for name, scheme in told.security.items():
        if (found := _scheme(scheme)) is not None:
            seen.sign_in, seen.credentials = found
            seen.sign_in_why = f"the description says so ({name})"
            break
    return seen


def _scheme(told: Mapping[str, Any]) -> tuple[dict[str, Any], dict[str, Any]] | None:
    kind, scheme = str(told.get("type")), str(told.get("scheme") or "").lower()
    if kind == "basic" or (kind == "http" and scheme == "basic"):
        return {"by": "basic"}, {"user": {}, "password": {"secret": True}}
    if kind == "http" and scheme == "bearer":
        how = {"by": "header", "header": "Authorization", "value": "Bearer {token}"}
        return how, {"token": {"secret": True}}
    if kind == "apiKey" and told.get("in") in ("header", "query"):
        header = told["in"] == "header"
        how = {"by": told["in"], "header" if header else "parameter": str(told.get("name")), "value": "{key}"}
        return how, {"key": {"secret": True}}
    flows = told.get("flows") if isinstance(told.get("flows"), Mapping) else {}
    flow = flows.get("clientCredentials") if flows else (told if told.get("flow") == "application" else None)
    if kind == "oauth2" and isinstance(flow, Mapping) and flow.get("tokenUrl"):
        path = urlsplit(str(flow["tokenUrl"])).path
        return {"by": "client_credentials", "path": path or "/"}, {"client": {}, "secret": {"secret": True}}
    return None


#: A request as guides write it, and a shape of an answer: names with what they hold.
_ASKED = re.compile(r"\b(GET|POST|PUT|PATCH|DELETE)\s+(/[^\s`\"',;)]*)")
_ALSO = re.compile(r"`(/[a-z][\w/{}.-]*)`")


def of_guide(text: str) -> ApiSeen:
    """What a guide in plain text or Markdown names: requests, and what words in code stand near them."""
    seen, common = ApiSeen(), list(dict.fromkeys(re.findall(r"[?&](\w+)=", text)))
    for paragraph in re.split(r"\n\s*\n", text):
        words = re.findall(r"`([A-Za-z][\w-]*)`", paragraph)
        paths = [(method, path) for method, path in _ASKED.findall(paragraph)]
        first = next((path for method, path in paths if method == "GET"), None)
        paths += [("GET", path) for path in _ALSO.findall(paragraph) if first]
        for method, whole in dict.fromkeys(paths):
            path, _, query = whole.partition("?")
            path = re.sub(r"/([A-Z][A-Z_]+)\b", lambda m: f"/{{{m[1].lower()}}}", path).rstrip(".")
            if method != "GET":
                seen.writes.append(WriteSeen(method=method, path=path))
            elif not any(one.path == path for one in seen.lists):
                takes = list(dict.fromkeys([*re.findall(r"(\w+)=", query), *words, *common]))
                plain = list(dict.fromkeys(re.findall(r"\b[a-z]{3,}\b", paragraph)))[:_WORDS]
                seen.lists.append(ListSeen(path=path, takes=takes, from_="the guide", words=plain))
    return seen


async def of_system(
    session: Session, known: Sequence[ListSeen], base: str
) -> tuple[list[ListSeen], list[OneSeen], list[str]]:
    """Lists as the system itself answers for them: each asked once, and on as its parameters and answers lead.

    Nothing but reading is asked; what refuses is told.
    """
    asked, notes = list[ListSeen](), list[str]()
    open_ = [one for one in known if one.rpc is None and "{" not in one.path][:_LISTS]
    hung = [one for one in known if one.rpc is None and one.path.count("{") == 1][:_LISTS]
    for listed in open_:
        await _probed(session, listed, listed.path, {}, base, asked, notes)
    for listed in hung:
        name = re.findall(r"\{(\w+)\}", listed.path)[0]
        above = _based(listed.path.partition("/{")[0], base)
        if not above or listed.path.endswith(f"/{{{name}}}"):
            await _named_in_guide(session, listed, name, base, asked)
            continue
        owner = next((one for one in asked if one.path == above), None)
        for own in _some_ids(owner)[:_PARENTS] if owner else ():
            path = listed.path.replace(f"{{{name}}}", quote(own, safe=""))
            await _probed(session, listed, path, {name: own}, base, asked, notes)
    return asked, await _one_by_one(session, known, asked, base), notes


async def _named_in_guide(session: Session, listed: ListSeen, name: str, base: str, asked: list[ListSeen]) -> None:
    """Lists whose names stand as words in a guide: each word is tried in the place of the name."""
    for word in listed.words:
        path = listed.path.replace(f"{{{name}}}", word)
        if not any(one.path == _based(path, base) for one in asked):
            one = ListSeen(path=path, takes=listed.takes, from_=listed.from_)
            await _probed(session, one, path, {}, base, asked, [])


def _some_ids(owner: ListSeen) -> list[str]:
    for answer in owner.answers:
        for path, _ in lists(answer.body):
            records = owner.records_of(answer, path)
            record_id, _, _ = id_of([records])
            if record_id:
                return [str(record[record_id]) for record in records]
    return []


async def _one_by_one(
    session: Session, known: Sequence[ListSeen], asked: Sequence[ListSeen], base: str
) -> list[OneSeen]:
    """Some records by themselves, where a path is that of a list and a name after it."""
    ones = []
    for path in (_based(one.path, base) for one in known if one.rpc is None):
        owner = next((one for one in asked if re.fullmatch(re.escape(one.path) + r"/\{\w+\}", path)), None)
        if owner is None:
            continue
        name = re.findall(r"\{(\w+)\}", path)[-1]
        for answer in owner.answers[:_PARENTS]:
            alone = ListSeen(path=owner.path, answers=[answer])
            for own in _some_ids(alone)[:_PARENTS]:
                where = path
                for stood, value in {**answer.values, name: own}.items():
                    where = where.replace(f"{{{stood}}}", quote(value, safe=""))
                came = await _ask(session, where, {}, {**answer.values, name: own}, base)
                if came is not None:
                    ones.append(OneSeen(path=path, values=came.values, body=came.body))
    return ones


def _based(path: str, base: str) -> str:
    """A path from the root: guides leave out what all of them begin with."""
    return path if not base or path.startswith(f"{base}/") else f"{base}{path}"


async def _probed(
    session: Session, listed: ListSeen, path: str, values: Mapping[str, str], base: str, into: list[ListSeen],
    notes: list[str],
) -> None:  # fmt: skip
    """Ask one list, and its second page in each way that may be one, until another page comes."""
    first = await _ask(session, path, {}, values, base)
    if first is None or not any(True for _ in lists(first.body)):
        if first is None:
            notes.append(f"GET {path} was refused or answered with no data")
        return
    own = _based(listed.path, base)
    kept = next((one for one in into if one.path == own), None)
    if kept is None:
        kept = ListSeen(path=own, takes=listed.takes, about=listed.about, from_="the system")
        into.append(kept)
    kept.answers.append(first)
    if len(kept.answers) > 1 and kept.answers[0].values != values:
        return  # how it is cut was seen with the first one
    where = max(lists(first.body), key=lambda one: len(one[1]))[0]
    limit, offsets, pages, marks = parameters_of(kept.takes)
    size: dict[str, str] = {}
    for name in [limit] if limit else pages:  # how many are wanted is told by what comes, whatever it is called
        small = await _ask(session, path, {name: str(_SMALL)}, values, base)
        if small is not None and kept.came(small, where) == _SMALL and not _is_another(kept, small, first, where):
            size, first = {name: str(_SMALL)}, small
            kept.answers.append(small)
            pages = [one for one in pages if one != name]
            break
    for steps in _next_ways(first, where, size, offsets, pages, marks, kept.came(first, where)):
        told = [await _ask(session, link or path, query, values, base) for link, query in steps]
        came = [page for page in told if page is not None and kept.records_of(page, where)]
        if len(came) == len(steps) and _is_another(kept, came[-1], first, where):
            kept.answers.extend(came)
            return


def _is_another(listed: ListSeen, page: AnswerSeen, first: AnswerSeen, where: str) -> bool:
    return bool(known_by(listed.records_of(page, where)[0]) != known_by(listed.records_of(first, where)[0]))


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


async def _ask(
    session: Session, path: str, query: Mapping[str, str], values: Mapping[str, str], base: str
) -> AnswerSeen | None:
    shape = session.dialect.shape
    own = path if "://" in path else path.removeprefix(base)
    try:
        made = await session.exchange(Request(method="GET", path=own, query=dict(query), shape=shape))
        if made.reply.status != 200:
            return None
        body = decode(made.reply.content, shape)
    except (BadAnswer, CalledWrongly):
        return None
    except ConcordexError:
        raise
    parts = urlsplit(made.url)
    links = ", ".join(made.reply.links)
    headers = {name.lower(): value for name, value in made.reply.headers.items()} | ({"link": links} if links else {})
    url = f"{parts.path}?{parts.query}" if parts.query else parts.path
    asked = dict(query) or {n: v for n, v in parse_qsl(parts.query) if not is_secret(n)}
    return AnswerSeen(parameters=asked, body=body, values=values, headers=headers, url=url)

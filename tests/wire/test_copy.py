"""A copy of a system: pulling it gives what it was made of, whatever manner its dialect tells."""

from __future__ import annotations

import asyncio
import json
from typing import Any

import httpx
import orjson
import polars as pl
import pytest
from hypothesis import given
from hypothesis import strategies as st

from concordex.model.fields import ORIGINAL
from concordex.unseen import UNSEEN, Secret
from concordex.wire.copy.copy import Copy
from concordex.wire.copy.gate import made_up
from concordex.wire.copy.stock import Stock
from concordex.wire.dialect import Dialect
from concordex.wire.http.session import Endpoint, Session
from concordex.wire.reading.tables import read_tables
from concordex.work.rehearse.serving import Served

PAGES: dict[str, dict[str, Any]] = {
    "none": {},
    "offset": {"by": "offset", "offset": "from", "limit": "many", "first": 1, "size": 3},
    "offset, refusing": {"by": "offset", "offset": "from", "limit": "many", "size": 2, "past_end": 404},
    "number": {"by": "number", "page": "page", "limit": "per", "size": 3},
    "number, repeating": {"by": "number", "page": "page", "first": 0, "size": 2, "past_end": "repeats"},
    "range": {"by": "range", "size": 3},
    "link": {"by": "link", "next": "onward.href", "limit": "take", "size": 3},
    "link_header": {"by": "link_header", "limit": "take", "size": 2},
    "link in a header": {"by": "link", "next": "header:X-Onward", "limit": "take", "size": 2},
    "cursor": {"by": "cursor", "next": "$['@mark.next']", "cursor": "mark", "more": "more", "limit": "n", "size": 3},
    "cursor in a header": {"by": "cursor", "next": "header:X-Mark", "cursor": "mark", "limit": "n", "size": 2},
    "same mark": {"by": "cursor", "next": "mark", "cursor": "mark", "same_mark": True, "limit": "n", "size": 3},
}  # fmt: skip
SIGN_INS: dict[str, dict[str, Any]] = {
    "none": {"by": "none"},
    "basic": {"by": "basic"},
    "header": {"by": "header", "header": "X-Key", "value": "Key {password}"},
    "query": {"by": "query", "parameter": "key", "value": "{password}"},
    "call": {
        "by": "call", "call": {"path": "/in", "json": {"u": "{user}", "p": "{password}"}, "shape": "json"},
        "gives": {"ticket": "session.ticket"}, "lasts": "session.for",
        "carries": {"query": {"ticket": "{ticket}"}}, "sign_out": {"path": "/out"},
    },
    "cookies": {
        "by": "call", "call": {"path": "/in", "form": {"u": "{user}", "p": "{password}"}},
        "gives": {"guard": "header:X-Guard", "jar": "cookie:lamp"},
        "carries": {"cookies": True, "headers": {"X-Guard": "{guard}"}},
    },
    "client_credentials": {"by": "client_credentials", "path": "/token", "client": "{user}", "secret": "{password}"},
    "basic client": {
        "by": "client_credentials", "path": "/token", "client": "{user}", "secret": "{password}", "send": "basic",
    },
    "signature": {"by": "signature", "key": "{password}", "key_id": "{user}"},
    "shared key": {"by": "signature", "key": "{password}", "key_id": "{user}", "algorithm": "hmac-sha256"},
}  # fmt: skip
#: What a record may say, in every shape; an id may be anything that can stand in an address, of which no part means
#: this place or the one above it.
SIGNS = st.characters(codec="utf-8", exclude_categories=["Cc", "Cs", "Zs", "Zl", "Zp", "Cn"])
WORDS = st.text(SIGNS, min_size=1, max_size=8)
IDS = WORDS.filter(lambda text: not {".", ".."} & set(text.split("/")))


@st.composite
def told(draw: st.DrawFn) -> tuple[dict[str, Any], list[dict[str, Any]], list[dict[str, Any]]]:
    """A dialect, and the records of its two tables, of which one hangs from the other."""
    shape = draw(st.sampled_from(["json", "json", "xml", "csv", "ndjson", "text"]))
    records = {"json": draw(st.sampled_from(["$", "lamps", "a.b.lamps", "$['x.y'].lamps"])), "xml": "all.lamp"}
    rows = shape in ("csv", "ndjson", "text")
    pages = draw(st.sampled_from([kind for kind in PAGES if not rows or kind not in ("link", "cursor", "same mark")]))
    total = draw(st.sampled_from(["header:X-All", {"path": "/count", "at": "header:X-All"}, None]))
    if shape == "json" and records["json"] != "$":
        total = draw(st.sampled_from(["all.n", total]))
    read: dict[str, Any] = {"path": "/lamps", "records": records.get(shape, "$"), "pages": PAGES[pages]}
    if not PAGES[pages]:
        del read["pages"]
    if shape == "xml" and pages in ("link", "cursor", "same mark"):
        read["pages"] = PAGES[pages] | {"next": "all.onward"} | ({"more": "all.more"} if pages == "cursor" else {})
    if pages in ("link", "cursor", "same mark") and read["records"] == "$":
        read["records"] = "lamps"
    if total and not (isinstance(total, str) and shape == "xml" and "." in total):
        read["total"] = total
    if shape == "json" and draw(st.booleans()):
        read["keyed_by"] = "id"
    ids = st.integers(0, 10**6) if shape == "json" and "keyed_by" not in read else IDS
    lamp = st.fixed_dictionaries({"id": ids, "label": WORDS})
    own = draw(st.lists(lamp, max_size=8, unique_by=lambda record: str(record["id"])))
    tables: dict[str, Any] = {
        "devices": {"read": read, "fields": {"record_id": "id", "name": "label"}},
        "ports": {
            "read": {
                "each": {"of": "devices"}, "path": "/lamps/{record_id}/ports", "shape": "json", "records": "ports",
                "complete": "the guide says that all of them come at once",
            },
            "fields": {
                "record_id": {"from": "no", "below_parent": True}, "name": "called",
                "parent": {"of_parent": "record_id"},
            },
        },
    }  # fmt: skip
    if shape == "json" and draw(st.booleans()):
        read["details"] = {"path": "/lamps/{id}", "record": "lamp"}
    if shape == "json" and draw(st.booleans()):
        read["also"] = [{"path": "/moods", "records": "moods", "match": {"of": "id"}, "under": "mood"}]
        own = [record | {"mood": {"of": record["id"], "is": "lit"}} for record in own]
    sign_in = draw(st.sampled_from(list(SIGN_INS)))
    dialect = {
        "format": 1, "name": "lamps", "title": "Lamps", "base": draw(st.sampled_from(["", "/api/v2"])),
        "credentials": {"user": {}, "password": {"secret": True}}, "sign_in": SIGN_INS[sign_in], "tables": tables,
        "shape": {"by": "text", "pattern": r"^(?P<id>\S+)\s+(?P<label>\S+)$"} if shape == "text" else shape,
        "limits": {"rate": None},
    }  # fmt: skip
    ports = [
        {"no": no, "called": f"port {no}", "_parent": str(record["id"])}
        for at, record in enumerate(own) for no in range(at % 3)
    ]  # fmt: skip
    return dialect, own, ports


def pulled_of(dialect: Dialect, own: list[dict[str, Any]], ports: list[dict[str, Any]]) -> dict[str, pl.DataFrame]:
    """The rows that a pull would have kept of these records."""
    frames: dict[str, pl.DataFrame] = {}
    for name, records in (("devices", own), ("ports", ports)):
        parents = [record.get("_parent") for record in records]
        plain = [{k: v for k, v in record.items() if k != "_parent"} for record in records]
        ids = [f"{p}/{r['no']}" if p is not None else str(r["id"]) for p, r in zip(parents, plain, strict=True)]
        raw = pl.DataFrame(
            {"record_id": ids, ORIGINAL: [orjson.dumps(r).decode() for r in plain]},
            schema={"record_id": pl.String, ORIGINAL: pl.String},
        )
        stock = Stock({name: dialect.tables[name]}, raw, parents)
        frames[name] = stock.mapped(name, stock.ids, lambda other: frames[other])
    return frames


async def read_all(url: str, dialect: Dialect, ours: dict[str, str]) -> dict[str, Any]:
    credentials = {name: Secret(text) if name == "password" else text for name, text in ours.items()}
    async with Session(Endpoint(name="lamps", url=url, credentials=credentials), dialect) as session:
        return {name: look async for name, look in read_tables(session, list(dialect.tables))}


@given(told())
def test_pulling_a_copy_gives_what_it_was_made_of(said):
    """In every manner of paging, signing in and writing answers; and whatever is announced there is proved."""
    document, own, ports = said
    UNSEEN.forget()  # each example makes up its own, and what is told is searched for all of them
    dialect = Dialect.model_validate(document)
    frames = pulled_of(dialect, own, ports)
    ours, known = made_up(dialect, {})
    with Served(Copy(dialect, frames, known)) as served:
        looks = asyncio.run(read_all(served.url, dialect, ours))
        assert not served.copy.noted.untold
    for name, frame in frames.items():
        came = looks[name].frame
        assert came.drop(ORIGINAL).sort("record_id").equals(frame.drop(ORIGINAL).sort("record_id"))
        originals = [sorted(map(_plain, part[ORIGINAL])) for part in (came, frame)]
        assert originals[0] == originals[1]
        assert looks[name].outcome != "partial"
    read = document["tables"]["devices"]["read"]
    if len(own) > 3 and read.get("total") and read.get("pages") and not read.get("also"):
        assert looks["devices"].outcome == "whole", looks["devices"].why


def _plain(text: str) -> str:
    return json.dumps(json.loads(text), sort_keys=True)


def lamps(**more: Any) -> Dialect:
    """A dialect with one table that is written."""
    table = {
        "read": {"path": "/lamps", "records": "lamps", "total": "n"},
        "fields": {
            "record_id": "id", "name": "label", "serial": "serialNo",
            "kind": {"from": "sort", "values": {"sw": "switch"}},
        },
        "filters": [
            {"field": "name", "tests": "like", "parameter": "q", "write": "name:'{value}'", "escape": "doubled",
             "wildcards": {"*": "%", "?": "_"}, "any_case": True},
            {"field": "kind", "tests": ["=", "in"], "parameter": "sort", "several": "|", "any_case": True},
        ],
        "write": {
            "keys": "serial", "required": ["name", "serial"], "unique": "serial",
            "fields": {
                "name": {"to": "label", "longest": 12}, "serial": "serialNo",
                "kind": {"to": "sort", "values": {"switch": "sw"}, "choices": ["switch"]},
            },
            "create": {"path": "/lamps", "batch_size": 5, "records": "items", "made": "items"},
            "update": {"path": "/lamps/{record_id}", "as": "json_patch", "etag": True},
            "delete": {"path": "/lamps/{record_id}"},
            "refusals": {"records": "why.bad", "index": "at", "reason": "text"},
            **more,
        },
    }  # fmt: skip
    head = {"format": 1, "name": "lamps", "title": "Lamps", "errors": {"message": "why.text"}}
    return Dialect.model_validate(head | {"tables": {"devices": table}})


@pytest.fixture
def copy():
    """A copy of three lamps, and a client that knows it."""
    dialect = lamps()
    own = [{"id": n, "label": f"lamp-{n}", "serialNo": f"S{n}", "sort": "sw" if n < 3 else "ap"} for n in (1, 2, 3)]
    stock = Stock(
        {"devices": dialect.tables["devices"]},
        pl.DataFrame({"record_id": ["1", "2", "3"], ORIGINAL: [orjson.dumps(r).decode() for r in own]}), [None] * 3,
    )  # fmt: skip
    pulled = {"devices": stock.mapped("devices", stock.ids, lambda _: pl.DataFrame())}
    with Served(Copy(dialect, pulled, {})) as served, httpx.Client(base_url=served.url) as client:
        client.noted = served.copy.noted
        yield client


def test_a_copy_filters_as_the_dialect_says(copy):
    assert [r["id"] for r in copy.get("/lamps", params={"sort": "SW|none"}).json()["lamps"]] == [1, 2]
    assert [r["id"] for r in copy.get("/lamps", params={"q": "name:'LAMP-_'"}).json()["lamps"]] == [1, 2, 3]
    assert copy.get("/lamps", params={"q": "name:'%3'"}).json()["n"] == 1


@pytest.mark.parametrize("asked", ["/lamps?sort=sw&colour=red", "/lamps?q=label:x", "/lampshades", "/lamps/1/ring"])
def test_what_a_dialect_does_not_tell_is_said_to_be_unknown(copy, asked):
    """Never an empty list, nor a list that ignores what was asked."""
    answer = copy.get(asked)
    assert answer.status_code == 501
    assert "its dialect does not tell it" in answer.json()["why"]["text"]


@pytest.mark.parametrize(
    ("items", "places"),
    [
        ([{"label": "new", "serialNo": "S9"}, {"label": "", "serialNo": "S8"}], {1: "label is required"}),
        ([{"label": "new", "serialNo": "S2"}], {0: "2 has the serial S2 already"}),
        ([{"label": "a", "serialNo": "T"}, {"label": "b", "serialNo": "T"}], {1: "4 has the serial T already"}),
        ([{"label": "much too long a name", "serialNo": "T"}], {0: "label may have 12 characters, and not 20"}),
        ([{"label": "x", "serialNo": "T", "sort": "tub"}], {0: "sort may be sw, and not tub"}),
    ],
)
def test_a_list_with_a_bad_record_is_refused_as_a_whole(copy, items, places):
    """Each bad one is named where the dialect says so, and nothing of the list stays."""
    answer = copy.post("/lamps", json={"items": items})
    assert answer.is_client_error
    assert {bad["at"]: bad["text"] for bad in answer.json()["why"]["bad"]} == places
    assert copy.get("/lamps").json()["n"] == 3
    assert (copy.noted.writes, sum(copy.noted.refused.values())) == (0, 1)


def test_a_write_is_seen_by_who_reads_after_it_and_a_stale_one_is_refused(copy):
    made = copy.post("/lamps", json={"items": [{"label": "new", "serialNo": "S9", "sort": "sw"}]}).json()["items"][0]
    at = f"/lamps/{made['id']}"
    assert copy.get("/lamps", params={"sort": "sw"}).json()["n"] == 3
    tag = copy.get(at).headers["ETag"]
    patch = [{"op": "add", "path": "/label", "value": "newer"}]
    assert copy.patch(at, json=patch, headers={"If-Match": tag}).status_code == 200
    assert copy.patch(at, json=patch, headers={"If-Match": tag}).status_code == 412
    assert copy.patch(at, json=[{"op": "test", "path": "/label", "value": "old"}]).status_code == 400
    assert copy.get(at).json()["label"] == "newer"
    assert copy.delete(at).status_code == 204
    assert copy.delete(at).status_code == 404
    assert copy.get("/lamps").json()["n"] == 3


JSONS = st.recursive(
    st.none() | st.booleans() | st.integers() | st.text(max_size=5),
    lambda below: (
        st.lists(below, max_size=3)
        | st.dictionaries(st.sampled_from(["items", "label", "serialNo", "op", "path", "x"]), below, max_size=3)
    ),
    max_leaves=8,
)


@given(
    st.sampled_from(["GET", "POST", "PATCH", "DELETE", "PUT"]),
    st.sampled_from(["/lamps", "/lamps/1", "/lamps/none", "/lamps/%2F", "/", "/lamps/1/2"]),
    st.dictionaries(st.sampled_from(["q", "sort", "copy-from", "x"]), st.text(max_size=4), max_size=2),
    JSONS | st.binary(max_size=6),
)
def test_whatever_is_asked_a_copy_answers_and_stays(method, path, query, body):
    """Also what makes no sense: refused or not known, never a fault of its own, and never half done."""
    dialect = lamps()
    own = {"id": 1, "label": "lamp-1", "serialNo": "S1", "sort": "sw"}
    raw = pl.DataFrame({"record_id": ["1"], ORIGINAL: [orjson.dumps(own).decode()]})
    stock = Stock({"devices": dialect.tables["devices"]}, raw, [None])
    copied = Copy(dialect, {"devices": stock.mapped("devices", ["1"], lambda _: pl.DataFrame())}, {})
    asked = httpx.Request(method, f"http://lamps{path}", params=query)
    content = body if isinstance(body, bytes) else json.dumps(body).encode()
    headers = {"content-type": "application/json"}
    where = asked.url.raw_path.decode().partition("?")[0]
    sent = copied.answer(method, where, asked.url.query.decode(), headers, content, "http://lamps")
    assert sent.status in range(200, 600)
    assert sent.status != 500
    json.loads(sent.content or b"null")
    held = json.loads(copied.answer("GET", "/lamps", "", {}, b"", "http://lamps").content)
    assert held["n"] == len(held["lamps"])
    if sent.status >= 400:
        assert held["lamps"] == [own]

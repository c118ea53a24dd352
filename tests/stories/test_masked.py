"""What a system shows of a secret is a mask: it is never sent in the secret's place, and never called read back."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

import pytest

from concordex.model.masks import is_mask
from tests.spite import Spite, spiteful

MASKS = ["********", "••••••", "<hidden>", "[REDACTED]", "XXXXXXXX"]


@pytest.mark.parametrize(
    "value", ["", "**", "*", "----", "hidden", "xxx", "a***", None, 7, ["***"], "10.0.0.*", "0000000"]
)
def test_what_may_be_meant_is_no_mask(value):
    assert not is_mask(value)


def covered(spite: Spite, cover: Callable[[dict[str, Any]], None]) -> None:
    """Let the system show records as ``cover`` leaves them."""
    read = spite._read

    def answer(*asked: Any) -> tuple:
        status, said, *more = read(*asked)
        for record in said.get("all", [said]):
            cover(record)
        return status, said, *more

    spite._read = answer


@pytest.mark.parametrize("mask", MASKS)
@pytest.mark.parametrize("nested", [False, True])
def test_a_record_that_is_sent_whole_takes_no_mask_along(tmp_path, serve, mask, nested):
    """Another field's update would make the mask the secret, and look the same afterwards."""
    shell, spite = spiteful(tmp_path, serve, how=", method: PUT, whole: true")
    number = spite.put("devices", label="lamp-1", key={"word": "tr0ub4dor"} if nested else "tr0ub4dor")

    def cover(record):
        if "key" in record:
            record["key"] = {"word": mask} if nested else mask

    covered(spite, cover)
    shell("pull")
    done = shell("set", "spite", "lamp-1", "comment=hello", "--yes", status=4)
    assert f"of key{'.word' if nested else ''} only a mask is shown" in done.stdout
    assert spite.tables["devices"][number]["key"] == ({"word": "tr0ub4dor"} if nested else "tr0ub4dor")
    assert not spite.sent


@pytest.mark.parametrize(("more", "sent"), [
    ("without: [key.word]", {}), ("without: [key]", None), ("masks: the guide says that it keeps it", {"word": "***"}),
])  # fmt: skip
def test_a_dialect_says_what_becomes_of_a_mask(tmp_path, serve, more, sent):
    shell, spite = spiteful(tmp_path, serve, how=f", method: PUT, whole: {{{more}}}")
    spite.put("devices", label="lamp-1", key={"word": "tr0ub4dor"})

    def do(method: str, table: str, path: list[str], body: Any, headers: dict[str, str]) -> tuple:
        spite.sent.append((method, body, None))
        held = spite.tables[table][int(path[0])]
        held |= {name: value for name, value in body.items() if name != "key"}
        return 200, {}

    spite.meets = do
    covered(spite, lambda record: record.update(key={"word": "***"}) if "key" in record else None)
    shell("pull")
    shell("set", "spite", "lamp-1", "comment=hello", "--yes")
    assert spite.sent[0][1].get("key") == sent


SECRET = (
    ("seen: {from: seen, type: time}\n", "seen: {from: seen, type: time}\n      word: {from: key, type: text}\n"),
    ("seen: seen}\n      references", "seen: seen, word: {to: key, secret: true}}\n      references"),
)


def secretive(text: str) -> str:
    """The dialect with a field that is a secret."""
    for old, new in SECRET:
        assert old in text
        text = text.replace(old, new, 1)
    return text


@pytest.mark.parametrize("shown", [None, "******", "$5$rounds"])
def test_an_undo_leaves_a_secret_that_nobody_knows_any_more(tmp_path, serve, shown):
    """What it was before was never shown: nothing is put in its place, and that it stays is told."""
    shell, spite = spiteful(tmp_path, serve, more=secretive)
    number = spite.put("devices", label="lamp-1", key="tr0ub4dor")

    def cover(record):
        if "key" in record:
            record["key"] = shown

    covered(spite, cover)
    shell("pull")
    env = {"WORD": "n3w"}
    assert "word: env:WORD; comment" in shell("set", "spite", "lamp-1", "word=env:WORD", "comment=hi", "--draft").stdout
    assert "word is never shown, so it was not read back" in shell("change", "run", "1", "--yes", env=env).stderr
    assert spite.tables["devices"][number]["key"] == "n3w"
    done = shell("change", "undo", "1", "--yes", status=4)
    assert "what word was is never shown, so it stays as it is" in done.stdout
    assert (spite.tables["devices"][number]["key"], spite.tables["devices"][number]["note"]) == ("n3w", "")


def test_what_no_reading_shows_is_emptied_and_never_called_so_already(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, more=secretive)
    number = spite.put("devices", label="lamp-1", key="tr0ub4dor")
    covered(spite, lambda record: record.pop("key", None))
    shell("pull")
    shell("set", "spite", "lamp-1", "word=", "--yes")
    assert spite.tables["devices"][number]["key"] is None


def test_a_deletion_is_undone_without_what_was_never_shown_and_says_so(tmp_path, serve):
    shell, spite = spiteful(tmp_path, serve, more=secretive)
    spite.put("devices", label="lamp-1", key="tr0ub4dor", note="hi")
    covered(spite, lambda record: record.update(key="*****") if "key" in record else None)
    shell("pull")
    shell("delete", "spite", "lamp-1", "--count", "1")
    done = shell("change", "undo", "1", "--yes", status=4)
    assert "what word was is never shown, so it is not brought back" in done.stdout
    (there,) = spite.tables["devices"].values()
    assert there.get("note") == "hi"
    assert "key" not in there


@pytest.mark.parametrize("place", ["word", "auth.word"])
def test_an_undo_writes_no_mask_that_the_dialect_knows_nothing_of(tmp_path, serve, place):
    """What was deleted comes back without it, which is told."""
    shell, spite, _ = linked(tmp_path, serve, place, secret=False, shown="*****")
    shell("config", "remove", "spite/links/one", "--count", "1")
    done = shell("change", "undo", "1", "--yes", status=4)
    assert f"what {place.partition('.')[0]} was is never shown, so it is not brought back" in done.stdout
    (there,) = spite.tables["links"].values()
    assert there == {"id": there["id"], "label": "one", "rate": 5}


def test_a_secret_is_said_by_where_it_is_kept(tmp_path, serve):
    """In a set as in a push, and in a change that somebody wrote by hand."""
    shell, spite = spiteful(tmp_path, serve, more=secretive)
    spite.put("devices", label="lamp-1")
    shell("pull")
    told = shell("set", "spite", "lamp-1", "word=tr0ub4dor", "--yes", status=2)
    assert "is a secret: say where it is kept" in told.stderr
    assert "tr0ub4dor" not in told.stdout + told.stderr
    shell("set", "spite", "lamp-1", "word=env:WORD", "--draft")
    shell("change", "save", "1", "-o", str(tmp_path / "change.yaml"))
    kept = (tmp_path / "change.yaml").read_text()
    (tmp_path / "change.yaml").write_text(kept.replace("env:WORD", "tr0ub4dor"))
    told = shell("change", "load", str(tmp_path / "change.yaml"), "--yes", status=2)
    assert "step 1: word is a secret" in told.stderr
    assert "tr0ub4dor" not in told.stdout + told.stderr
    assert not spite.sent


LINKS = """
  links:
    read: {path: /links, records: all, complete: one answer holds all}
    fields: {record_id: id, name: label, word: {from: PLACE, type: text}}
    config: {}
    write:
      keys: name
      required: name
      fields: {name: label SECRET}
      create: {path: /links}
      update: {path: "/links/{record_id}"}
      delete: {path: "/links/{record_id}"}
"""


def linked(tmp_path, serve, place: str, *, secret: bool, shown: str | None) -> tuple:
    """A system of links, one of which has a word at ``place``, shown as ``shown``."""
    text = LINKS.replace("PLACE", place).replace(" SECRET", f", word: {{to: {place}, secret: true}}" if secret else "")
    shell, spite = spiteful(tmp_path, serve, more=lambda dialect: dialect + text, also=["links"])
    members = {"auth": {"word": "tr0ub4dor", "mode": "x"}} if "." in place else {"word": "tr0ub4dor"}
    number = spite.put("links", label="one", rate=5, **members)

    def cover(record):
        holds = record.get("auth", record)
        if "word" in holds:
            holds["word"] = shown or holds["word"]

    covered(spite, cover)
    return shell, spite, spite.tables["links"][number]


@pytest.mark.parametrize("place", ["word", "auth.word"])
@pytest.mark.parametrize("shown", [None, "*****"])
def test_no_file_holds_what_a_dialect_calls_a_secret(tmp_path, serve, place, shown):
    """It is not saved, compared or copied; a file says where it is kept, and that stays when it is saved again."""
    shell, spite, _ = linked(tmp_path, serve, place, secret=True, shown=shown)
    base, env = tmp_path / "base", {"WORD": "n3w"}
    shell("config", "save", "spite", "--into", str(base))
    file = base / "spite" / "links" / "one.yaml"
    assert not {"tr0ub4dor", "*****", "word"} & set(file.read_text().replace('"', " ").replace(":", " ").split())
    copied = shell("config", "copy", "spite/links/one", "--as", "two", "--yes").stderr
    assert f"links/two is made without {place}, which is never shown" in copied
    assert "tr0ub4dor" not in str([sent for _, sent, _ in spite.sent])
    text = file.read_text().replace("name: one", "name: three")
    nested = "." in place
    text = text.replace("mode: x", "mode: x\n    word: env:WORD") if nested else f"{text}  word: env:WORD\n"
    (file.parent / "three.yaml").write_text(text)
    shell("config", "push", str(base / "spite"), "--to", "spite", "--yes", env=env)
    (three,) = [one for one in spite.tables["links"].values() if one["label"] == "three"]
    assert three.get("auth", three)["word"] == "n3w"
    assert "nothing to do" in shell("config", "push", str(base / "spite"), "--to", "spite", env=env).stderr
    three["rate"] = 9
    shell("drift", "--from", str(base), "--accept", status=None)
    assert "env:WORD" in (file.parent / "three.yaml").read_text()
    assert "rate: 9" in (file.parent / "three.yaml").read_text()
    (file.parent / "three.yaml").write_text(text.replace("env:WORD", "tr0ub4dor"))
    assert f"{place} is a secret" in shell("config", "push", str(base / "spite"), "--to", "spite", status=2).stderr


def test_a_secret_within_what_is_written_anew_is_told_and_kept_by_an_undo(tmp_path, serve):
    shell, _, there = linked(tmp_path, serve, "auth.word", secret=True, shown=None)
    shell("config", "save", "spite", "--into", str(tmp_path / "base"))
    file = tmp_path / "base" / "spite" / "links" / "one.yaml"
    file.write_text(file.read_text().replace("mode: x", "mode: y"))
    words = ("config", "push", str(file), "--to", "spite", "--yes")
    assert "auth is written anew, and would lose auth.word" in shell(*words, status=2).stderr
    file.write_text(file.read_text().replace("mode: y", "mode: y\n    word: env:WORD"))
    shell(*words, env={"WORD": "n3w"})
    assert there["auth"] == {"mode": "y", "word": "n3w"}
    told = shell("change", "undo", "1", "--yes", env={"WORD": "n3w"}, status=4)
    assert "what auth.word was is never shown, so it stays as it is" in told.stdout
    assert there["auth"] == {"mode": "x", "word": "n3w"}


@pytest.mark.parametrize("place", ["word", "auth.word"])
def test_a_copy_never_has_a_mask_for_a_secret(tmp_path, serve, place):
    """Also where the dialect does not know that it is one; an update that leaves it alone is none the worse."""
    shell, spite, there = linked(tmp_path, serve, place, secret=False, shown="*****")
    words = ("config", "copy", "spite/links/one", "--as", "two", "--yes")
    assert f"{place} is a mask, which stands for a secret" in shell(*words, status=2).stderr
    assert not spite.sent
    shell(*words, "--drop", place)
    shell(*words[:-2], "three", "--set", f"{place}=n3w", "--yes", status=4)  # it is shown as a mask again
    assert sorted(spite.labels("links")) == ["one", "three", "two"]
    shell("config", "save", "spite", "--into", str(tmp_path / "base"))
    file = tmp_path / "base" / "spite" / "links" / "one.yaml"
    file.write_text(file.read_text().replace("rate: 5", "rate: 6"))
    shell("config", "push", str(file), "--to", "spite", "--yes")
    assert (there["rate"], there.get("auth", there)["word"]) == (6, "tr0ub4dor")
    file.write_text(file.read_text().replace("mode: x", "mode: y"))
    if "." in place:
        assert "is a mask" in shell("config", "push", str(file), "--to", "spite", "--yes", status=2).stderr


@pytest.mark.parametrize(("shown", "told"), [(None, True), ("*****", False)])
def test_secrets_that_stand_in_files_are_told_when_they_are_written(tmp_path, serve, shown, told):
    shell, _, there = linked(tmp_path, serve, "word", secret=False, shown=shown)
    there["auth"] = {"keys": [{"pre_shared_key": shown or "tr0ub4dor", "mode": "token"}], "password": ""}
    words = ("config", "save", "spite", "--into", str(tmp_path / "base"))
    said = "what looks like secrets in clear text: links: auth.keys[].pre_shared_key ("
    assert (said in shell(*words).stderr) is told
    assert "clear text" not in shell(*words).stderr


@pytest.mark.parametrize("known", [True, False])
def test_a_secret_is_fetched_for_what_goes_in_one_call_too(tmp_path, serve, known):
    together = "together: {path: /all, tables: {devices: devices, sites: sites}, made: $, refers: '#{member}/{at}'}\n"
    shell, spite = spiteful(tmp_path, serve, more=lambda text: secretive(text) + together)

    def do(method: str, table: str, path: list[str], body: Any, headers: dict[str, str]) -> tuple | None:
        if table != "all":
            return None
        sites = [spite.put("sites", **one) for one in body["sites"]]
        made = [spite.put("devices", **one | {"room": sites[int(one["room"][-1])]}) for one in body["devices"]]
        return 201, {"sites": [{"id": one} for one in sites], "devices": [{"id": one} for one in made]}

    spite.meets = do
    (tmp_path / "x.csv").write_text("name,site,word\nlamp-1,North Mole,env:WORD\n")
    shell("push", str(tmp_path / "x.csv"), "--to", "spite", "--table", "devices", "--make", "sites", "--draft")
    words = ("change", "run", "1", "--together", "--yes")
    shell(*words, env={"WORD": "n3w"} if known else {}, status=0 if known else 4)
    assert [one["key"] for one in spite.tables["devices"].values()] == (["n3w"] if known else [])
    assert spite.asked["POST"] == 1

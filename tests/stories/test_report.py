"""A report: one page that asks nothing of any host, reads aloud, and in which names from outside are texts."""

from __future__ import annotations

import base64
import re
import shutil
import subprocess
from datetime import UTC, datetime
from html.parser import HTMLParser
from pathlib import Path
from xml.etree import ElementTree as ET

import pytest

from concordex.cli.commands.report import _BROWSERS
from concordex.work.show.report import SECTIONS
from tests.conftest import MOMENT, Near, make_workspace

BROWSER = next((path for name in _BROWSERS if (path := shutil.which(name))), None)
HOSTILE = [
    "<img src=x onerror=\"document.title='hit'\">", "</td></table><script>document.title='hit'</script>",
    "\"><svg onload=document.title='hit'>", "{{7*7}}", "\u202egnirts", "n" * 300, "a\x00b\x1b[31m", "&lt;b&gt;",
]  # fmt: skip


class Page(HTMLParser):
    """The elements of a page, and the texts of some."""

    def __init__(self, text: str) -> None:
        super().__init__()
        self.elements: list[tuple[str, dict]] = []
        self.texts: dict[str, list[str]] = {}
        self.open: list[str] = []
        self.feed(text)

    def handle_starttag(self, tag, attrs):
        self.elements.append((tag, dict(attrs)))
        if tag not in ("meta", "img", "input"):
            self.open.append(tag)

    def handle_endtag(self, tag):
        assert self.open.pop() == tag  # it is well formed

    def handle_data(self, data):
        if self.open:
            self.texts.setdefault(self.open[-1], []).append(data)

    def of(self, tag: str) -> list[dict]:
        return [attrs for name, attrs in self.elements if name == tag]


def test_a_report_holds_every_section_and_asks_nothing_of_any_host(pulled, tmp_path):
    path = tmp_path / "fleet.html"
    told = pulled("report", "-o", str(path)).stderr
    assert f"{len(SECTIONS)} sections" in told
    text = path.read_text(encoding="utf-8")
    assert len(text) < 3_000_000
    page = Page(text)
    assert not page.open
    assert {attrs["id"] for attrs in page.of("h2")} == {*SECTIONS}
    addresses = [attrs[name] for _, attrs in page.elements for name in ("src", "href", "action") if name in attrs]
    assert addresses
    assert all(address.startswith(("#", "data:image/svg+xml;base64,")) for address in addresses)
    policy = next(attrs["content"] for attrs in page.of("meta") if "http-equiv" in attrs)
    assert "default-src 'none'" in policy
    assert "unsafe" not in policy
    assert not [attrs for _, attrs in page.elements if any(name.startswith("on") or name == "style" for name in attrs)]
    pictures = [attrs["src"].partition(",")[2] for attrs in page.of("img")]
    for picture in pictures:
        inside = base64.b64decode(picture).decode()
        assert not re.search(r"<(script|image|foreignObject)|href=\"[^#]", inside)
        ET.fromstring(inside)


def test_a_report_reads_aloud(pulled, tmp_path):
    """Headings in order, tables with captions and headed columns, fields with labels, figures with words."""
    path = tmp_path / "fleet.html"
    pulled("report", "-o", str(path))
    page = Page(path.read_text(encoding="utf-8"))
    assert page.of("html")[0]["lang"] == "en"
    assert next(tag for tag, _ in page.elements if tag in ("h1", "h2")) == "h1"
    assert len(page.of("table")) == len(page.of("caption"))
    assert all(attrs.get("scope") == "col" for attrs in page.of("th"))
    assert {attrs["id"] for attrs in page.of("input")} == {attrs["for"] for attrs in page.of("label")}
    assert all(re.search(r"\d", attrs["alt"]) for attrs in page.of("img"))
    fleet = pulled.workspace.entries()
    assert f"{fleet.height:,} devices (all devices)" in "".join(page.texts["p"])


@pytest.fixture(scope="module")
def hostile(harbour_of_names, tmp_path_factory):
    """A report on a fleet whose names would act, if they could."""
    path = tmp_path_factory.mktemp("hostile") / "fleet.html"
    harbour_of_names("report", "-o", str(path))
    return path


@pytest.fixture(scope="module")
def harbour_of_names(tmp_path_factory):
    from concordex.standins.server import Harbour

    with Harbour.of(120, moment=MOMENT, seed=3) as harbour:
        for records, member in (
            (harbour.fairlead.nodes, "label"), (harbour.muster.devices, "displayName"),
            (list(harbour.stowage.lists["gear"].values()), "title"), (harbour.muster.devices, "platformVersion"),
            (list(harbour.stowage.lists["racks"].values()), "name"),
        ):  # fmt: skip
            for at, name in enumerate(HOSTILE):
                records[at][member] = name
        shell = make_workspace(tmp_path_factory.mktemp("names"), harbour, kind=Near)
        shell("pull")
        shell("reconcile")
        yield shell


def test_names_from_outside_are_texts_and_nothing_else(hostile):
    text = hostile.read_text(encoding="utf-8")
    page = Page(text)
    assert not page.open
    assert (len(page.of("script")), len(page.of("svg"))) == (1, 0)
    assert all("onerror" not in attrs and "onload" not in attrs for _, attrs in page.elements)
    shown = "".join("".join(texts) for texts in page.texts.values())
    assert "<img src=x onerror=" in shown  # as a text
    assert "&lt;b&gt;" in shown
    assert not re.search("[\u202e\x00\x1b]", text)


@pytest.mark.skipif(BROWSER is None, reason="no browser is here")
def test_in_a_real_browser_nothing_of_a_name_acts_and_tables_are_sorted(hostile, tmp_path):
    """Its policy lets our own script run, and no other."""
    probe = "<script>document.title='hit'</script><img src=x onerror=\"document.title='hit'\">"
    page = hostile.read_text(encoding="utf-8").replace("</main>", f"{probe}</main>")  # as if an escape were forgotten
    dom = opened(page, tmp_path)
    assert "<title>The fleet" in dom
    assert "<title>hit" not in dom


def opened(page: str, folder: Path) -> str:
    """What a browser makes of a page."""
    (folder / "p.html").write_text(page, encoding="utf-8")
    return subprocess.run(
        [BROWSER, "--headless", "--no-sandbox", "--disable-gpu", "--no-first-run", "--disable-background-networking",
         "--disable-component-update", "--disable-sync", f"--user-data-dir={folder}/profile", "--window-size=1031,700",
         "--dump-dom", (folder / "p.html").as_uri()],
        capture_output=True, text=True, timeout=120, check=False,
    ).stdout  # fmt: skip


@pytest.mark.skipif(BROWSER is None, reason="no browser is here")
def test_on_paper_no_table_is_wider_than_the_page(pulled, tmp_path):
    """What runs over its edge is not printed, without a word: seen as it is laid out for paper, by a script of ours."""
    pulled("report", "-o", str(tmp_path / "fleet.html"))
    page = (tmp_path / "fleet.html").read_text(encoding="utf-8").replace("@media print", "@media all")
    page = re.sub("<meta http-equiv=.Content-Security-Policy.[^>]*>", "", page)
    measure = "Math.max(...[...document.querySelectorAll('table,img')].map(t=>t.getBoundingClientRect().right))"
    dom = opened(page.replace("</main>", f"</main><script>document.title='right '+{measure}</script>"), tmp_path)
    assert 0 < float(re.search("<title>right ([0-9.]+)", dom)[1]) <= 1031


@pytest.mark.skipif(BROWSER is None, reason="no browser is here")
def test_a_browser_prints_it(pulled, tmp_path):
    pulled("report", "-o", str(tmp_path / "fleet.pdf"), "--section", "coverage")
    assert (tmp_path / "fleet.pdf").read_bytes().startswith(b"%PDF-")


def test_what_became_better_and_worse_stands_at_the_top(writing, fresh_harbour, tmp_path):
    writing("reconcile")
    between = datetime.now(UTC).isoformat()
    for end in fresh_harbour.fairlead.cables:
        end["duplex"] = "full"
    fresh_harbour.stowage.lists["gear"] = dict(list(fresh_harbour.stowage.lists["gear"].items())[:-4])
    writing("pull")
    writing("reconcile")
    path = tmp_path / "fleet.html"
    told = writing("report", "-o", str(path), "--compare", between).stderr
    assert "better: link_uneven: 2 findings, now 0" in told
    assert re.search(r"worse: stowage: \d+ devices known, now \d+", told)
    page = Page(path.read_text(encoding="utf-8"))
    lines = [attrs["class"] for attrs in page.of("li") if "class" in attrs]
    assert lines == sorted(lines)
    assert 2 <= len(lines) <= 10
    assert "nothing was reconciled by" in writing("report", "-o", str(path), "--compare", "2020-01-01", status=2).stderr


def test_a_report_on_little_says_what_is_lacking(tmp_path, harbour):
    """On nothing at all there is none; where a table is lacking, its section says so."""
    shell = make_workspace(tmp_path, harbour, ["muster"], kind=Near)
    assert "nothing has been pulled" in shell("report", "-o", "x.html", status=2).stderr
    shell("pull")
    assert "nothing has been reconciled" in shell("report", "-o", "x.html", status=2).stderr
    shell("reconcile")
    shell("report", "-o", "x.html", "--where", "kind = handheld")
    text = (shell.folder / "x.html").read_text()
    assert "Nothing to show: no racks were pulled" in text
    assert "Nothing to show: no links were pulled" in text
    assert "(kind = handheld)" in text


@pytest.mark.parametrize(
    ("words", "what"),
    [
        ((), "where to?"), (("-o", "x.txt"), "is .html or .pdf"), (("-o", "x.html", "--section", "racs"), '"racks"'),
        (("-o", "x.html", "--where", "sit = x"), '"site"'), (("-o", "x.html", "--compare", "soon"), "is not a date"),
    ],
)  # fmt: skip
def test_what_is_asked_wrongly_is_told(pulled, words, what):
    assert what in pulled("report", *words, status=2).stderr
    assert not (Path(pulled.folder) / "x.html").exists()


def test_without_a_browser_there_is_no_pdf_and_that_is_said(pulled, monkeypatch):
    monkeypatch.setattr("concordex.cli.commands.report._BROWSERS", ())
    assert "no browser is here" in pulled("report", "-o", "x.pdf", status=2).stderr

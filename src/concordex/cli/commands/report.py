"""``concordex report``."""

import shutil
import subprocess
import sys
import tempfile
from pathlib import Path
from typing import Annotated

import typer

from concordex.cli import draw
from concordex.cli.options import Where, moment, words, workspace
from concordex.errors import CalledWrongly, ConcordexError
from concordex.figures.page import render
from concordex.landing import landing

#: Browsers that print a page, by the names under which they are installed.
_BROWSERS = ("chromium", "chromium-browser", "google-chrome", "chrome", "msedge")
_PATIENCE = 120


def report(
    output: Annotated[
        Path | None, typer.Option("--output", "-o", help="The page: .html, or .pdf where a browser is.")
    ] = None,
    where: Where = None,
    compare: Annotated[
        str | None, typer.Option("--compare", help="What became better and worse since: a date, or 30d ago.")
    ] = None,
    section: Annotated[
        list[str] | None, typer.Option("--section", help="Only these sections, separated by commas.")
    ] = None,
) -> None:
    """All that is known of a fleet, or of a group, on one page that asks nothing of any host.

    Sections: coverage, findings, versions, health, batteries, links, racks, changes, sources.

    Examples:

    concordex report -o fleet.html

    concordex report -o quay.html --where 'group = quay' --compare 30d

    concordex report -o fleet.pdf --section findings,versions
    """
    if output is None:
        raise CalledWrongly("where to?", advice="concordex report -o fleet.html; or -o fleet.pdf, where a browser is")
    ending = output.suffix.lower()
    if ending not in (".html", ".pdf"):
        raise CalledWrongly(f"{output}: a report is .html or .pdf, by the ending of its file")
    browser = _browser() if ending == ".pdf" else None
    made = workspace().fleet.report(where, moment(compare, "--compare"), words(section))
    for text in made.notes:
        draw.note(text, "yellow")
    page = render(made)
    with landing(output) as making:
        making.write_bytes(page if browser is None else _printed(browser, page))
    for line in made.better:
        draw.note(f"better: {line}")
    for line in made.worse:
        draw.note(f"worse: {line}", "yellow")
    draw.note(f"{output}: {made.entries:,} devices, {len(made.sections)} sections")


def _browser() -> str:
    """A browser that is installed."""
    found = next((path for name in _BROWSERS if (path := shutil.which(name))), None)
    if found is None:
        raise CalledWrongly("no browser is here to print the page", advice="write .html, and print that")
    return found


def _printed(browser: str, page: bytes) -> bytes:
    """The page as the browser prints it."""
    with tempfile.TemporaryDirectory() as folder:
        source, target = Path(folder) / "page.html", Path(folder) / "page.pdf"
        source.write_bytes(page)
        command = [
            browser, "--headless", "--disable-gpu", "--no-first-run", "--disable-background-networking",
            "--disable-component-update", "--disable-sync", f"--user-data-dir={folder}/profile",
            "--no-pdf-header-footer", f"--print-to-pdf={target}", source.as_uri(),
        ]  # fmt: skip
        if sys.platform == "linux" and _is_root():
            command.insert(1, "--no-sandbox")
        try:
            told = subprocess.run(command, capture_output=True, timeout=_PATIENCE, check=False)
        except (OSError, subprocess.TimeoutExpired) as error:
            raise ConcordexError(f"{browser} did not print the page: {error}") from error
        if not target.is_file():
            last = told.stderr.decode(errors="replace").strip().splitlines()[-1:] or [f"status {told.returncode}"]
            raise ConcordexError(f"{browser} did not print the page", why=last[0])
        return target.read_bytes()


def _is_root() -> bool:
    import os

    return os.geteuid() == 0

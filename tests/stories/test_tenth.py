"""A tenth system, added by a dialect alone: the worked example of docs/dialects.md."""

from __future__ import annotations

import shutil
from pathlib import Path

from tests.lamplight import Lamplight

EXAMPLE = Path(__file__).parents[2] / "docs" / "examples" / "tidewell.yaml"
STRIPS = [
    {"no": f"T{at:03d}", "name": f"pdu-tern-point-{at}", "serial": f"TW{at:06d}", "mac": f"0c:b1:08:00:00:{at:02x}",
     "berth": "Tern Point", "watts": 100 + at, "seen": 1_790_000_000 + at}
    for at in range(1, 61)
]  # fmt: skip
OUTLETS = "Strip %s, 2 outlets\noutlet 1 on   41W  sw-tern-point-01\noutlet 2 off   0W  -\n"


def tidewell(method, path, query, body, _headers):
    """Tidewell as its guide describes it."""
    if (method, path) == ("POST", "/tw/login"):
        return (200, {"ticket": "t1"}) if body == {"user": "stoker", "pin": "4711"} else (403, {"why": "no such pin"})
    if query.get("ticket") != "t1":
        return 401, {"why": "no ticket"}
    if path == "/tw/strips.csv":
        skip, rows = int(query.get("skip", 0)), min(int(query.get("rows", 10)), 25)
        lines = [";".join(map(str, strip.values())) for strip in STRIPS[skip : skip + rows]]
        text = "\n".join(["no;name;serial;mac;berth;watts;seen", *lines, ""])
        return 200, text.encode(), [("Tw-Rows", str(len(STRIPS)))]
    if path.startswith("/tw/strips/") and path.endswith("/outlets"):
        return 200, (OUTLETS % path.split("/")[3]).encode()
    return 404, {"why": f"there is no {path}"}


def test_the_tenth_system_needs_a_dialect_and_no_code(shell, serve):
    served: Lamplight = serve(tidewell)
    shutil.copy(EXAMPLE, shell.folder / "dialects")
    (shell.folder.parent / "pin").write_text("4711\n")
    shell("system", "add", "tidewell", "-d", "tidewell", "-u", served.url, "-c", "user=stoker", "-c", "pin=file:../pin")
    assert "FAILED" not in shell("dialect", "check", "tidewell", "--against", "tidewell").stdout
    done = shell("pull", "tidewell")
    assert "the system sends 25 records a page, not the 100 asked for" in done.stderr
    devices = shell.workspace.show("devices", systems=["tidewell"], sort=["name"]).frame
    assert devices.height == len(STRIPS)
    row = devices.filter(devices["record_id"] == "T007").row(0, named=True)
    assert (row["kind"], row["site"], row["watts"]) == ("power", "tern-point", 107)
    outlets = shell.workspace.show("outlets", systems=["tidewell"]).frame
    assert outlets.height == 2 * len(STRIPS)
    row = outlets.filter(outlets["record_id"] == "T007/1").row(0, named=True)
    assert (row["parent"], row["status"], row["watts"], row["feeds"]) == (
        "pdu-tern-point-7",
        "on",
        41,
        "sw-tern-point-01",
    )

"""A rack as it is seen from its front and its rear, in lines of text."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from concordex.cli import draw

#: So many free units in a row are one line.
_FEW = 3


def draw_elevation(rack: Mapping[str, Any], things: Sequence[Mapping[str, Any]]) -> None:
    """Draw a rack, its highest unit first; runs of free units are one line."""
    facts = [str(rack["site"] or "no site"), f"{rack['used']} units used"]
    if rack["units"]:
        facts[-1:] = [
            f"{rack['used']} of {rack['units']:g} units used",
            f"{rack['free']} free",
            f"largest gap {rack['largest']}",
        ]
    weighed = f"{rack['weight']:g}" + (f" of {rack['carries']:g}" if rack["carries"] else "") + " kg"
    facts += [weighed] if rack["weight"] else []
    facts += [f"{rack['power']:g} W"] if rack["power"] else []
    draw.heading(f"{rack['rack']}: {', '.join(facts)}")
    cells = _cells(things)
    top = max([int(rack["units"] or 0), *(unit for unit, _ in cells)], default=0)
    rows: list[tuple[str, str, str]] = []
    unit = top
    while unit >= 1:
        run = unit
        while run >= 1 and not any((run, face) in cells for face in ("front", "rear")):
            run -= 1
        if unit - run > _FEW:
            rows.append((f"{unit}-{run + 1}", f"({unit - run} free)", ""))
            unit = run
            continue
        rows.append((str(unit), cells.get((unit, "front"), ""), cells.get((unit, "rear"), "")))
        unit -= 1
    draw.table(["unit", "front", "rear"], rows, right=["unit"])
    for thing in things:
        if thing["wrong"]:
            draw.styled(f"  ! {thing['label']}, unit {thing['at']:g}: {_WRONG_WORDS[thing['wrong'][0]]}", "bold red")


_WRONG_WORDS = {
    "taken": "stands where another does", "behind": "back to back with another, and one is as deep as the rack",
    "outside": "stands where the rack has no unit", "twice": "one device in two places",
}  # fmt: skip


def _cells(things: Sequence[Mapping[str, Any]]) -> dict[tuple[int, str], str]:
    """What is written at each unit of each face."""
    cells: dict[tuple[int, str], list[str]] = {}
    for thing in things:
        height = max(1, int(thing["height"]))
        own = "rear" if thing["face"] == "rear" else "front"
        label = f"{thing['label']} ({thing['kind'] or 'of no known kind'}{f', {height}U' if height > 1 else ''})"
        label += " on no known face" if thing["face"] is None and not thing["full_depth"] else ""
        label += " !" if thing["wrong"] else ""
        faces = {own: label} | ({_opposite(own): f"back of {thing['label']}"} if thing["full_depth"] else {})
        for face, text in faces.items():
            for unit in range(int(thing["at"]), int(thing["at"]) + min(height, 200)):
                at_top = unit == int(thing["at"]) + height - 1
                cells.setdefault((unit, face), []).append(text if at_top else "|")
    return {where: " + ".join(texts) for where, texts in cells.items() if where[0] >= 1}


def _opposite(face: str) -> str:
    return "front" if face == "rear" else "rear"

"""What is wrong in the demo world by design, so that what is found there can be scored: two racks, and some links."""

from __future__ import annotations

from typing import Any

from concordex.standins.stowage import Stowage

#: What is wrong, and the titles of what is concerned.
Wrong = tuple[str, frozenset[str]]


def spoiled_racks(stowage: Stowage) -> list[Wrong]:
    """Spoil the two fullest racks on land: in one a thing stands in another's place and one above the top; in the
    other something stands behind what is as deep as the rack.  What was spoiled."""
    held: dict[int, list[dict[str, Any]]] = {}
    for gear in stowage.lists["gear"].values():
        if gear["rackId"] is not None:
            held.setdefault(gear["rackId"], []).append(gear)
    products = stowage.lists["products"]
    fullest = sorted(held, key=lambda number: (-len(held[number]), number))
    wrong: list[Wrong] = []
    crowded = held[fullest[0]]
    if len(crowded) >= 3:
        first, second, last = crowded[0], crowded[1], crowded[-1]
        second["unit"], second["side"] = first["unit"], first["side"]
        last["unit"] = stowage.lists["racks"][fullest[0]]["units"] + 1
        wrong += [("taken", frozenset([first["title"], second["title"]])), ("outside", frozenset([last["title"]]))]
    for number in fullest[1:]:
        deep = next((gear for gear in held[number] if products[gear["productId"]]["deep"]), None)
        shallow = next((gear for gear in held[number] if products[gear["productId"]]["deep"] is False), None)
        if deep is not None and shallow is not None:
            deep["side"], shallow["side"], shallow["unit"] = "fore", "aft", deep["unit"]
            wrong.append(("behind", frozenset([deep["title"], shallow["title"]])))
            break
    return wrong

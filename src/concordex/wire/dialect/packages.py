"""Dialects in installed packages, which name themselves by an entry point; nothing of a package is run to find them."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cache
from importlib.metadata import entry_points
from importlib.util import find_spec
from pathlib import Path

#: The group of entry points (PyPA, entry points specification); each names a package that holds dialects as files.
GROUP = "concordex.dialects"


@dataclass(frozen=True)
class Packaged:
    """A dialect in a package: its file, and what brought it."""

    file: Path
    package: str
    version: str


@cache
def packaged() -> dict[str, Packaged]:
    """Every dialect in a package by its name; of two that are called alike, that of the first package by name."""
    made: dict[str, Packaged] = {}
    for point in sorted(entry_points(group=GROUP), key=lambda one: (one.dist.name if one.dist else "", one.name)):
        module = point.value.partition(":")[0]
        if "." in module:  # to find what is within a package, that would have to be run
            continue
        try:
            spec = find_spec(module)
        except (ImportError, ValueError):
            continue
        package, version = (point.dist.name, point.dist.version) if point.dist else (module, "")
        for folder in map(Path, (spec.submodule_search_locations or []) if spec else []):
            for file in sorted(folder.glob("*.yaml")):
                made.setdefault(file.stem, Packaged(file, package, version))
    return made

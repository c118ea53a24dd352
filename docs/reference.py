"""Make docs/api.md of the docstrings of the public API: python docs/reference.py > docs/api.md"""

from __future__ import annotations

import inspect
import sys
from collections.abc import Iterator
from typing import Any

from concordex import Workspace
from concordex.work.api_dialects import Dialects
from concordex.work.api_fleet import FleetView
from concordex.work.api_jobs import Jobs
from concordex.work.api_kinds import ObjectKinds
from concordex.work.api_objects import Objects
from concordex.work.api_tell import Telling
from concordex.work.api_upkeep import Upkeep

_HEAD = """\
# The Python API

    from concordex import Workspace

    with Workspace("fleet") as here:
        here.pull()
        here.reconcile()
        print(here.findings())
        change, notes = here.sync("stowage")
        change = here.keep(change)          # kept under a number; nothing is sent yet
        here.run(change.number)             # written, read back, compared

Every method waits until it is done, also inside a running event loop, such as a notebook's.  Frames are Polars frames,
other results are typed records.  Whatever goes wrong is a `concordex.errors.ConcordexError`, which says what, why and
what to do next.  The command line uses nothing else.

This page is made of the docstrings: `make reference`.
"""


def page() -> str:
    """The whole page."""
    parts = [_HEAD]
    for shown, called in (
        (Workspace, "Workspace"),
        (FleetView, "Workspace.fleet"),
        (ObjectKinds, "Workspace.kinds"),
        (Objects, "Workspace.objects"),
        (Jobs, "Workspace.jobs"),
        (Telling, "Workspace.telling"),
        (Upkeep, "Workspace.upkeep"),
        (Dialects, "Dialects"),
    ):
        parts += [f"\n## {called}\n", _told(shown.__doc__), *_methods(shown)]
    return "\n".join(parts)


def _methods(shown: type) -> Iterator[str]:
    for name, found in vars(shown).items():
        method = found.__func__ if isinstance(found, classmethod) else found
        if name.startswith("_") or not (inspect.isfunction(method) or hasattr(method, "func")):
            continue
        if inspect.isfunction(method):
            yield f"\n### `{name}{_signature(method)}`\n\n{_told(method.__doc__)}"
        else:
            yield f"\n### `{name}`\n\n{_told(method.__doc__)}"


def _signature(method: Any) -> str:
    said = inspect.signature(method)
    shown = [one for name, one in said.parameters.items() if name not in ("self", "cls")]
    return str(said.replace(parameters=shown)).replace("'", "")


def _told(text: str | None) -> str:
    return inspect.cleandoc(text or "").replace("``", "`").replace(":meth:", "").replace(":class:", "") + "\n"


if __name__ == "__main__":
    sys.stdout.write(page())

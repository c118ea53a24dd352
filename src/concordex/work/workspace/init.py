"""Making a workspace, and adding systems to it; comments that people wrote are kept."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from concordex.documents import check, parse_yaml, yaml_text
from concordex.errors import CalledWrongly
from concordex.landing import make_folder, write_text
from concordex.work.workspace.config import FILE, WorkspaceConfig, check_whole
from concordex.work.workspace.handwritten import alter
from concordex.work.workspace.secret_sources import is_reference

if TYPE_CHECKING:
    from concordex.wire.dialect import Dialect
    from concordex.work.workspace.base import BaseWorkspace

_NEW = """\
# A Concordex workspace: which systems there are, and the rules of the house.
# Secrets are named here (env:, file:, keyring:, command:) and never written down.
format: 1

reconcile:
  stale_after: 14d     # not seen for longer: a finding

guards:                # a change that is larger than this stops before it starts
  creations: 1000
  updates: 1000
  share: 0.5           # of a table's records

systems: {}
"""


def init(folder: Path) -> Path:
    """Make a workspace in ``folder``; the path of its new ``concordex.yaml``."""
    path = folder / FILE
    if path.exists():
        raise CalledWrongly(f"{folder} is a workspace already", advice="concordex system add NAME --dialect … --url …")
    make_folder(folder / "dialects")
    write_text(path, _NEW)
    return path


def add_system(workspace: BaseWorkspace, name: str, settings: Mapping[str, Any]) -> None:
    """Add a system to ``concordex.yaml``; refused whole when the result would not be valid."""
    from concordex.wire.dialect.load import find

    path = workspace.root / FILE
    if name in workspace.config.systems:
        raise CalledWrongly(f"there is a system {name!r} already", advice=f"edit it in {path}")
    dialect = find(str(settings["dialect"]), workspace.root / "dialects")
    entry = {key: value for key, value in settings.items() if value}
    given = dict(settings.get("credentials") or {})
    entry |= {"credentials": given} if given else {}
    missing = [wanted for wanted in dialect.credentials if wanted not in given]
    if missing:
        offer = " ".join(
            f"--credential {key}={'env:NAME' if dialect.credentials[key].secret else 'TEXT'}" for key in missing
        )
        raise CalledWrongly(f"the dialect {dialect.name} needs: {', '.join(missing)}", advice=f"add {offer}")
    check_not_written(given, dialect)

    def put(document: Any) -> None:
        if not document.get("systems"):
            document["systems"] = {}
        if name in document["systems"]:
            raise CalledWrongly(f"there is a system {name!r} already", advice=f"edit it in {path}")
        document["systems"][name] = entry
        _check(document, path)

    alter(workspace, path, put)


def check_not_written(given: Mapping[str, str], dialect: Dialect) -> None:
    """Raise CalledWrongly where a secret itself is given, and would stand in the file: the text is not repeated."""
    open_ = [name for name, spec in dialect.credentials.items() if spec.secret and not is_reference(given[name])]
    if open_:
        raise CalledWrongly(
            f"credentials: {', '.join(open_)}: none that is secret is written into {FILE}, and"
            " this one may stand in your shell's history now",
            advice="say where it is kept: env:NAME, file:PATH, keyring:SERVICE/USER or command:LINE"
            " (ask:TEXT asks for it at the terminal)",
        )


def set_paused(workspace: BaseWorkspace, names: Sequence[str], paused: bool) -> list[str]:
    """Pause or resume systems in ``concordex.yaml``; those for which that is a change."""
    altered = [name for name in workspace.systems(names) if workspace.config.systems[name].paused != paused]
    path = workspace.root / FILE

    def put(document: Any) -> None:
        for name in altered:
            if paused:
                document["systems"][name]["paused"] = True
            else:
                document["systems"][name].pop("paused", None)
        _check(document, path)

    if altered:
        alter(workspace, path, put)
    return altered


def set_system(
    workspace: BaseWorkspace, name: str, settings: Mapping[str, str], tags: Sequence[str], untags: Sequence[str]
) -> list[str]:
    """Set what ``concordex.yaml`` says of a system, by keys that may be dotted; an empty value takes one away.

    What is altered, in words; refused whole where the result could not be read.
    """
    from concordex.wire.dialect.load import find

    (name,) = workspace.systems([name])
    path, told = workspace.root / FILE, list[str]()

    def put(document: Any) -> None:
        told.clear()
        own = document["systems"][name]
        for key, text in settings.items():
            _set(own, key, text, told)
        known = list(own.get("tags") or [])
        wanted = [tag for tag in dict.fromkeys([*known, *tags]) if tag not in untags]
        if wanted != known:
            told.append(f"tags are {', '.join(wanted) or 'none'} now")
            own["tags"] = wanted
            if not wanted:
                del own["tags"]
        _check(document, path)
        given = {key: str(value) for key, value in (own.get("credentials") or {}).items()}
        check_not_written(given, find(str(own["dialect"]), workspace.root / "dialects"))

    alter(workspace, path, put)
    return told


def _set(own: Any, key: str, text: str, told: list[str]) -> None:
    *above, last = key.split(".")
    inner = own
    for part in above:
        if not isinstance(inner.get(part), dict):
            inner[part] = {}
        inner = inner[part]
    before = inner.get(last)
    value = parse_yaml(text, f"{key}=") if text else None
    if value == before:
        return
    told.append(f"{key} is {text} now" if text else f"{key} is gone")
    if text:
        inner[last] = value
    else:
        del inner[last]


def remove_system(workspace: BaseWorkspace, name: str) -> None:
    """Take a system out of ``concordex.yaml``; refused where something else there names it, with the place."""
    (name,) = workspace.systems([name])
    path = workspace.root / FILE

    def put(document: Any) -> None:
        del document["systems"][name]
        check_whole(workspace.root, parse_yaml(yaml_text(document), str(path)))

    alter(workspace, path, put)


def _check(document: Any, path: Path) -> None:
    """Raise DocumentError where what would be written could not be read."""
    check(parse_yaml(yaml_text(document), str(path)), WorkspaceConfig, str(path))

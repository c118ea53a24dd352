"""Whose a workspace is, and what a person has agreed that one of somebody else may have.

A workspace says where secrets are kept, and with `command:` what to run for them.  Whoever can write it can run that as
us, and send what it reads anywhere.  So one that others may write to runs nothing, and one that belongs to somebody
else gets nothing, until a person has agreed to exactly that.  What was agreed to is kept outside of the workspace.
"""

from __future__ import annotations

import hashlib
import json
import os
import stat
from collections.abc import Iterable
from pathlib import Path

from concordex.errors import StoreError
from concordex.landing import make_folder, write_text

#: What stands for a whole workspace.
FILE = "concordex.yaml"


def belongs_to_another(root: Path) -> str | None:
    """Why a workspace is not ours: which file or folder belongs to somebody else; nothing where it is, or is root's."""
    for path in (root / FILE, root):
        found = _stat(path)
        if found is not None and found.st_uid not in (os.getuid(), 0):
            return f"{path} belongs to {_name_of(found.st_uid)}"
    return None


def open_to_others(root: Path) -> str | None:
    """What somebody else could write to and so alter what the workspace runs: it, or a folder above; nothing if none.

    In a folder with the sticky bit, such as that for temporary files, nobody can take away what is another's.
    """
    whole = root.resolve()
    for path in (whole / FILE, whole, *whole.parents):
        found = _stat(path)
        if found is None:
            continue
        if found.st_uid not in (os.getuid(), 0):
            return f"{path} belongs to {_name_of(found.st_uid)}"
        sticky = stat.S_ISDIR(found.st_mode) and found.st_mode & stat.S_ISVTX and path != whole
        if found.st_mode & stat.S_IWOTH and not sticky:
            return f"everybody may write to {path}"
        if found.st_mode & stat.S_IWGRP and not sticky and _has_others(found.st_gid):
            return f"others of its group may write to {path}"
    return None


def doubts(root: Path, reference: str) -> str | None:
    """Why what ``reference`` names may not be had for a workspace; nothing where it may."""
    why = open_to_others(root) if reference.startswith("command:") else belongs_to_another(root)
    return why if why and not is_agreed(root, reference) else None


def is_agreed(root: Path, reference: str) -> bool:
    """Whether a person has agreed to exactly this, for exactly this workspace."""
    return _mark(root, reference) in _agreed()


def agree(root: Path, references: Iterable[str]) -> None:
    """Keep that a person has agreed to these."""
    _keep(_agreed() | {_mark(root, one): f"{root.resolve()}: {one}" for one in references})


def disagree(root: Path) -> int:
    """Take back all that was agreed to for a workspace; how much that was."""
    known, begin = _agreed(), f"{root.resolve()}: "
    left = {mark: told for mark, told in known.items() if not told.startswith(begin)}
    _keep(left)
    return len(known) - len(left)


def _mark(root: Path, reference: str) -> str:
    return hashlib.sha256(f"{root.resolve()}\0{reference}".encode()).hexdigest()


def _path() -> Path:
    """Where it is kept: with what programs remember of a person (XDG Base Directory Specification 0.8)."""
    given = os.environ.get("XDG_STATE_HOME", "")
    base = Path(given) if given.startswith("/") else Path.home() / ".local" / "state"
    return base / "concordex" / "trusted.json"


def _agreed() -> dict[str, str]:
    try:
        known = json.loads(_path().read_text(encoding="utf-8"))["agreed"]
        return {str(mark): str(told) for mark, told in known.items()}
    except (FileNotFoundError, RuntimeError):
        return {}
    except (OSError, ValueError, KeyError, TypeError, AttributeError) as error:
        raise StoreError(
            f"{_path()} cannot be read", why=str(error), advice="remove it, and agree again: concordex trust"
        ) from error


def _keep(known: dict[str, str]) -> None:
    make_folder(_path().parent)
    write_text(_path(), json.dumps({"format": 1, "agreed": known}, indent=1) + "\n", private=True)


def _stat(path: Path) -> os.stat_result | None:
    try:
        return path.stat()
    except OSError:
        return None


def _name_of(user: int) -> str:
    import pwd

    try:
        return pwd.getpwuid(user).pw_name
    except KeyError:
        return f"user {user}"


def _has_others(group: int) -> bool:
    """Whether somebody else is in a group: many systems give each person one of their own."""
    import grp
    import pwd

    me = os.getuid()
    try:
        members = set(grp.getgrgid(group).gr_mem)
    except KeyError:
        return True
    primary = {one.pw_name for one in pwd.getpwall() if one.pw_gid == group}
    return bool({name for name in members | primary if name != _name_of(me)})

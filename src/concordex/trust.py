"""Whose a workspace is, and what a person has agreed that one that others can write may have.

A workspace says where secrets are kept, with `command:` what to run for them, and where they are sent.  Whoever can
write it can run that as us, or have it sent to himself.  So one that others may write gets nothing until a person has
agreed to exactly that: this secret, for this address, spoken to in this way.  What was agreed to is kept outside of the
workspace.
"""

from __future__ import annotations

import hashlib
import json
import os
import stat
from collections.abc import Iterable
from contextlib import suppress
from dataclasses import dataclass
from pathlib import Path

from concordex.errors import SecretError, StoreError
from concordex.landing import make_folder, write_text

#: What stands for a whole workspace.
FILE = "concordex.yaml"


@dataclass(frozen=True)
class Wanted:
    """A secret that a workspace names, what for, and where it would be sent, with all that could lead it elsewhere."""

    reference: str
    name: str
    to: str


def open_to_others(root: Path) -> str | None:
    """What somebody else could write to and so alter what the workspace has: it, or a folder above; nothing if none.

    In a folder with the sticky bit, such as that for temporary files, nobody can take away what is another's.  Where
    the file is a link, what it leads to counts too.
    """
    whole = root.resolve()
    real = (whole / FILE).resolve()
    places = dict.fromkeys((whole / FILE, whole, *whole.parents, *real.parents))
    for path in places:
        status = _stat(path)
        if status is None:
            continue
        if status.st_uid not in (os.getuid(), 0):
            return f"{path} belongs to {_name_of(status.st_uid)}"
        sticky = stat.S_ISDIR(status.st_mode) and status.st_mode & stat.S_ISVTX and path not in (whole, real.parent)
        if status.st_mode & stat.S_IWOTH and not sticky:
            return f"everybody may write to {path}"
        if status.st_mode & stat.S_IWGRP and not sticky and (_has_others(status.st_gid) or _has_list(path)):
            return f"others of its group, or of its list, may write to {path}"
    return None


def check(root: Path, wanted: Wanted) -> None:
    """Raise SecretError where a secret may not be had for a workspace."""
    if why := doubts(root, wanted):
        raise SecretError(
            f"{wanted.reference} may not be used by this workspace: {why}",
            advice="concordex trust shows what it would run, read and send where, and asks whether it may",
        )


def doubts(root: Path, wanted: Wanted) -> str | None:
    """Why a secret may not be had for a workspace; nothing where it may."""
    why = open_to_others(root)
    return why if why and _mark(root, wanted) not in _agreed() else None


def agree(root: Path, wanted: Iterable[Wanted]) -> None:
    """Keep that a person has agreed to these."""
    _keep(
        _agreed() | {_mark(root, secret): f"{root.resolve()}: {secret.reference} to {secret.to}" for secret in wanted}
    )


def disagree(root: Path) -> int:
    """Take back all that was agreed to for a workspace; how much that was."""
    known, begin = _agreed(), f"{root.resolve()}: "
    left = {mark: wording for mark, wording in known.items() if not wording.startswith(begin)}
    _keep(left)
    return len(known) - len(left)


def _mark(root: Path, wanted: Wanted) -> str:
    """A digest of what was agreed to; also of the dialects that the workspace has itself: they say what is asked."""
    digest = hashlib.sha256(f"{root.resolve()}\0{wanted.reference}\0{wanted.to}".encode())
    for path in sorted((root / "dialects").glob("*.yaml")):
        with suppress(OSError):
            digest.update(f"\0{path.name}\0".encode() + hashlib.sha256(path.read_bytes()).digest())
    return digest.hexdigest()


def _path() -> Path:
    """Where it is kept: with what programs remember of a person (XDG Base Directory Specification 0.8)."""
    given = os.environ.get("XDG_STATE_HOME", "")
    base = Path(given) if given.startswith("/") else Path.home() / ".local" / "state"
    return base / "concordex" / "trusted.json"


def _agreed() -> dict[str, str]:
    try:
        known = json.loads(_path().read_text(encoding="utf-8"))["agreed"]
        return {str(mark): str(wording) for mark, wording in known.items()}
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


def _has_list(path: Path) -> bool:
    """Whether somebody is named in an access-control list of it (IEEE 1003.1e, draft 17), whose mask the mode shows."""
    with suppress(OSError, AttributeError):
        return "system.posix_acl_access" in os.listxattr(path)
    return False


def _has_others(group: int) -> bool:
    """Whether somebody else is in a group: many systems give each person one of their own."""
    import grp
    import pwd

    me = os.getuid()
    try:
        members = set(grp.getgrgid(group).gr_mem)
    except KeyError:
        return True
    primary = {entry.pw_name for entry in pwd.getpwall() if entry.pw_gid == group}
    return bool({name for name in members | primary if name != _name_of(me)})

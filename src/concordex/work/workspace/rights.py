"""Who is at work, as far as rights go, and whether they may do what they are about to."""

from __future__ import annotations

import hmac
import os
from collections.abc import Iterator
from hashlib import sha256
from typing import TYPE_CHECKING

from concordex.errors import Stopped
from concordex.work.workspace.rights_settings import GROUP, Grant, Right, Rights
from concordex.work.workspace.user import user

if TYPE_CHECKING:
    from concordex.work.workspace.config import WorkspaceConfig

#: Where a runner has its token.
TOKEN = "CONCORDEX_TOKEN"  # noqa: S105 - the name of a variable


class Allowed:
    """What one process may do in a workspace."""

    def __init__(self, config: WorkspaceConfig) -> None:
        self._systems, self._rights = config.systems, config.rights
        self.who = user() if self._rights is None else _who(self._rights)
        self._grants = list(_grants(self._rights, self.who)) if self._rights else []

    def may(self, right: Right, system: str | None = None) -> bool:
        """Whether this process may do that on a system; on every system, where none is named."""
        if self._rights is None:
            return True
        if system is None:
            everywhere = [grant for grant in self._grants if right in grant.may and not (grant.systems or grant.tags)]
            return bool(everywhere) or (bool(self._systems) and all(self.may(right, name) for name in self._systems))
        name = system.partition(":")[0]
        tags = self._systems[name].tags if name in self._systems else []
        return any(right in grant.may and grant.hold(name, tags) for grant in self._grants)

    def require(self, right: Right, system: str | None = None) -> None:
        """Raise Stopped where this process may not do that."""
        if not self.may(right, system):
            where = f" on {system}" if system else " on all systems"
            raise Stopped(
                f"{self.who} may not {right}{where}",
                advice="concordex rights show says who may; rights: in concordex.yaml says so",
            )

    def hidden(self) -> set[str]:
        """The systems that this process may not see."""
        return {name for name in self._systems if not self.may("see", name)} if self._rights else set()

    def needs_second(self, system: str) -> bool:
        """Whether a change of that system is run only once a second person has agreed."""
        rule = self._rights.second_person if self._rights else None
        tags = self._systems[system].tags if system in self._systems else []
        return rule is not None and rule.hold(system, tags)


def digest_of(token: str) -> str:
    """What ``concordex.yaml`` holds of a token."""
    return sha256(token.encode()).hexdigest()


def _who(rights: Rights) -> str:
    """The runner whose token this process has, or the user whose process it is: no variable says who that is."""
    token = os.environ.get(TOKEN, "")
    if token:
        given = digest_of(token)
        for name, person in rights.people.items():
            if person.token and hmac.compare_digest(person.token, given):
                return name
        raise Stopped(f"the token in {TOKEN} is nobody's", advice="concordex rights token NAME makes one")
    import pwd

    try:
        return pwd.getpwuid(os.geteuid()).pw_name
    except KeyError:
        return f"user {os.geteuid()}"


def _grants(rights: Rights, who: str) -> Iterator[Grant]:
    person = rights.people.get(who)
    if person is not None and (person.token is None or os.environ.get(TOKEN)):
        yield from person.grants
    if os.environ.get(TOKEN):  # a runner is no member of a group
        return
    groups = {name.removeprefix(GROUP) for name in rights.people if name.startswith(GROUP)}
    for name in sorted(groups & _groups()):
        yield from rights.people[GROUP + name].grants


def _groups() -> set[str]:
    """The groups of the operating system that this process is in."""
    import grp

    found = set()
    for number in {os.getegid(), *os.getgroups()}:
        try:
            found.add(grp.getgrgid(number).gr_name)
        except KeyError:
            continue
    return found

"""The secrets of a workspace: each fetched once, when it is needed, and only where this workspace may have it."""

from __future__ import annotations

from collections.abc import Sequence
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from concordex.errors import SecretError
from concordex.trust import Wanted, check, doubts
from concordex.unseen import Secret
from concordex.work.workspace.config import WorkspaceConfig
from concordex.work.workspace.secret_sources import SAY_WHERE, fetch, is_reference
from concordex.work.workspace.system_settings import Devices, System
from concordex.work.workspace.tell_settings import Place


class Secrets:
    """What a workspace names, as far as it was fetched."""

    def __init__(self, root: Path, config: WorkspaceConfig) -> None:
        self.root, self.config = root, config
        self._had: dict[str, Secret | SecretError] = {}

    def of(self, reference: str, name: str, part: System | Devices) -> Secret:
        """The secret that ``reference`` names for the system or devices ``name``; raises SecretError."""
        return self._had_once(Wanted(reference, name, destination(part)))

    def of_row(self, reference: str, name: str) -> str:
        """The secret that a row names, to be sent to the system or device ``name``: a row runs no command."""
        if reference.startswith("command:"):
            raise SecretError(
                f"{reference}: a row says where a secret is kept, and runs nothing", advice="env:, file: or keyring:"
            )
        if not is_reference(reference):
            raise SecretError("a secret stands where only its place is to stand", advice=SAY_WHERE)
        part = self.config.systems.get(name) or self.config.devices[name.partition(":")[0]]
        return self.of(reference, name, part).reveal()

    def of_target(self, name: str) -> str | None:
        """The password of a database, where it has one."""
        into = self.config.targets[name]
        return self._had_once(Wanted(into.password, name, into.url or "")).reveal() if into.password else None

    def of_store(self, reference: str | None) -> str | None:
        """The secret that a shared store needs, where it needs one."""
        wanted = next((one for one in self.config.store.wanted() if one.reference == reference), None)
        return self._had_once(wanted).reveal() if wanted else None

    def of_place(self, reference: str, name: str, to: str) -> Secret:
        """The secret that a place needs where people are told things, to be sent ``to`` it."""
        return self._had_once(Wanted(reference, f"tell {name}", to))

    def named(self, names: Sequence[str] | None = None) -> list[Wanted]:
        """The secrets that all systems, devices and databases need, or some of them, and where each would be sent."""
        config, wanted = self.config, list[Wanted]()
        parts: dict[str, System | Devices] = {**config.systems, **config.devices}
        for name, part in parts.items():
            if names is None or name in names:
                given = [*part.credentials.values(), *([part.proxy.password] if part.proxy else [])]
                to = destination(part)
                wanted += [Wanted(text, name, to) for text in dict.fromkeys(given) if text and is_reference(text)]
        if names is None:
            wanted += [Wanted(o.password, name, o.url or "") for name, o in config.targets.items() if o.password]
            wanted += config.store.wanted()
            wanted += [needed for name, place in config.tell.items() if (needed := wanted_by(name, place)) is not None]
        return wanted

    def fetch(self, names: Sequence[str]) -> None:
        """Have the secrets of several systems at hand before anything else: fetched side by side, once each.

        One that cannot be had is an error of the systems that need it.  What is asked for at the terminal is left, and
        so is what this workspace may not have.
        """
        may = {secret.reference for secret in self.named(names) if not doubts(self.root, secret)}
        wanted = [text for text in sorted(may) if text not in self._had and not text.startswith("ask:")]

        def fetched(text: str) -> Secret | SecretError:
            try:
                return fetch(text, self.root)
            except SecretError as error:
                return error

        with ThreadPoolExecutor(16) as pool:
            self._had |= dict(zip(wanted, pool.map(fetched, wanted), strict=True))

    def _had_once(self, wanted: Wanted) -> Secret:
        check(self.root, wanted)
        if wanted.reference not in self._had:
            self._had[wanted.reference] = fetch(wanted.reference, self.root)
        secret = self._had[wanted.reference]
        if isinstance(secret, SecretError):
            raise secret
        return secret


def wanted_by(name: str, place: Place) -> Wanted | None:
    """The secret that a place needs where people are told things, or the command that is run for it."""
    if place.by == "mail":
        return Wanted(place.password, f"tell {name}", place.server) if place.password else None
    if place.by == "webhook":
        return Wanted(place.key, f"tell {name}", place.url) if place.key else None
    return Wanted(f"command:{place.run}", f"tell {name}", "with what is to be told") if place.by == "command" else None


def destination(part: System | Devices) -> str:
    """Where the secrets of a system or of devices go, with all else that says to whom."""
    tls, addresses = part.tls, getattr(part, "addresses", None)
    parts = [
        f"{part.url}", getattr(part, "database", None) or "", f"as {part.dialect}",
        f"for {', '.join(addresses)}" if addresses else "",
        f"by {part.proxy.url}" if part.proxy else "", "" if tls.verify else "whoever answers there",
        f"trusting {tls.ca}" if tls.ca else "", f"pinned to {tls.fingerprint}" if tls.fingerprint else "",
    ]  # fmt: skip
    return " ".join(filter(None, parts))

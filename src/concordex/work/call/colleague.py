"""A call as it can be handed on: with names in the place of secrets."""

from __future__ import annotations

import base64
import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from concordex.parallel import completed
from concordex.unseen import MASK, WITHHELD, is_credential, masked

if TYPE_CHECKING:
    from concordex.work.call.call import PreparedCall
    from concordex.work.workspace.base import BaseWorkspace


@dataclass(frozen=True, kw_only=True)
class CallCopy:
    """How a call would leave, with names such as ``$MUSTER_SECRET`` in the place of secrets.

    ``basic`` is user and password (RFC 7617), where that is how it is signed in.
    """

    method: str
    url: str
    headers: Mapping[str, str]
    body: str | None
    basic: str | None = None


def copy_of(workspace: BaseWorkspace, call: PreparedCall) -> CallCopy:
    """The copy of a call: it is signed in for that, and the call itself is not sent."""

    async def ready() -> tuple[str, dict[str, str], bytes | None]:
        async with workspace.session(call.system) as session:
            return await session.ready(call.request)

    url, headers, body = completed(ready())
    named, basic = _Named(workspace, call.system), None
    signed = headers.get("Authorization", "")
    if signed.startswith("Basic "):
        basic = named(base64.b64decode(signed.removeprefix("Basic ")).decode(errors="replace"))
        headers = {name: value for name, value in headers.items() if name != "Authorization"}
    return CallCopy(
        method="POST" if call.request.rpc else call.request.method, url=named(url), basic=basic,
        headers={name: named.header(name, value) for name, value in headers.items()},
        body=named(body.decode(errors="replace")) if body is not None else None,
    )  # fmt: skip


class _Named:
    """Texts with names in the place of secrets."""

    def __init__(self, workspace: BaseWorkspace, system: str) -> None:
        name, _ = workspace.target(system)
        settings = workspace.config.systems.get(name) or workspace.config.devices[name]
        self.prefix = re.sub(r"\W", "_", name).upper()
        self.secrets = {
            f"${self.prefix}_{re.sub(r'[^0-9A-Za-z]', '_', credential).upper()}": workspace.secrets.of(
                settings.credentials[credential], name, settings
            ).reveal()
            for credential, spec in workspace.dialect(name).credentials.items()
            if spec.secret and credential in settings.credentials
        }

    def __call__(self, text: str) -> str:
        for name, secret in self.secrets.items():
            text = text.replace(secret, name)
        return masked(text).replace(MASK, f"${self.prefix}_SESSION").replace(WITHHELD, f"${self.prefix}_SESSION")

    def header(self, name: str, value: str) -> str:
        """The value of a header; of one that holds a credential a name alone, after the word for its manner."""
        told = self(value)
        if not is_credential(name) or told != value:
            return told
        manner, space, _ = value.partition(" ")
        return f"{manner}{space}${self.prefix}_SESSION" if space else f"${self.prefix}_SESSION"

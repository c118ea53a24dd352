"""Whether what was seen follows an open standard for which a dialect ships: a draft then says only what differs."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from concordex.insight.draft.seen import ApiSeen

_SCIM = "urn:ietf:params:scim:api:messages:2.0:ListResponse"
_RESTCONF = re.compile(r"^(?P<base>.*)/ietf-(system|interfaces|hardware|yang-library):")


@dataclass(frozen=True)
class ShippedStandard:
    """A shipped dialect of a standard: what it reads (table by its path below the base), and how it signs in."""

    tables: Mapping[str, str]
    base: str
    by: str
    credentials: tuple[str, ...]
    records: str | None = None  # where all lists stand, where the dialect says how they are cut and counted


@dataclass(frozen=True)
class FollowedStandard:
    """The dialect that a draft extends, why, and the base of its paths here."""

    dialect: str
    why: str
    base: str
    shipped: ShippedStandard

    def reads(self, path: str) -> bool:
        """Whether the shipped dialect reads what is at a path."""
        return path.removeprefix(self.base) in self.shipped.tables


def followed(api: ApiSeen, shipped: Mapping[str, ShippedStandard]) -> FollowedStandard | None:
    """The standard that the paths or the answers show, where a dialect of it ships."""
    for dialect, why, base in _shown(api):
        if dialect in shipped:
            return FollowedStandard(dialect, why, base, shipped[dialect])
    return None


def _shown(api: ApiSeen) -> Iterator[tuple[str, str, str]]:
    for listed in api.lists:
        match = _RESTCONF.match(listed.path)
        if match:
            yield "restconf", f"{listed.path} is a data resource of RESTCONF (RFC 8040)", match["base"]
        if re.match(r"/redfish/v1(/|$)", listed.path):
            yield "redfish", "its paths are those of Redfish (DMTF DSP0266)", "/redfish/v1"
        for answer in listed.answers:
            body: Any = answer.body if isinstance(answer.body, Mapping) else {}
            if isinstance(body.get("schemas"), list) and _SCIM in body["schemas"]:
                yield "scim", f"{listed.path} answers with a ListResponse of SCIM 2.0 (RFC 7644)", _above(listed.path)
            if isinstance(body.get("@odata.context"), str):
                yield "odata", f"{listed.path} answers with @odata.context (OData 4)", _above(listed.path)


def _above(path: str) -> str:
    return path.rpartition("/")[0]

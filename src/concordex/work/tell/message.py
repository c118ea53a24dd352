"""What is sent to one place at one time: one thing, or all that has gathered, in our words or by a template."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import datetime
from pathlib import Path
from typing import Any

import orjson

from concordex.errors import CalledWrongly
from concordex.store.notices import Notice

#: So many things stand in one message in full; of more it is said how many.
_MOST = 50


@dataclass(frozen=True, kw_only=True)
class ToldMessage:
    """A message: its name, by which it is known when it comes twice, its subject, its text, and all of it as data."""

    id: str
    subject: str
    text: str
    data: dict[str, Any]
    written: str | None = None  # by a template

    @property
    def json(self) -> bytes:
        """It as a document."""
        return orjson.dumps(self.data, option=orjson.OPT_UTC_Z)


def message_of(
    notices: Sequence[Notice], workspace: Path, moment: datetime, template: str | None = None
) -> ToldMessage:
    """One message of all that is to be told; raises CalledWrongly where its template cannot be filled."""
    first, several = notices[0], len(notices) > 1
    subject = f"{first.subject}, and {len(notices) - 1} more" if several else first.subject
    parts = [f"{f'{one.subject}' if several else ''}\n{one.body}".strip() for one in notices[:_MOST]]
    left = [f"and {len(notices) - _MOST} more: concordex tell pending"] if len(notices) > _MOST else []
    foot = f"-- \nConcordex, {workspace.resolve()}, {moment:%Y-%m-%d %H:%M} UTC"
    ids = ",".join(str(one.id) for one in notices)
    name = hashlib.sha256(f"{workspace.resolve()} {first.place} {first.made.isoformat()} {ids}".encode()).hexdigest()[
        :32
    ]
    data = {
        "message": name, "place": first.place, "subject": subject, "moment": moment,
        "matters": [
            {"kind": one.kind, "subject": one.subject, "text": one.body, "since": one.made, **one.facts}
            for one in notices[:_MOST]
        ],
        "left_out": max(0, len(notices) - _MOST),
    }  # fmt: skip
    text = "\n\n".join([*parts, *left, foot]) + "\n"
    written = _by_template(workspace / template, data) if template else None
    return ToldMessage(id=name, subject=_one_line(subject), text=text, data=data, written=written)


def _by_template(file: Path, data: dict[str, Any]) -> str:
    from concordex.work.workspace.sandbox import sandbox, within_bounds

    try:
        return "".join(within_bounds(sandbox().from_string(file.read_text(encoding="utf-8")).generate(data)))
    except Exception as error:  # whatever a template does: it is a mistake in it, and none of ours
        raise CalledWrongly(f"the template {file} cannot be filled", why=str(error) or type(error).__name__) from error


def _one_line(text: str) -> str:
    return " ".join(text.split())[:200]

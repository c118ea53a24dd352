"""Single values as people and systems say them: times, lengths of time, flags, versions."""

from __future__ import annotations

import re
from datetime import UTC, datetime, timedelta

#: Ways of saying that nothing is there.
MISSING_WORDS = ("", "-", "--", "n/a", "none", "null", "nil")

#: Flags as systems write them.
YES, NO = ("true", "yes", "1", "on"), ("false", "no", "0", "off")


def parse_flag(text: str) -> bool | None:
    """One flag as systems write it, or None."""
    word = text.strip().lower()
    return True if word in YES else False if word in NO else None


_UNITS = {"s": 1, "m": 60, "h": 3600, "d": 86400, "w": 604800}


def parse_duration(text: str) -> timedelta | None:
    """A length of time such as ``30m``, ``12h``, ``14d`` or ``6w``, or None."""
    parts = re.fullmatch(r"(\d+(?:\.\d+)?)([smhdw])", text)
    try:
        return timedelta(seconds=float(parts[1]) * _UNITS[parts[2]]) if parts else None
    except OverflowError:
        return timedelta.max


def parse_time(text: str) -> datetime | None:
    """One ISO 8601 time or date as UTC, or None."""
    try:
        moment = datetime.fromisoformat(text)
        return moment.replace(tzinfo=UTC) if moment.tzinfo is None else moment.astimezone(UTC)
    except (ValueError, OverflowError):
        return None


def before(seconds: object, moment: datetime) -> str | None:
    """So many seconds before a moment, as ISO 8601; what is no number of seconds as it was said."""
    try:
        return (moment - timedelta(seconds=float(str(seconds)))).isoformat() if seconds not in (None, "") else None
    except (ValueError, OverflowError):
        return str(seconds)


def version_parts(text: str) -> tuple[tuple[int, int, str], ...]:
    """A version by its parts: numbers as numbers, words as words, ``rc`` and its like before the release.

    ``7.2.9 < 7.2.10``, ``7.2.0-rc1 < 7.2 == 7.2.0 < 7.2a``.
    """
    parts: list[tuple[int, int, str]] = []
    for number, word in re.findall(r"(\d+)|([A-Za-z]+)", text.strip().lower().removeprefix("v")):
        if word:
            _drop_noughts(parts)
            parts.append((-1 if word in _BEFORE_RELEASE else 1, 0, word))
        else:
            parts.append((2, int(number), ""))
    _drop_noughts(parts)
    return (*parts, (0, 0, ""))


_BEFORE_RELEASE = frozenset(["alpha", "beta", "dev", "pre", "preview", "rc"])


def _drop_noughts(parts: list[tuple[int, int, str]]) -> None:
    while parts and parts[-1] == (2, 0, ""):  # 7.2 and 7.2.0 are one version
        parts.pop()

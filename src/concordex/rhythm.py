"""When something is due that comes again and again: every so often, at times of the day, or as a cron expression says.

Moments are computed and never remembered: whoever asks, on whatever machine, is told the same ones.
"""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from zoneinfo import ZoneInfo

#: From when on it is counted how often something has come: a Monday at midnight, so that weeks begin there.
_BEGIN = datetime(2024, 1, 1, tzinfo=UTC)


class NoRhythm(ValueError):
    """A cron expression that is none, or one that never comes."""


@dataclass(frozen=True)
class Rhythm:
    """When something is due: every so often, or by cron expressions in the time of a zone.

    Times of the day keep to the clock on the wall across daylight saving, as Debian's cron does: one that a spring
    night leaves out comes right after it, one that an autumn night has twice comes once.  What comes every so often
    is counted from 2024-01-01T00:00Z, in time that passes.
    """

    every: timedelta | None = None
    expressions: tuple[str, ...] = ()
    zone: str = "UTC"

    def __post_init__(self) -> None:
        """Raise NoRhythm where nothing would ever be due."""
        if not self.expressions:
            return
        from cronsim import CronSim, CronSimError

        for expression in self.expressions:
            try:
                next(CronSim(expression, _BEGIN))
            except CronSimError as error:
                raise NoRhythm(f"{expression!r} is no cron expression: {str(error).lower()}") from error
            except StopIteration:
                raise NoRhythm(f"{expression!r} never comes") from None

    @classmethod
    def daily(cls, times: Sequence[str], days: Sequence[str] = (), zone: str = "UTC") -> Rhythm:
        """At times of the day (``HH:MM``), on all days or some (``mon`` … ``sun``)."""
        on = ",".join(day.upper() for day in days) or "*"
        split = [time.split(":") for time in times]
        return cls(expressions=tuple(f"{int(minute)} {int(hour)} * * {on}" for hour, minute in split), zone=zone)

    def after(self, moment: datetime) -> datetime:
        """The first moment after this one at which it is due, in UTC."""
        if self.every is not None:
            return _BEGIN + ((moment - _BEGIN) // self.every + 1) * self.every
        return min(self._from(moment, backwards=False)).astimezone(UTC)

    def until(self, moment: datetime) -> datetime:
        """The last moment at which it was due, up to and with this one, in UTC."""
        if self.every is not None:
            return _BEGIN + ((moment - _BEGIN) // self.every) * self.every
        return max(self._from(moment + timedelta(minutes=1), backwards=True, at_most=moment)).astimezone(UTC)

    def _from(self, moment: datetime, *, backwards: bool, at_most: datetime | None = None) -> list[datetime]:
        from cronsim import CronSim

        local = moment.astimezone(ZoneInfo(self.zone))
        found = []
        for expression in self.expressions:
            # seconds are none of theirs, and an hour that comes twice is looked at from either side
            for due in CronSim(expression, local, reverse=backwards):
                if at_most is None or due <= at_most:
                    found.append(due)
                    break
        return found


def spread(name: str, due: datetime, most: timedelta) -> timedelta:
    """How much later than due it begins, up to ``most``: by its name and the moment, so that all machines agree."""
    seconds = int(most.total_seconds())
    if seconds <= 0:
        return timedelta()
    digest = hashlib.blake2b(f"{name} {due.isoformat()}".encode(), digest_size=8).digest()
    return timedelta(seconds=int.from_bytes(digest) % (seconds + 1))

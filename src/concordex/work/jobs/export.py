"""Jobs for whoever has a scheduler: as units of systemd, or as lines of a crontab (crontab(5))."""

from __future__ import annotations

import re
import shlex
import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

from concordex.errors import CalledWrongly

if TYPE_CHECKING:
    from concordex.work.jobs.due import JobPart
    from concordex.work.workspace.base import BaseWorkspace

_DAYS = ("Sun", "Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun")
#: Spans that a crontab can say, in minutes: parts of an hour, or of a day.
_HOUR, _DAY = 60, 1440


def as_crontab(workspace: BaseWorkspace, parts: Sequence[JobPart]) -> str:
    """Lines of a crontab that run the jobs; CalledWrongly where one comes in a way that a crontab cannot say."""
    lines = [
        "# Jobs of a Concordex workspace, as `concordex job export cron` wrote them.  Exit statuses: docs/jobs.md.",
        "# A crontab knows no jitter and catches nothing up: `concordex work` does, and so do units of systemd.",
    ]
    for part in parts:
        if part.rhythm is None or part.paused:
            continue
        for expression in _expressions(part):
            zone = f"CRON_TZ={part.rhythm.zone}\n" if part.rhythm.every is None else "CRON_TZ=UTC\n"
            command = _command(workspace, part).replace("%", r"\%")  # which a crontab takes for the end of a line
            lines.append(f"{zone}{expression} {command}")
    return "\n".join(lines) + "\n"


def as_units(workspace: BaseWorkspace, parts: Sequence[JobPart]) -> dict[str, str]:
    """Units of systemd by their file's name: a service and a timer for each job that comes by itself."""
    units = {}
    for part in parts:
        if part.rhythm is None or part.paused:
            continue
        name = f"concordex-{part.name.replace(' ', '-')}"
        units[f"{name}.service"] = _service(workspace, part)
        units[f"{name}.timer"] = _timer(part)
    return units


def _service(workspace: BaseWorkspace, part: JobPart) -> str:
    return f"""[Unit]
Description=Concordex job {part.name}{f": {part.about}" if part.about else ""}
Wants=network-online.target
After=network-online.target

[Service]
Type=oneshot
ExecStart={_command(workspace, part).replace("%", "%%")}
# 3: it found what it was asked to look for; 4: done in part (docs/jobs.md)
SuccessExitStatus=3 4
TimeoutStopSec=600
UMask=0077
"""


def _timer(part: JobPart) -> str:
    assert part.rhythm is not None
    when = [f"OnCalendar={calendar}" for calendar in _calendars(part)]
    spread = int(part.jitter.total_seconds())
    return "\n".join([
        "[Unit]", f"Description=When the Concordex job {part.name} is due: {part.in_words}", "", "[Timer]", *when,
        *([f"RandomizedDelaySec={spread}"] if spread else []),
        f"Persistent={'true' if part.catch_up else 'false'}", "", "[Install]", "WantedBy=timers.target", "",
    ])  # fmt: skip


def _command(workspace: BaseWorkspace, part: JobPart) -> str:
    apart = ["--apart", part.part] if part.part else []
    root = str(workspace.root.resolve())
    return shlex.join([sys.executable, "-m", "concordex", "-w", root, "job", "run", part.job, *apart])


def _expressions(part: JobPart) -> Sequence[str]:
    """The rhythm of a part as cron expressions."""
    assert part.rhythm is not None
    if part.rhythm.every is None:
        return part.rhythm.expressions
    minutes, rest = divmod(part.rhythm.every.total_seconds(), 60)
    if not rest and minutes < _HOUR and _HOUR % minutes == 0:
        return [f"*/{int(minutes)} * * * *"]
    hours, rest = divmod(part.rhythm.every.total_seconds(), 3600)
    if not rest and hours < 24 and 24 % hours == 0:
        return [f"0 */{int(hours)} * * *"]
    if part.rhythm.every.total_seconds() == _DAY * 60:
        return ["0 0 * * *"]
    raise CalledWrongly(
        f"{part.name} comes {part.in_words}, which cron cannot say",
        advice="a span that divides an hour or a day can be; or `at:` or `cron:`; name the jobs to leave it out",
    )


def _calendars(part: JobPart) -> list[str]:
    """The rhythm of a part as calendar events of systemd (systemd.time(7))."""
    assert part.rhythm is not None
    zone = part.rhythm.zone if part.rhythm.every is None else "UTC"
    return [_calendar(part, expression, zone) for expression in _expressions(part)]


def _calendar(part: JobPart, expression: str, zone: str) -> str:
    minute, hour, day, month, weekday = expression.split()
    if (day != "*" and weekday != "*") or re.search(r"[LW#?]|[0-7]L", f"{day} {weekday[-2:]}"):
        raise CalledWrongly(
            f"the cron expression {expression!r} of {part.name} cannot be said to systemd",
            advice="there, a day of the month and one of the week must both hold; concordex work, or job export cron",
        )
    on = f"{_weekdays(weekday)} " if weekday != "*" else ""
    months = re.sub(r"[A-Za-z]{3}", lambda name: str(_MONTHS.index(name[0].upper()) + 1), month)
    return f"{on}*-{_field(months, 1)}-{_field(day, 1)} {_field(hour, 0)}:{_field(minute, 0)}:00 {zone}"


_MONTHS = ("JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC")


def _field(text: str, first: int) -> str:
    """A field of cron in the words of systemd: ``*/5`` is ``0/5``, ``1-5`` is ``1..5``."""
    told = []
    for one in text.split(","):
        span, slash, step = one.partition("/")
        span = span.replace("-", "..")
        told.append(f"{str(first) if span == '*' else span}/{step}" if slash else span)
    return ",".join(told)


def _weekdays(text: str) -> str:
    told = []
    for one in text.split(","):
        ends = [_DAYS[int(end)] if end.isdecimal() else end.capitalize() for end in one.partition("/")[0].split("-")]
        told.append("..".join(ends))
    return ",".join(told)

"""Health in the open text format for scrapers (OpenMetrics 1.0), and as the one line of a plug-in of monitoring."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from datetime import datetime
from typing import TYPE_CHECKING

from concordex.unseen import in_data

if TYPE_CHECKING:
    from concordex.work.show.health import FleetHealth
    from concordex.work.upkeep.measures import MeasureFamily

#: A sample: its labels, its value, and its time, if that is not now.
Sample = tuple[Mapping[str, object], float, datetime | None]


def exposition(health: FleetHealth, ages: Iterable[Sample]) -> str:
    """Everything that is known of a fleet's health: OpenMetrics, sections 5 and 6."""
    counts: list[Sample] = [
        ({"of": row["of"], "kind": row["kind"], "state": state}, row[state], None)
        for row in health.counts.iter_rows(named=True)
        for state in ("normal", "warning", "error", "unknown")
    ]
    passed: list[Sample] = [
        (
            {name: row[name] for name in ("metric", "severity", "entry", "name", "site", "part", "unit")},
            row["value"], row["taken_at"],
        )
        for row in health.passed.iter_rows(named=True)
    ]  # fmt: skip
    watched: list[Sample] = [({"metric": metric}, float(count), None) for metric, count in health.watched.items()]
    families: list[tuple[str, str, list[Sample]]] = [
        ("concordex_things", "How many things of each kind are in each state.", counts),
        ("concordex_threshold_passed", "Readings that are beyond a threshold of the workspace.", passed),
        ("concordex_threshold_readings", "Readings that each threshold was compared with.", watched),
        ("concordex_snapshot_age_seconds", "How old what this rests on is.", list(ages)),
    ]
    return _written(families)


def families(measures: Iterable[MeasureFamily]) -> str:
    """How the work itself stands, in the same format."""
    return _written([(one.name, one.about, [(*sample, None) for sample in one.samples]) for one in measures])


def _written(families: Iterable[tuple[str, str, list[Sample]]]) -> str:
    lines = []
    for name, about, samples in families:
        lines += [f"# TYPE {name} gauge", f"# HELP {name} {about}"]
        lines += [f"{name}{_labels(labels)} {_number(value)}{_at(at)}" for labels, value, at in samples]
    return "\n".join([*lines, "# EOF", ""])


def _number(value: float) -> str:
    """As short as it is exact."""
    return f"{value:.0f}" if float(value).is_integer() else repr(float(value))


def _labels(labels: Mapping[str, object]) -> str:
    told = [f'{name}="{_escaped(value)}"' for name, value in labels.items() if value not in (None, "")]
    return f"{{{','.join(told)}}}" if told else ""


def _escaped(value: object) -> str:
    """A label's value: a backslash, a quote and a line feed are escaped, and nothing else acts (section 5.2)."""
    text: str = in_data(str(value))
    return text.replace("\\", r"\\").replace('"', r"\"").replace("\n", r"\n").replace("\r", "")


def _at(moment: datetime | None) -> str:
    return f" {moment.timestamp():.3f}" if moment else ""


#: The statuses of a plug-in, from good to not known.
OK, WARNING, CRITICAL, UNKNOWN = range(4)
_WORDS = ("OK", "WARNING", "CRITICAL", "UNKNOWN")


def not_known(why: str) -> str:
    """The line where nothing could be found out."""
    return f"CONCORDEX {_WORDS[UNKNOWN]} - {' '.join(why.replace('|', '/').split())}"


def in_one_line(health: FleetHealth) -> tuple[int, str]:
    """A status, and the line that says it, with performance data: as programs that run such plug-ins read it.

    Not known is a threshold that watches nothing, where nothing else is wrong.
    """
    severities = health.passed["severity"].value_counts() if health.passed.height else None
    counts = dict(severities.iter_rows()) if severities is not None else {}
    errors, warnings = counts.get("error", 0), counts.get("warning", 0)
    blind = [metric for metric, count in health.watched.items() if not count]
    status = CRITICAL if errors else WARNING if warnings else UNKNOWN if blind or not health.watched else OK
    said = f"{errors} beyond error, {warnings} beyond warning, of {sum(health.watched.values())} readings"
    if not health.watched:
        said = "the workspace has no thresholds"
    if health.passed.height:
        worst = health.passed.row(0, named=True)
        said += f"; first {worst['name'] or worst['entry']} {worst['metric']} {worst['value']:g}, {worst['bound']}"
    if blind:
        said += f"; nothing told of {', '.join(blind)}"
    of_devices = [row for row in health.counts.iter_rows(named=True) if row["of"] == "devices"]
    data = [f"errors={errors};;0;0", f"warnings={warnings};0;;0"]
    data += [f"devices_{s}={sum(row[s] for row in of_devices)};;;0" for s in ("normal", "warning", "error", "unknown")]
    text = " ".join(said.replace("|", "/").split())
    return status, f"CONCORDEX {_WORDS[status]} - {text} | {' '.join(data)}"

"""What came of a change: as JUnit-style XML for pipelines, as Markdown for people, as rows to try again."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING
from xml.sax.saxutils import quoteattr

from concordex.cli.emit import write_text
from concordex.cli.reasons import why
from concordex.cli.rows import emit_rows
from concordex.errors import CalledWrongly
from concordex.words import suggestion

if TYPE_CHECKING:
    from concordex.change.steps import Change, Step


def write_results(change: Change, form: str, output: Path | None) -> None:
    """Write what came of ``change`` to a file or standard output."""

    if form == "rejects":
        _rejects(change, output)
        return
    makers = {"junit": junit, "markdown": markdown}
    if form not in makers:
        raise CalledWrongly(f"--as {form}: is not known", advice=suggestion(form, [*makers, "rejects"]))
    write_text(makers[form](change), output)


def troubled(step: Step) -> bool:
    """Whether a step did not come to what it should."""
    return step.state in ("refused", "differs", "sent", "unknown", "doubled", "held")


def not_done(change: Change) -> list[Step]:
    """The steps that did not come to what they should; of a run that is incomplete also those that it left."""
    chosen = change.about.chosen or [step.number for step in change.steps]
    left = set(chosen) if change.state == "incomplete" else set()
    return [step for step in change.steps if troubled(step) or (step.state == "ready" and step.number in left)]


def junit(change: Change) -> str:
    """The steps as test cases, in the XML that pipelines read: a failure for each that did not work."""
    wrong = not_done(change)
    numbers = {step.number for step in wrong}
    skipped = [step for step in change.steps if step.number not in numbers and step.state != "confirmed"]
    name = quoteattr(f"change {change.number}: {change.kind} {change.system}")
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<testsuite name={name} tests="{len(change.steps)}" failures="{len(wrong)}" skipped="{len(skipped)}">',
    ]
    for step in change.steps:
        case = f"<testcase classname={_attribute(f'{change.system}.{step.table}')} name={_attribute(_name(step))}"
        if step.number in numbers:
            message = _attribute(f"{step.state}: {why(step) or 'no reason is known'}")
            lines.append(f"  {case}><failure message={message}/></testcase>")
        elif step.state != "confirmed":
            lines.append(f"  {case}><skipped message={_attribute(why(step) or step.state)}/></testcase>")
        else:
            lines.append(f"  {case}/>")
    return "\n".join([*lines, "</testsuite>", ""])


def _attribute(text: str) -> str:
    """A text as an XML 1.0 attribute: signs that XML does not know are left out."""
    return quoteattr("".join(c for c in text if c in "\t\n\r" or (ord(c) >= 0x20 and ord(c) not in (0xFFFE, 0xFFFF))))


def _name(step: Step) -> str:
    return f"{step.number} {step.action or step.operation} {step.label}"


def markdown(change: Change) -> str:
    """A summary, and each step that did not work with its reason."""
    from concordex.model.inert import in_markdown

    counts: dict[tuple[str, str], int] = {}
    for step in change.steps:
        counts[step.operation, step.state] = counts.get((step.operation, step.state), 0) + 1
    lines = [
        f"## Change {change.number}: {change.kind} {change.system}, {change.state}", "",
        "| action | state | steps |", "|---|---|---:|",
        *(f"| {action} | {state} | {count:,} |" for (action, state), count in sorted(counts.items())),
    ]  # fmt: skip
    wrong = not_done(change)
    if wrong:
        lines += ["", "| step | table | record | state | why |", "|---:|---|---|---|---|"]
        lines += [
            f"| {s.number} | {s.table} | {in_markdown(s.label)} | {s.state} | {in_markdown(why(s) or '')} |"
            for s in wrong
        ]
    return "\n".join([*lines, ""])


def _rejects(change: Change, output: Path | None) -> None:
    wrong = not_done(change)
    names = list(dict.fromkeys(name for step in wrong for name in step.desired))
    rows = [
        {
            **{name: step.desired.get(name) for name in names}, "table": step.table, "from": step.source,
            "state": step.state, "why": why(step),
        }
        for step in wrong
    ]  # fmt: skip
    emit_rows(rows, None, output, private=True)

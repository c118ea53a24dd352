"""Reasons in words, for people: one home for every sentence on why a step stands as it does."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Any

from concordex.change.reasons import Reason, Why
from concordex.change.steps import Step
from concordex.words import named, plural, shown

Facts = Mapping[str, Any]

#: How many of what came along are named, and how many records that bear one key.
_NAMED, _BEARERS = 4, 5


def why(step: Step) -> str | None:
    """Why a step stands as it does; None where there is nothing to say."""
    return words(step.why) or None


def words(reasons: Sequence[Reason]) -> str:
    """Reasons, one after the other."""
    return "; ".join(filter(None, map(_word, reasons)))


def _word(reason: Reason) -> str:
    made = _WORDS[reason.why]
    return made if isinstance(made, str) else made(reason.facts)


def _inner(facts: Facts) -> str:
    return words([Reason.of(document) for document in facts.get("because", ())])


def _fact(form: str) -> Callable[[Facts], str]:
    return lambda facts: form.format(**facts)


def _aside(facts: Facts) -> str:
    return f", which is {facts['aside']}," if facts.get("aside") else ""


def _name_wanted(facts: Facts) -> str:
    return f"{plural(facts['others'], 'other new device')} would have the same {facts['field']}"


def _resembles(facts: Facts) -> str:
    if "text" in facts:  # of an earlier release
        return f"it may be there already: {facts['text']}"
    called = facts["called"] or "without a name"
    return f"it may be there already: {facts['other']} ({called}) has the same {facts['share']}"


def _unknown_to_make(facts: Facts) -> str:
    lacking = ", ".join(facts["fields"])
    return f"{facts['label']} is not in {facts['table']}, and to create it {lacking} must be known: push it first"


def _edited(facts: Facts) -> str:
    texts = []
    for name, fact in facts["fields"].items():
        by = f" (change {fact['change']}, {_minute(fact['written'])})" if "change" in fact else ""
        since = f" (seen since {_minute(fact['since'])})" if "since" in fact else ""
        texts.append(
            f"{name}: we wrote {shown(fact['last'])}{by}, somebody made it {shown(fact['now'])}{since},"
            f" it should be {shown(fact['desired'])}"
        )
    return f"{'; '.join(texts)} (--edited ours or theirs decides)"


def _since(fact: Facts) -> str:
    if "since" in fact:
        return f"; seen since {_minute(fact['since'])}"
    return f"; not so yet in the pull of {_minute(fact['not_yet'])}" if "not_yet" in fact else ""


def _minute(moment: str) -> str:
    return moment[:16].replace("T", " ")


def _changed(facts: Facts) -> str:
    texts = (
        f"{name} is now {shown(fact['now'])} (was {shown(fact['before'])}{_since(fact)})"
        for name, fact in facts["fields"].items()
    )
    return f"changed there since the preview: {', '.join(texts)}"


def _values(facts: Facts, form: str, between: str = ", ") -> str:
    return between.join(form.format(name, shown(value)) for name, value in facts["fields"].items())


def _differs(facts: Facts) -> str:
    texts = (
        f"{name} is still {shown(fact['now'])}" if fact.get("still")
        else f"{name} is {shown(fact['now'])}, not {shown(fact['desired'])}" for name, fact in facts["fields"].items()
    )  # fmt: skip
    return f"read back: {'; '.join(texts)}"


def _taken_back(facts: Facts) -> str:
    others = "; ".join(
        f"{staged['who']} since {staged['since']}: {staged['what']}" for staged in facts.get("others", ())
    )
    return f"staged, and taken back: {_inner(facts)}" + (f"; staged there: {others}" if others else "")


_STANDS = {"refused": "was refused", "held": "was held", "unknown": "may have been written, or may not"}


def _facts(facts: Facts) -> str:
    return ", ".join(f"{name} {shown(value)}" for name, value in facts["facts"].items())


def ready(facts: Facts) -> str:
    """What is known of a record that is ready, and of what came along with it."""
    texts = [_facts(facts)] if facts["facts"] else []
    for table, names in facts.get("brought", {}).items():
        more = f" and {len(names) - _NAMED} more" if len(names) > _NAMED else ""
        texts.append(f"with {len(names)} {table}: {', '.join(names[:_NAMED])}{more}")
    return "; ".join(texts)


def _ready(facts: Facts) -> str:
    text = ready(facts)
    if not text:
        return "ready"
    return f"ready: {text}" if facts["facts"] else f"ready; {text}"


def _not_ready(facts: Facts) -> str:
    if facts["failed"]:
        return f"it is there, and will not be ready ({_facts(facts) or facts['failed']})"
    return f"it is there, and after {facts['timeout']:g} s not ready ({facts['when']})"


_WORDS: dict[Why, str | Callable[[Facts], str]] = {
    Why.CANNOT: _fact("the dialect does not say how to {what} one"),
    Why.NO_KEY: lambda facts: f"it has no {' or '.join(' and '.join(key) for key in facts['keys'])} to be found by",
    Why.REQUIRED: lambda facts: f"it has no {', no '.join(facts['fields'])}",
    Why.NAME_TAKEN: lambda facts: f"the {facts['field']} is taken there by record {facts['record']}{_aside(facts)}",
    Why.NAME_WANTED: _name_wanted,
    Why.KEY_TAKEN: (
        lambda facts: f"record {facts['record']}{_aside(facts)} there has the same {' and '.join(facts['fields'])}"
    ),
    Why.NOT_IN: _fact("{label} is not in {table}, and the dialect does not say how to create one"),
    Why.UNKNOWN_TO_MAKE: _unknown_to_make,
    Why.BADLY_IDENTIFIED: "it is badly identified: it could not be found again",
    Why.NO_DEVICE: "it is no device, but an address that moves between devices",
    Why.SIGHTED: lambda facts: f"it is known by sight alone: {', '.join(facts['systems'])}",
    Why.RESEMBLES: _resembles,
    Why.SAME_NAME: _fact("it may be there already: {other} has the same name and another serial"),
    Why.SAME_SERIAL: _fact("it may be there already: {other} has the same serial"),
    Why.EDITED: _edited,
    Why.SEVERAL_RECORDS: _fact("it has several records there: {ids}"),
    Why.SEVERAL_ENTRIES: _fact("another entry has the {field} {value} as well"),
    Why.UNSEEN: _fact("{record} was in no whole pull up to {until}"),
    Why.UNDO_UNKNOWN: _fact("whether it was done is unknown; change resume {change} looks again"),
    Why.UNDO_DOUBLED: lambda facts: f"{_inner(facts)}; which of them is ours is not known",
    Why.UNDO_NEVER: _fact("what {action} did cannot be taken back"),
    Why.UNDO_UNREAD: lambda facts: (
        f"what {named(facts['fields'])} was is never shown, so it "
        + ("is not brought back" if facts.get("gone") else "stays as it is")
    ),
    Why.THERE_ALREADY: "it was there already",
    Why.SO_ALREADY: "it was so already",
    Why.GONE_ALREADY: "it was gone already",
    Why.DONE_ALREADY: "it was done already",
    Why.APPEARED: _fact("record {record} has appeared there since the preview"),
    Why.GONE: "the record is gone since the preview",
    Why.CHANGED: _changed,
    Why.SENT_EARLIER: _fact(
        "change {change} sent it, and whether it was made is unknown: concordex change resume {change} looks again"
    ),
    Why.MADE_EARLIER: _fact(
        "change {change} made it as record {record}, which is called otherwise there: concordex change show {change}"
    ),
    Why.IS_THERE: _fact("record {record} is there by now"),
    Why.IS_GONE: "the record is gone by now",
    Why.IS_NOW: lambda facts: _values(facts, "{} is now {}"),
    Why.CHANGED_NOW: lambda facts: f"changed there just now: {_values(facts, '{} is now {}')}",
    Why.ADDED_TO: lambda facts: f"it was altered or added to since we left it: {named(facts['members'])}",
    Why.LEFT: lambda facts: _values(facts, "{} is {} now, and is left"),
    Why.ROW_APPEARED: "a row with this key has appeared since",
    Why.ROW_GONE: "the row is gone",
    Why.ROW_CHANGED: lambda facts: f"changed there since: {', '.join(facts['columns'])}",
    Why.SEVERAL_ROWS: "several rows have this key",
    Why.ERROR: _fact("{text}"),
    Why.UNASKED: _fact("the device at {address} could not be asked: {text}"),
    Why.SAID: _fact("{text}"),
    Why.NOT_TAKEN: _fact("not taken: {text}"),
    Why.TOOK: "the system took it",
    Why.RESTORED: "taken out of the bin",
    Why.STAGED: "staged, and not committed",
    Why.TAKEN_BACK: _taken_back,
    Why.UNCOMMITTED: _fact("not committed: {text}"),
    Why.LOST: "staged, and perhaps lost: the session ended before it was committed",
    Why.STANDS: lambda facts: f"{facts['step']} {_STANDS.get(facts['state'], 'is not done')}",
    Why.WAS: lambda facts: f"{facts['state']}: {_inner(facts)}",
    Why.NOT_SEEN: lambda facts: f"it may have arrived, and does not show: {_inner(facts)}",
    Why.BLIND: _fact("and it could not be looked up: {text}"),
    Why.CUT_OFF: "the run that sent it was cut off",
    Why.SENT_BEFORE: "sent before",
    Why.MADE_IT_SAYS: "the system says that it made it",
    Why.SHOWS_NOW: "it does now",
    Why.REFUSED_AND_DONE: lambda facts: (
        f"it shows all the same, and the system says that it refused it: {_inner(facts)}"
    ),
    Why.FOUND_MADE: lambda facts: f"made, although: {_inner(facts)}",
    Why.FOUND_DONE: lambda facts: f"done, although: {_inner(facts)}",
    Why.FOUND: "found by its key",
    Why.CALLED: _fact("the system called it {record}"),
    Why.SETTLED: lambda facts: f"{'done' if facts['done'] else 'not done'}, says {facts['by']}",
    Why.NOT_SHOWN: "the system says that it was made, and it does not show",
    Why.NOT_THERE: "read back: the record is not there",
    Why.STILL_THERE: "read back: the record is still there",
    Why.DIFFERS: _differs,
    Why.OWN_WAY: lambda facts: _values(facts, "{} is written {} there", "; "),
    Why.LACKS: lambda facts: f"read back: {facts['field']} lack {'; '.join(facts['lines'])}",
    Why.NOT_NAMED: _fact("read back: {target} does not show it"),
    Why.UNREAD: lambda facts: f"{named(facts['fields'])} is never shown, so it was not read back",
    Why.ALSO_CHANGED: lambda facts: f"also changed: {named(facts['members'])}",
    Why.NOT_BACK: lambda facts: f"not all came back: {named(facts['members'])}",
    Why.DOUBLED: lambda facts: f"{len(facts['ids'])} records bear its key: {', '.join(facts['ids'][:_BEARERS])}",
    Why.READY: _ready,
    Why.NOT_READY: _not_ready,
}

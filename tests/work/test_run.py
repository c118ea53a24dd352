"""What a run makes of each step before it is sent, and what is kept of it: every way that a step can stand."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from contextlib import nullcontext
from dataclasses import replace
from types import SimpleNamespace

import pytest

from concordex.change.compare import same
from concordex.change.reasons import Why, because, has
from concordex.change.run_options import RunOptions
from concordex.change.steps import Change, Outcome, Step
from concordex.change.whole import prints
from concordex.errors import CalledWrongly, Stopped, WireError
from concordex.work.run.doubt import Settlement
from concordex.work.run.guards import check_guards
from concordex.work.run.ledger import Ledger
from concordex.work.run.precheck import changed, is_done, of_creations, of_the_rest
from concordex.work.run.run import came_to, check_staging


class Shelf:
    """A target that holds records of one table, by id; steps are found by their names."""

    def __init__(self, records: Mapping[str, Mapping[str, object]] | None = None, shown: bool = True) -> None:
        self.held = {key: dict(record) for key, record in (records or {}).items()}
        self.shown, self.asked = shown, list[Sequence[str]]()
        self.session = SimpleNamespace(dialect=None, endpoint=SimpleNamespace(name="s"))

    same = staticmethod(same)

    def bearers(self, step: Step) -> list[str]:
        return [key for key, record in self.held.items() if record["name"] == step.key["name"]]

    def located(self, step: Step) -> Step:
        return step

    def records(self, _table: str, ids: Sequence[str]) -> dict[str, dict[str, object]]:
        return {key: self.held[key] for key in ids if key in self.held}

    def whole(self, _table: str, ids: Sequence[str]) -> dict[str, dict[str, object]]:
        self.asked.append(list(ids))
        return self.records("", ids)

    def unread(self, _step: Step) -> set[str]:
        return set()

    def can_show(self, _step: Step) -> bool:
        return self.shown is not None

    def shows(self, _step: Step) -> tuple:
        return () if self.shown else because(Why.STILL_THERE)

    def gone(self, _table: str, ids: Sequence[str]) -> None:
        self.went = list(ids)

    def learn(self, now: object, table: str) -> None:
        self.learned = (now, table)


def step(number: int = 1, operation: str = "update", **facts: object) -> Step:
    given = {"table": "devices", "label": "a", "key": {"name": "a"}, "record_id": "7"} | facts
    return Step(number=number, operation=operation, **given)


STAGED = because(Why.STAGED)


@pytest.mark.parametrize(
    ("there", "facts", "bucket", "state", "why", "ours"),
    [
        ([], {}, "ready", None, None, None),
        ([], {"state": "refused"}, "ready", None, None, None),
        ([], {"state": "sent"}, "doubtful", None, None, None),
        ([], {"state": "unknown"}, "doubtful", None, None, None),
        ([], {"state": "written"}, "doubtful", None, None, None),
        (["7"], {"state": "sent", "entry": "E1"}, "settled", "written", Why.THERE_ALREADY, "7"),
        (["7"], {"state": "written", "why": STAGED, "entry": "E1"}, "settled", "written", None, "7"),
        (["7"], {}, "settled", "written", Why.THERE_ALREADY, "7"),
        (["7"], {"entry": "E1"}, "settled", "held", Why.APPEARED, "7"),
        (["7", "8"], {"state": "sent"}, "settled", "written", Why.THERE_ALREADY, None),
        (["7", "8"], {"entry": "E1"}, "settled", "held", Why.APPEARED, "7"),
    ],
)
def test_what_is_to_be_made_is_sent_where_it_is_not_there_and_did_not_leave_before(
    there, facts, bucket, state, why, ours
):
    made = step(operation="create", record_id=None, **facts)
    checked = of_creations(Shelf({key: {"name": "a"} for key in there}), [made])
    assert [name for name in ("ready", "doubtful", "settled") if getattr(checked, name)] == [bucket]
    if bucket == "settled":
        (outcome,) = checked.settled
        assert (outcome.state, outcome.record_id) == (state, ours)
        assert [reason.why for reason in outcome.why] == ([why] if why else [])


HELD = {"7": {"name": "a", "os": "7.1", "site": "quay"}}


@pytest.mark.parametrize(
    ("operation", "facts", "held", "options", "bucket", "state", "why"),
    [
        ("update", {"before": {"os": "7.1"}, "desired": {"os": "7.2"}}, HELD, {}, "ready", None, None),
        ("update", {"before": {"os": "7.1"}, "desired": {"os": "7.2"}, "state": "sent"}, HELD, {}, "doubtful", None,
         None),
        ("update", {"before": {"os": "7.0"}, "desired": {"os": "7.1"}}, HELD, {}, "settled", "written", Why.SO_ALREADY),
        ("update", {"desired": {"os": "7.1"}, "why": STAGED, "state": "written"}, HELD, {}, "settled", "written", None),
        ("update", {"before": {"os": "7.1"}, "desired": {"os": "7.2"}}, {}, {}, "settled", "held", Why.GONE),
        ("update", {"before": {"os": "7.0"}, "desired": {"os": "7.2"}}, HELD, {}, "altered", None, None),
        ("update", {"before": {"os": "7.0"}, "desired": {"os": "7.2"}}, HELD, {"force": True}, "ready", None, None),
        ("update", {"before": {"color": "red"}, "desired": {"os": "7.2"}}, HELD, {}, "ready", None, None),
        ("update", {"before": {"os": "7.0", "site": "quay"}, "desired": {"os": "6", "site": "dock"}}, HELD,
         {"field_by_field": True}, "ready", None, None),
        ("update", {"before": {"os": "7.0"}, "desired": {"os": "6"}}, HELD, {"field_by_field": True}, "altered", None,
         None),
        ("update", {"before": {"os": "7.0", "site": "quay"}, "desired": {"os": "6", "site": "dock"}, "state": "sent"},
         HELD, {"field_by_field": True}, "doubtful", None, None),
        ("delete", {"before": {"os": "7.1"}}, HELD, {}, "ready", None, None),
        ("delete", {"before": {"os": "7.0"}}, HELD, {}, "altered", None, None),
        ("delete", {"before": {"os": "7.0"}}, HELD, {"field_by_field": True}, "altered", None, None),
        ("delete", {"before": {"os": "7.1"}}, {}, {}, "settled", "written", Why.GONE_ALREADY),
        ("delete", {"left": prints({"name": "a"})}, HELD, {}, "settled", "held", Why.ADDED_TO),
        ("delete", {"left": prints({"name": "a"})}, HELD, {"force": True}, "ready", None, None),
        ("delete", {"left": prints(HELD["7"])}, HELD, {}, "ready", None, None),
        ("action", {}, HELD, {}, "ready", None, None),  # that it shows may be of an earlier one
        ("action", {"state": "sent"}, HELD, {}, "settled", "written", Why.DONE_ALREADY),
        ("action", {"before": {"site": "QUAY"}}, HELD, {}, "altered", None, None),  # to exactly what was seen
        ("update", {"before": {"site": "QUAY"}, "desired": {"os": "7.2"}}, HELD, {}, "ready", None, None),
        ("action", {}, {}, {}, "settled", "held", Why.GONE),
    ],
)  # fmt: skip
def test_what_is_altered_or_goes_is_sent_only_where_it_is_as_it_was_shown(
    operation, facts, held, options, bucket, state, why
):
    given = {"force": False, **options}
    checked = of_the_rest(Shelf(held), [step(operation=operation, **facts)], **given)
    filled = [name for name in ("ready", "doubtful", "settled", "altered") if getattr(checked, name)]
    assert filled == [bucket]
    if bucket == "settled":
        (outcome,) = checked.settled
        assert (outcome.state, [reason.why for reason in outcome.why]) == (state, [why] if why else [])
    if options.get("field_by_field") and bucket in ("ready", "doubtful"):
        assert getattr(checked, bucket)[0].desired == {"site": "dock"}
        assert checked.spared == {1: because(Why.LEFT, fields={"os": "7.1"})}
    else:
        assert checked.spared == {}


def test_each_step_is_looked_up_by_its_own_record_and_only_what_rests_on_a_whole_one_is_read_whole():
    shelf = Shelf({"7": {"name": "a", "os": "1"}, "8": {"name": "b", "os": "2"}})
    left = prints({"name": "b", "os": "2"})
    steps = [step(1, "delete"), step(2, "delete", record_id="8", left=left), step(3, "delete", record_id="9")]
    checked = of_the_rest(shelf, steps, force=False)
    assert ([s.number for s in checked.ready], [o.step.number for o in checked.settled]) == ([1, 2], [3])
    assert shelf.asked == [["8"]]
    assert of_the_rest(shelf, [], force=False).ready == []


def test_what_others_altered_is_told_with_what_it_is_was_and_since_when():
    (reason,) = changed(Shelf(HELD), step(before={"os": "7.0", "site": "quay"}), ["os"], {"os": {"since": "noon"}})
    assert reason.facts == {"fields": {"os": {"now": "7.1", "before": "7.0", "since": "noon"}}}
    (reason,) = changed(Shelf(), step(before={"os": "7.0"}), ["os"])
    assert reason.facts == {"fields": {"os": {"now": None, "before": "7.0"}}}


@pytest.mark.parametrize("shown", [True, False, None])
def test_an_action_is_done_where_that_can_be_seen_and_shows(shown):
    assert bool(is_done(Shelf(HELD, shown), step(operation="action"))) is (shown is True)


@pytest.mark.parametrize(
    ("states", "chosen", "stage", "came"),
    [
        (["confirmed", "confirmed"], {1, 2}, False, "done"),
        (["confirmed", "ready"], {1}, False, "partly"),
        (["confirmed", "differs"], {1}, False, "incomplete"),
        (["confirmed", "refused"], {1, 2}, False, "incomplete"),
        (["staged", "staged"], {1, 2}, True, "staged"),
        (["staged", "staged"], {1, 2}, False, "incomplete"),
        (["staged", "ready"], {1, 2}, True, "incomplete"),
        (["staged", "ready"], {1}, True, "staged"),
    ],
)
def test_how_a_change_stands_after_a_run(states, chosen, stage, came):
    steps = tuple(
        step(at, state="written", why=STAGED) if state == "staged" else step(at, state=state)
        for at, state in enumerate(states, start=1)
    )
    assert came_to(Change(kind="push", system="s", steps=steps), chosen, RunOptions(stage=stage)) == came


@pytest.mark.parametrize(
    ("staging", "stage", "what"),
    [
        (None, True, "takes each write at once"),
        (SimpleNamespace(outlasts_session=False), True, "ends with it"),
        (SimpleNamespace(outlasts_session=True), True, None),
        (None, False, None),
        (SimpleNamespace(outlasts_session=False), False, None),
    ],
)
def test_what_would_not_stay_staged_is_not_left_so(staging, stage, what):
    workspace = SimpleNamespace(
        config=SimpleNamespace(targets={}), dialect=lambda _system: SimpleNamespace(staging=staging, tables={})
    )
    change = Change(kind="push", system="s", steps=())
    if what is None:
        check_staging(workspace, change, stage=stage, note=None)
    else:
        with pytest.raises(CalledWrongly, match=what):
            check_staging(workspace, change, stage=stage, note=None)
    with pytest.raises(CalledWrongly, match=r"takes no note|takes each write|ends with it"):
        check_staging(workspace, change, stage=stage, note="why")


class Heard:
    """Stands for the journal, and for who hears how many have ended."""

    def __init__(self) -> None:
        self.settled_at, self.ended = list[list[tuple[int, str]]](), list[int]()

    def settled(self, _number: int, outcomes: Sequence[Outcome]) -> None:
        self.settled_at.append([(outcome.step.number, outcome.state) for outcome in outcomes])


def test_what_comes_into_effect_as_one_is_written_down_at_the_end_by_its_last_word():
    heard, waiting = Heard(), [False]
    ledger = Ledger(heard, 1, heard.ended.append, waits=lambda s: s.number < 4, waiting=lambda: waiting[0])
    ledger.settle([Outcome(step(1), "written")])  # it was so before anything was staged
    waiting[0] = True
    ledger.settle([Outcome(step(2), "written"), Outcome(step(4), "written"), Outcome(step(3), "refused")])
    ledger.settle([Outcome(step(5, "action"), "written")], ended=False)
    ledger.settle([Outcome(step(3), "ready")])  # is sent once more: others are written down at once, too
    ledger.settle([])
    assert heard.settled_at == [[(1, "written")], [(4, "written")], [(5, "written")], [(3, "ready")]]
    assert heard.ended == [1, 3, 1]
    assert [n for n in range(1, 6) if ledger.is_written(step(n))] == [1, 2, 4, 5]
    assert sorted(ledger.written) == [1, 4, 5]
    assert [(o.step.number, o.state) for o in ledger.close()] == [(2, "written"), (3, "ready")]
    ledger.settle([Outcome(step(2), "unknown", because(Why.CUT_OFF), "9")])
    assert (ledger.unknown[2].record_id, ledger.unknown[2].why) == ("9", because(Why.CUT_OFF))
    ledger.settle([Outcome(step(2), "written")])
    assert (2 in ledger.unknown, 2 in ledger.written, ledger.states[2]) == (False, True, "written")
    assert ledger.close() == []


def test_what_shows_when_it_is_looked_for_is_written_and_the_rest_is_left():
    heard = Heard()
    actual, ledger = Shelf(), Ledger(heard, 1, heard.ended.append)
    doubt = Settlement(actual, ledger, None)
    now = Shelf({"7": {"name": "a", "os": "2"}, "8": {"name": "twin"}, "9": {"name": "twin"}})
    steps = [
        step(1, "create", key={"name": "a"}, record_id=None),
        step(2, "create", key={"name": "twin"}, record_id=None),
        step(3, "create", key={"name": "no"}, record_id=None),
        step(4, desired={"os": "2"}),
        step(5, desired={"os": "3"}),
        step(6, "delete", record_id="gone"),
        step(7, "delete"),
    ]
    assert [s.number for s in doubt.seen(because(Why.CUT_OFF), now, steps)] == [3, 5, 7]
    assert heard.settled_at == [[(1, "written"), (2, "written"), (4, "written"), (6, "written")]]
    assert [ledger.written[n].record_id for n in (1, 2)] == ["7", None]  # of twins nobody knows which is ours
    assert has(ledger.written[1].why, Why.FOUND_MADE)
    assert has(ledger.written[4].why, Why.FOUND_DONE)
    assert (actual.went, actual.learned) == (["gone"], (now, "devices"))
    assert doubt.seen((), now, []) == []


async def _looked(doubt: Settlement, steps: Sequence[Step]) -> None:
    await doubt.settle(steps, WireError("cut off", where="s"))


def test_an_action_that_nobody_can_see_is_unknown_without_a_look():
    import asyncio

    heard = Heard()
    ledger = Ledger(heard, 1, heard.ended.append)
    blind, seeing = Settlement(Shelf(shown=None), ledger, None), Settlement(Shelf(), ledger, None)

    async def settles(_write: object) -> None:
        raise WireError("no route", where="s")

    asyncio.run(_looked(blind, [step(1, "action")]))
    assert (ledger.states, has(ledger.unknown[1].why, Why.NOT_SEEN)) == ({1: "unknown"}, True)
    seeing.committer = SimpleNamespace(settle=settles)
    table = SimpleNamespace(write=SimpleNamespace(commit=None))
    seeing.actual.session.dialect = SimpleNamespace(tables={"devices": table})
    ledger.settle([Outcome(step(3), "written")])
    asyncio.run(_looked(seeing, [step(2, "action"), step(3)]))  # it can be seen, and the look fails
    assert (ledger.states[2], ledger.states[3]) == ("unknown", "written")
    assert "no route" in str(ledger.unknown[2].why)


GUARDS = {"creations": 2, "updates": 2, "deletions": 2, "retirements": 1, "actions": 2, "share": 0.5, "windows": []}


@pytest.mark.parametrize(
    ("steps", "size", "what"),
    [
        ([step(n, "create") for n in range(2)], 0, None),
        ([step(n, "create") for n in range(3)], 0, "3 creations, and the workspace allows 2"),
        ([step(n, "update", action="retire") for n in range(2)], 0, "2 retirements, and the workspace allows 1"),
        ([step(n, "action", action="retire") for n in range(2)], 0, None),
        ([step(n, "update", action="retire") for n in range(1)] + [step(8), step(9)], 0, None),
    ],
)
def test_a_guard_lets_so_many_through_and_not_one_more(steps, size, what):
    change = Change(kind="push", system="s", steps=tuple(steps))
    config = SimpleNamespace(systems={}, guards=SimpleNamespace(**GUARDS))
    held = SimpleNamespace(newest=lambda *_args, **_kind: None)
    workspace = SimpleNamespace(config=config, now=lambda: None, memory=held)
    if what is None:
        check_guards(workspace, change, steps)
    else:
        with pytest.raises(Stopped, match=what):
            check_guards(workspace, change, steps)


@pytest.mark.parametrize(("altered", "size", "stopped"), [(5, 6, False), (6, 12, False), (6, 11, True), (6, 0, False)])
def test_so_large_a_share_of_a_table_is_altered_and_no_larger_but_for_a_few(altered, size, stopped):
    steps = [step(n, "update" if n % 2 else "delete") for n in range(altered)] + [step(99, "create")]
    limits = SimpleNamespace(**{**GUARDS, "updates": 9, "deletions": 9})
    change = Change(kind="push", system="s", steps=tuple(steps))
    workspace = SimpleNamespace(
        config=SimpleNamespace(systems={}, guards=limits), now=lambda: None,
        memory=SimpleNamespace(newest=lambda *_args, **_kind: [SimpleNamespace(distinct=size)] if size else []),
    )  # fmt: skip
    if stopped:
        with pytest.raises(Stopped, match=r"alters 55% of s/devices \(6 of 11\)"):
            check_guards(workspace, change, steps)
    else:
        check_guards(workspace, change, steps)
    counted = replace(change, about=replace(change.about, sizes={"devices": 100}))  # as it was read for the change
    check_guards(workspace, counted, steps)


class Counting:
    """A session that is signed in anew so often while something is sent; nothing else of it is asked."""

    def __init__(self, openings: int, anew: int, *, outlasts: bool = False) -> None:
        self.openings, self.anew = openings, anew
        self.dialect = SimpleNamespace(staging=SimpleNamespace(outlasts_session=outlasts))
        self.endpoint = SimpleNamespace(name="s")


@pytest.mark.parametrize(
    ("openings", "anew", "outlasts", "lost"),
    [(1, 0, False, False), (1, 1, False, True), (1, 1, True, False), (0, 1, False, False)],
)
def test_what_a_session_staged_is_lost_where_that_ended_before_its_commit(monkeypatch, openings, anew, outlasts, lost):
    """A first signing-in, for what is sent, loses nothing."""
    import asyncio

    from concordex.errors import Unreachable
    from concordex.work.run import commits

    session = Counting(openings, anew, outlasts=outlasts)
    committed: list[str] = []

    async def commit(*_args: object) -> None:
        committed.append("once")

    async def send() -> str:
        session.openings += session.anew
        return "made"

    monkeypatch.setattr(commits, "commit", commit)
    committer = commits.Committer(session, as_one=False)
    write = SimpleNamespace(commit=SimpleNamespace())
    if lost:
        with pytest.raises(Unreachable, match="ended before its writes were committed"):
            asyncio.run(committer.in_effect([write], send))
    else:
        assert asyncio.run(committer.in_effect([write], send)) == "made"
    assert committed == ["once"]
    assert asyncio.run(committer.in_effect([SimpleNamespace(commit=None)], send)) == "made"  # it takes it at once
    assert committed == ["once"]


def test_only_what_was_deleted_is_forgotten_as_made_by_us_and_only_what_was_made_is_noted(monkeypatch):
    from concordex.work.run import api_run
    from concordex.work.run.api_run import ApiRun

    monkeypatch.setattr(api_run, "begun", lambda _workspace: nullcontext(1))
    noted: dict[str, object] = {}
    catalogue = SimpleNamespace(
        refer=lambda rows: noted.update(made=list(rows)), forget=lambda _system, ids: noted.update(gone=ids),
        snapshots_of=lambda _pull: [], end_pull=lambda *_: None,
    )  # fmt: skip
    running = ApiRun.__new__(ApiRun)
    running.workspace, running.change = SimpleNamespace(catalogue=catalogue), SimpleNamespace(system="s", number=1)
    running.steps = []
    judged = [
        step(1, "delete", record_id="1"), step(2, "update", record_id="2"), step(3, "report", record_id="3"),
        step(4, "create", record_id="4", entry="E4", source="m/4"), step(5, "create", record_id="5", entry="E5"),
        step(6, "delete", record_id=None),
    ]  # fmt: skip
    running._keep(SimpleNamespace(needed=lambda _tables: []), judged)
    assert noted == {"made": [("s", "4", "E4", "m/4")], "gone": ["1"]}

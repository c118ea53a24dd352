"""What runs by itself: when it is due and not twice, to the end of what it has begun, and nothing after what failed."""

from __future__ import annotations

import json
import os
import signal
import time
from datetime import UTC, datetime, timedelta
from threading import Event, Timer

import pytest

from concordex.errors import StoreError
from concordex.store.runs import JobRuns
from concordex.work.jobs import keeper
from concordex.work.jobs.due import due, part_of, parts_of
from tests.conftest import Near, Shell

DIALECT = """
format: 1
name: lamps
title: Lamps
sign_in:
  by: call
  call: {path: /in, form: {}}
  gives: {ticket: ticket}
  carries: {headers: {Ticket: "{ticket}"}}
  sign_out: {method: POST, path: /out}
tables:
  devices:
    read: {path: /lamps, records: lamps, total: n, complete: the guide says so}
    fields: {record_id: id, name: label}
"""


@pytest.fixture
def lamps(tmp_path, serve):
    """A workspace with two systems that answer as they are told to: slowly, in part, or not at all."""
    state = {"status": 200, "said": 3, "slow": 0.0, "asked": []}

    def answer(_method, path, _query, _body, _headers):
        state["asked"].append(path)
        if path == "/in":
            return 200, {"ticket": "t-1"}
        if path == "/lamps" and state["slow"]:
            time.sleep(state["slow"])
        return state["status"], {"lamps": [{"id": str(n), "label": f"lamp-{n}"} for n in range(3)], "n": state["said"]}

    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/lamps.yaml").write_text(DIALECT)
    url = serve(answer).url
    (tmp_path / "concordex.yaml").write_text(
        "format: 1\nsystems:\n"
        f"  a: {{dialect: lamps, url: '{url}', tags: [quay]}}\n  b: {{dialect: lamps, url: '{url}'}}\n"
    )
    return Near(tmp_path), state


def with_jobs(shell: Near, jobs: str) -> None:
    shell.config(lambda text: text.partition("jobs:")[0] + "jobs:\n" + jobs)


def steps(shell: Near, run: int | None = None) -> list[str]:
    ran = shell.workspace.jobs.history(1)[0] if run is None else shell.workspace.jobs.one(run)
    return [step.outcome for step in ran.steps]


def waited(found, seconds: float = 120.0):
    """What is found in the end."""
    end = time.monotonic() + seconds
    while time.monotonic() < end:
        if told := found():
            return told
        time.sleep(0.05)
    raise AssertionError("it never came")


def test_lines_run_in_order_and_not_after_one_that_failed_nor_where_not_all_is_whole(lamps):
    shell, state = lamps
    with_jobs(
        shell,
        """
  round:
    steps:
      - {run: "pull {systems}", stop_on: []}
      - {run: reconcile, only_if: whole}
      - {run: findings --count, only_if: nothing_failed}
      - {run: pulls, always: true}
  strict: {steps: [pull nobody, pulls]}
""",
    )
    shell("job", "run", "round", status=0)
    assert steps(shell) == ["done"] * 4
    state["said"] = 4  # a list that announces more than comes
    told = shell("job", "run", "round", status=4)
    assert steps(shell) == ["partly", "left out", "done", "done"]
    assert "reconcile: left out, a/devices is partial" in told.stderr
    state["status"] = 403
    shell("job", "run", "round", status=1)
    assert steps(shell) == ["failed", "left out", "left out", "done"]
    shell("job", "run", "strict", status=1)
    assert steps(shell) == ["failed", "left out"]
    rows = json.loads(shell("job", "history", "--job", "strict", "--outcome", "failed", "-f", "json").stdout)
    assert [row["why"] for row in rows] == ["`pull nobody` ended with failed"]
    assert "there is no system 'nobody'" in shell("job", "history", str(rows[0]["run"]), "--said", "1").stdout
    assert "said nothing that is kept" in shell("job", "history", str(rows[0]["run"]), "--said", "2", status=2).stderr


def test_without_a_pull_of_its_own_a_run_knows_of_nothing_that_is_whole(lamps):
    shell, _ = lamps
    shell("pull")
    with_jobs(shell, "  round: {steps: [{run: reconcile, only_if: whole}]}\n")
    shell("job", "run", "round", status=4)
    assert steps(shell) == ["left out"]


def test_what_is_due_runs_once_for_the_systems_that_are_meant_and_what_was_missed_is_caught_up_once(lamps):
    shell, state = lamps
    with_jobs(shell, '  often: {every: 1h, tags: [quay], apart: {b: {every: 1d}}, steps: ["pull {systems}"]}\n')
    shell("work", "--once")
    assert state["asked"] == []  # whoever comes anew waits for what is due next
    here = shell.workspace
    long_ago = (datetime.now(UTC) - timedelta(hours=7)).isoformat()
    here.catalogue.database.run("UPDATE awaited SET since = ? WHERE part = ''", (long_ago,))
    shell("work", "--once")
    assert state["asked"].count("/in") == 1  # of the one that bears the tag, and not of the other
    assert [(run.job, run.part, run.outcome) for run in here.jobs.history()] == [("often", "", "done")]
    shell("work", "--once")  # seven hours were missed, and made up for once
    assert len(here.jobs.history()) == 1


@pytest.mark.parametrize("error", [StoreError("the catalogue is away"), OSError("no space is left")])
def test_what_could_not_be_begun_is_begun_as_soon_as_it_can(lamps, monkeypatch, error):
    """The catalogue was away, or the disk full, just when it was due: it would not have come before tomorrow."""
    shell, _ = lamps
    with_jobs(shell, "  nightly: {every: 1d, steps: [pull a]}\n")
    here, stop, told = shell.workspace, Event(), []
    here.catalogue.runs.await_from("nightly", "", datetime(2000, 1, 1, tzinfo=UTC))
    monkeypatch.setattr(keeper, "_AGAIN", 0.1)
    begin, faults = JobRuns.begin, [error]

    def begun(*given):
        if faults:
            raise faults.pop()
        return begin(*given)

    def heard(said):
        told.append(said)
        if "done after" in said or len(told) > 9:
            stop.set()

    monkeypatch.setattr(JobRuns, "begin", begun)
    here.jobs.work(stop, heard)
    assert f"nightly: {error}; unless that was noted, it is tried again in 0.1 s" in told
    assert [run.outcome for run in here.jobs.history(9)] == ["done"]


def test_what_was_missed_for_too_long_is_said_and_not_made_up_for(lamps):
    shell, state = lamps
    with_jobs(shell, '  nightly: {every: 1w, catch_up: 0s, steps: ["pull"]}\n')
    here = shell.workspace
    here.catalogue.runs.await_from("nightly", "", datetime.now(UTC) - timedelta(days=8))
    if here.now() - part_of(here, "nightly").rhythm.until(here.now()) < timedelta(minutes=2):
        pytest.skip("it is due just now")
    told = shell("work", "--once").stderr
    assert "skipped, it was due at" in told
    assert (here.jobs.history()[0].outcome, state["asked"]) == ("skipped", [])


def test_a_clock_that_is_set_back_brings_nothing_twice_and_two_clocks_agree(lamps):
    shell, _ = lamps
    with_jobs(shell, '  often: {every: 1h, jitter: 10m, steps: ["pull"]}\n')
    here = shell.workspace
    runs, (part,) = JobRuns(here.catalogue.database), parts_of(here)
    now = datetime(2026, 12, 1, 12, 30, tzinfo=UTC)
    runs.await_from("often", "", now - timedelta(days=1))
    slot = due(part, runs, now).slot
    assert due(part, runs, now).now
    assert due(part, runs, now + timedelta(minutes=20)).slot == slot  # another machine, whose clock is wrong
    runs.skip("often", "", slot, "somebody", "it ran")
    assert not due(part, runs, now).now
    back = due(part, runs, now - timedelta(hours=5))
    assert not back.now
    assert back.slot > slot


def test_one_run_at_a_time_and_one_process_that_waits(lamps):
    shell, state = lamps
    state["slow"] = 9.0
    with_jobs(shell, '  often: {every: 1s, steps: ["pull a"]}\n')
    working = Shell(shell.folder).begin("work")
    try:
        waited(lambda: "/lamps" in state["asked"])
        assert "another `concordex work` runs" in shell("work", "--once", status=5).stderr
        for words in (["often"], ["often", "--leave"]):
            assert "is running already" in shell("job", "run", *words, status=5).stderr
        waited(lambda: [run for run in shell.workspace.jobs.history() if run.outcome == "skipped"])
        rows = json.loads(shell("job", "list", "-f", "json").stdout)
        assert rows[0]["when"] == "every 1s"
        (running,) = [run for run in shell.workspace.jobs.history() if run.outcome == "running"]
        shell("job", "stop", str(running.id))
        assert waited(lambda: shell.workspace.jobs.one(running.id).outcome != "running") is True
        assert shell.workspace.jobs.one(running.id).outcome == "stopped"
        assert working.poll() is None  # the others go on
    finally:
        working.send_signal(signal.SIGTERM)
        _, said = working.communicate(timeout=60)
    assert working.returncode == 0
    assert "told to end: all has ended" in said
    assert state["asked"].count("/in") == state["asked"].count("/out")  # whoever was let in has signed out


@pytest.mark.parametrize("what", ["run", "pull"])
def test_what_ends_while_somebody_looks_whether_it_goes_on_ended_as_it_said(lamps, monkeypatch, what):
    """Between reading that it runs and finding nobody at it, it may come to its end; else it was killed."""
    shell, _ = lamps
    with_jobs(shell, "  byhand: {steps: [pull a]}\n")
    here, ends = shell.workspace, {"it": lambda: None}
    if what == "run":
        number = here.catalogue.runs.begin("byhand", "", None, "ann")
        outcome, done = lambda: here.jobs.one(number).outcome, "done"
        looking, ending = "is_held_for", lambda: here.catalogue.runs.end(number, "done")
    else:
        number = here.catalogue.begin_pull(os.getpid(), None)
        outcome, done = lambda: here.catalogue.pulls()[0]["outcome"], "whole"
        looking, ending = "is_pulling", lambda: here.catalogue.end_pull(number, "whole")

    def nobody_by_now(*_):
        ends["it"]()
        return False

    monkeypatch.setattr(type(here.locks), looking, nobody_by_now)
    for at_last, expected in ((ending, done), (lambda: None, "stopped")):
        here.catalogue.database.run(f"UPDATE {what}s SET outcome = 'running' WHERE id = ?", (number,))
        ends["it"] = at_last
        for command in (("job", "history"), ("pulls",)):
            shell(*command, status=None)
        assert outcome() == expected


def test_a_job_that_is_left_to_whoever_is_at_work_is_run_by_them_once(lamps):
    shell, state = lamps
    with_jobs(shell, "  byhand: {paused: true, steps: [pull a]}\n")
    assert "nobody is at work here" in shell("job", "run", "byhand", "--leave", status=5).stderr
    working = Shell(shell.folder).begin("work")
    try:
        waited(lambda: shell.workspace.locks.is_held_for(""))
        assert shell("job", "run", "byhand", "--leave").stdout == ""
        ran = waited(lambda: [run for run in shell.workspace.jobs.history() if run.outcome == "done"])
        assert (ran[0].process, len(ran)) == (working.pid, 1)
        waited(lambda: not shell.workspace.locks.is_held_for("byhand"))
        shell("job", "run", "byhand", "--leave")
        waited(lambda: len([run for run in shell.workspace.jobs.history() if run.outcome == "done"]) == 2)
    finally:
        working.send_signal(signal.SIGTERM)
        working.communicate(timeout=60)
    assert state["asked"].count("/in") == 2
    here = shell.workspace  # left, and whoever was at work ended before it: made up for once, or said that it was not
    with_jobs(shell, "  late: {steps: [pull a]}\n  lately: {steps: [pull a]}\n")
    here.catalogue.runs.leave("late", "", here.now() - timedelta(days=2), "somebody")
    here.catalogue.runs.leave("lately", "", here.now() - timedelta(minutes=5), "somebody")
    assert "late: skipped, it was due at" in shell("work", "--once").stderr
    assert "nothing is due" in shell("work", "--once").stderr
    (lately,) = here.jobs.history(job="lately")
    assert (lately.outcome, lately.who.partition(" for ")[2]) == ("done", "somebody")
    here.catalogue.database.run("DELETE FROM runs")  # as old ones are: what was left has been run all the same
    assert "nothing is due" in shell("work", "--once").stderr


def test_a_job_whose_systems_are_all_paused_is_for_nobody_and_not_for_all(lamps):
    shell, state = lamps
    with_jobs(shell, '  one: {tags: [quay], steps: ["pull {systems}"]}\n')
    shell("system", "pause", "a")
    for words in ([], ["--leave"]):
        assert "has no system that is not paused" in shell("job", "run", "one", *words, status=5).stderr
    here = shell.workspace
    here.catalogue.runs.leave("one", "", here.now(), "somebody")  # before it was paused
    assert "has no system that is not paused" in shell("work", "--once").stderr
    assert "nothing is due" in shell("work", "--once").stderr
    assert state["asked"] == []


def test_a_process_that_is_killed_takes_its_line_with_it_and_the_next_one_begins_anew(lamps):
    shell, state = lamps
    state["slow"] = 30.0
    with_jobs(shell, '  often: {every: 1s, steps: ["pull a"]}\n')
    working = Shell(shell.folder).begin("work")
    try:
        waited(lambda: "/lamps" in state["asked"])
        (row,) = shell.workspace.memory.running()
        os.kill(working.pid, signal.SIGKILL)
        working.communicate(timeout=60)
        waited(lambda: not _lives(row["process"]))
    finally:
        working.kill()
    ran = shell.workspace.jobs.history()
    assert (ran[-1].outcome, ran[-1].why) == ("stopped", "its process ended before it did")
    state["slow"] = 0.0
    assert shell("job", "run", "often").returncode == 0


def test_who_was_killed_is_told_by_the_next_and_who_was_told_to_end_is_no_failure(lamps):
    shell, state = lamps
    state["slow"] = 30.0
    with_jobs(shell, "  often: {every: 1s, steps: [pull a]}\ntell: {all: {by: file, file: told.ndjson}}\n")
    for signalled in (signal.SIGTERM, signal.SIGKILL):
        state["asked"].clear()
        working = Shell(shell.folder).begin("work")
        waited(lambda: "/lamps" in state["asked"])
        working.send_signal(signalled)
        working.communicate(timeout=60)
    state["slow"] = 0.0
    with_jobs(shell, "  often: {steps: [pull a]}\ntell: {all: {by: file, file: told.ndjson}}\n")
    shell("work", "--once")
    told = [json.loads(line) for line in (shell.folder / "told.ndjson").read_text().splitlines()]
    assert [(one["kind"], one["text"]) for document in told for one in document["matters"]] == [
        ("failed", "its process ended before it did")
    ]


def _lives(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    return True


def test_a_file_that_is_altered_is_read_anew_and_one_that_is_broken_changes_nothing(lamps):
    shell, _ = lamps
    with_jobs(shell, "  other: {steps: [pulls]}\n")
    working = Shell(shell.folder).begin("work")
    late = Timer(60, working.kill)  # then no line comes, and the test fails
    late.start()
    try:

        def says(words: str) -> None:
            while words not in (line := working.stderr.readline()):
                assert line, words

        says("waiting for 1 job of")
        whole = (shell.folder / "concordex.yaml").read_text()
        (shell.folder / "concordex.yaml").write_text(whole + "nonsense: [\n")
        says("does not hold together; as before")
        (shell.folder / "concordex.yaml").write_text(whole)
        says("is read anew")
        with_jobs(shell, "  often: {every: 1s, steps: [system list]}\n")
        says("often: done after")
    finally:
        working.send_signal(signal.SIGINT)
        working.communicate(timeout=60)
        late.cancel()


@pytest.mark.parametrize(
    ("jobs", "told"),
    [
        ("{x: {every: 1h, cron: '* * * * *', steps: [pull]}}", "more than one of"),
        ("{x: {cron: '61 * * * *', steps: [pull]}}", "is no cron expression"),
        ("{x: {at: '25:00', steps: [pull]}}", "no time of the day"),
        ("{x: {every: 0s, steps: [pull]}}", "no rhythm"),
        ("{x: {days: [mon], steps: [pull]}}", "there is no `at`"),
        ("{x: {zone: Nowhere/Quay, steps: [pull]}}", "not a time zone"),
        ("{x: {steps: []}}", "jobs.x.steps"),
        ("{x: {steps: [concordex pull]}}", "leave that word out"),
        ("{x: {steps: [work]}}", "nothing that a job can run"),
        ("{x: {steps: ['pull \"a']}}", "cannot be taken apart"),
        ("{x: {systems: [a], steps: [pull]}}", "no line says {systems}"),
        ("{x: {systems: [c], steps: ['pull {systems}']}}", "there is no system 'c'"),
        ("{x: {tags: [keel], steps: ['pull {systems}']}}", "no system has the tag 'keel'"),
        ("{x: {apart: {c: {every: 1h}}, steps: ['pull {systems}']}}", "there is no system 'c'"),
    ],
)
def test_a_job_that_cannot_be_meant_is_told_where_it_stands(lamps, jobs, told):
    shell, _ = lamps
    shell.config(lambda text: text + f"jobs: {jobs}\n")
    said = shell("job", "list", status=None)
    assert said.returncode in (1, 2)
    assert told in said.stderr


def test_others_may_run_jobs_and_what_they_cannot_say_is_refused(lamps):
    shell, _ = lamps
    with_jobs(
        shell,
        """
  night: {at: ["02:30", "14:00"], days: [mon, fri], zone: Europe/Berlin, jitter: 90s, steps: [pull]}
  quarter: {every: 15m, catch_up: 0s, steps: ["pull {systems}"], apart: {a: {cron: "5-50/15 6-18 * * 1-5"}}}
  seven: {every: 7h, steps: [pull]}
  both: {cron: "0 0 1 * mon", steps: [pull]}
  rest: {steps: [pull]}
""",
    )
    lines = shell("job", "export", "cron", "night", "quarter").stdout.splitlines()
    zones = [line for line in lines if line.startswith("CRON_TZ=")]
    assert zones == ["CRON_TZ=Europe/Berlin"] * 2 + ["CRON_TZ=UTC", "CRON_TZ=UTC"]
    assert [line.partition(" /")[0] for line in lines if " job run " in line] == [
        "30 2 * * MON,FRI", "0 14 * * MON,FRI", "*/15 * * * *", "5-50/15 6-18 * * 1-5",
    ]  # fmt: skip
    assert lines[-1].endswith(" job run quarter --apart a")
    shell("job", "export", "systemd", "night", "quarter", "-o", "units")
    units = {file.name: file.read_text() for file in (shell.folder / "units").iterdir()}
    names = ("night", "quarter", "quarter-a")
    assert units.keys() == {f"concordex-{name}.{kind}" for name in names for kind in ("service", "timer")}
    night, quarter = units["concordex-night.timer"], units["concordex-quarter.timer"]
    assert "OnCalendar=Mon,Fri *-*-* 2:30:00 Europe/Berlin\nOnCalendar=Mon,Fri *-*-* 14:0:00 Europe/Berlin" in night
    assert "RandomizedDelaySec=90" in night
    assert ("Persistent=true" in night, "Persistent=false" in quarter) == (True, True)
    assert "OnCalendar=Mon..Fri *-*-* 6..18:5..50/15:00 UTC" in units["concordex-quarter-a.timer"]
    assert "is there already" in shell("job", "export", "systemd", "night", "-o", "units", status=2).stderr
    for form, name, told in (
        ("cron", "seven", "cron cannot say"), ("systemd", "both", "cannot be said to systemd"),
        ("cron", "rest", "no job comes by itself"), ("cron", "nights", "there is no job"),
    ):  # fmt: skip
        assert told in shell("job", "export", form, name, status=2).stderr

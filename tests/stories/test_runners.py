"""Runners on several machines: each piece of work done once, by one of them, whichever of them dies."""

from __future__ import annotations

import json
import os
import shutil
import signal
import time
from collections import Counter
from contextlib import ExitStack, contextmanager, suppress
from datetime import UTC, datetime, timedelta
from pathlib import Path
from threading import Event, Timer

import pytest

from concordex.store.runs import RanStep
from concordex.work.jobs import divide
from concordex.work.jobs.due import part_of
from concordex.work.jobs.run import can_go_on, run_part
from tests.conftest import Near, Shell
from tests.stories.test_jobs import DIALECT, waited, with_jobs
from tests.stories.test_shared import schema, shared  # noqa: F401 - a fixture

SYSTEMS = [f"s{number:02d}" for number in range(4)]


@pytest.fixture
def fleet(tmp_path, serve, postgres, schema):  # noqa: F811
    """Two machines and four systems; how slowly they answer, what was asked, and when."""
    state = {"slow": 0.3, "n": 3, "asked": Counter(), "at_once": Counter(), "most": Counter()}

    def answer(_method, path, _query, _body, _headers):
        system = path.split("/")[1]
        if path.endswith("/in"):
            return 200, {"ticket": "t-1"}
        if path.endswith("/lamps"):
            state["asked"][system] += 1
            state["at_once"][system] += 1
            state["most"][system] = max(state["most"][system], state["at_once"][system])
            time.sleep(state["slow"])
            state["at_once"][system] -= 1
        return 200, {"lamps": [{"id": str(n), "label": f"{system}-{n}"} for n in range(3)], "n": state["n"]}

    root = tmp_path / "one"
    (root / "dialects").mkdir(parents=True)
    (root / "dialects/lamps.yaml").write_text(DIALECT)
    url = serve(answer).url
    lines = "".join(f"  {name}: {{dialect: lamps, url: '{url}/{name}'}}\n" for name in SYSTEMS)
    (root / "concordex.yaml").write_text(f"format: 1\nsystems:\n{lines}timetable: {{at_once: 2}}\n")
    one = Near(root)
    shared(one, postgres, schema, tmp_path / "shelf")
    begun = []
    watch = one.workspace  # one connection for all looks

    def runner(*words: str, folder=None):
        place = folder or tmp_path / f"machine-{len(begun)}"
        if not place.exists():
            shutil.copytree(root, place, ignore=shutil.ignore_patterns(".concordex"))
        begun.append(Shell(place).begin("work", *words))
        return begun[-1]

    one.watch = watch
    yield one, state, runner
    watch.close()
    for process in begun:
        if process.poll() is None:
            process.kill()
        process.communicate()


def outcomes(shell: Near) -> list[str]:
    return [run.outcome for run in shell.watch.jobs.history(20)]


def test_runners_share_a_pull_and_each_system_is_asked_once(fleet):
    one, state, runner = fleet
    with_jobs(one, "  round: {every: 1d, steps: [pull, reconcile, {run: findings, stop_on: []}]}\n")
    several = [runner() for _ in range(2)]
    waited(lambda: len(one.watch.jobs.runners()) == 2)
    assert one("job", "runners", "-f", "csv").stdout.count("anywhere") == 2
    one("job", "run", "round", status=None)
    (run,) = one.watch.jobs.history(5)
    assert [step.outcome for step in run.steps][:2] == ["done", "done"], run
    assert "4 systems by" in run.steps[0].last_words
    assert int(run.steps[0].last_words.split(" by ")[1].split()[0]) > 1
    assert state["asked"] == dict.fromkeys(SYSTEMS, 1)
    assert len(run.steps[0].pulls) > 1
    assert {s.system for n in run.steps[0].pulls for s in one.watch.catalogue.snapshots_of(n)} == {*SYSTEMS}
    for process in several:
        process.send_signal(signal.SIGTERM)
        _, err = process.communicate(timeout=60)
        assert "all has ended" in err
    assert one.watch.jobs.runners() == []


def test_who_looks_for_runners_that_are_gone_as_another_one_begins_does_not_take_it_for_one(fleet, monkeypatch):
    """And as it ends: at each moment another looks, and what it had taken stays its own until it has let go."""
    one, _, _ = fleet
    here, other = one.watch, type(one.watch)(one.folder)
    looks, of_runner = [], type(here.locks).of_runner

    def looked() -> None:
        looks.append([runner.name for runner in other.catalogue.tasks.settle(other.locks.is_at_work)])

    @contextmanager
    def watched(locks, name):
        looked()
        with of_runner(locks, name):
            looked()
            yield
            looked()
        looked()

    monkeypatch.setattr(type(here.locks), "of_runner", watched)
    stop = Event()

    def heard(_told: str) -> None:
        if not stop.is_set():
            looked()
            assert [runner.process for runner in other.catalogue.tasks.runners()] == [os.getpid()]
        stop.set()

    here.jobs.work(stop, heard)
    other.close()
    assert stop.is_set()
    assert looks == [[]] * 5


def test_what_is_due_is_run_by_one_of_them(fleet):
    one, state, runner = fleet
    with_jobs(one, "  beat: {every: 2s, catch_up: 0s, steps: [pull s00]}\n")
    one("pull", "s01")  # the tables are there
    _ = [runner() for _ in range(2)]
    waited(lambda: len([word for word in outcomes(one) if word == "done"]) > 1)
    runs = one.watch.jobs.history(50)
    slots = [run.due for run in runs]
    assert len(slots) == len(set(slots)), runs
    assert state["most"]["s00"] == 1


def test_what_a_runner_was_about_to_begin_as_it_was_killed_is_begun_by_another(fleet):
    """It had the job's lock, and had noted nothing: nobody ran what was due, and it is not called skipped."""
    one, state, _ = fleet
    with_jobs(one, "  round: {every: 1d, steps: [pull s00]}\n")
    one.watch.catalogue.runs.await_from("round", "", datetime(2000, 1, 1, tzinfo=UTC))
    other, stop = one.workspace, Event()
    killed = ExitStack()
    killed.enter_context(other.locks.of_job("round"))
    timers = Timer(1.0, killed.close), Timer(60.0, stop.set)
    for timer in timers:
        timer.start()

    def heard(told: str) -> None:
        if "done after" in told or "skipped" in told:
            stop.set()

    one.watch.jobs.work(stop, heard)
    timers[1].cancel()
    other.close()
    assert outcomes(one) == ["done"]
    assert state["asked"] == {"s00": 1}


def test_a_runner_that_is_killed_as_it_helps_with_a_pull_is_replaced_within_seconds(fleet):
    one, state, runner = fleet
    state["slow"] = 1.0
    with_jobs(one, "  round: {every: 1d, steps: [pull]}\n")
    catalogue = one.watch.catalogue
    catalogue.runs.await_from("round", "", datetime(2000, 1, 1, tzinfo=UTC))
    several = {process.pid: process for process in (runner(), runner())}
    (run,) = waited(lambda: one.watch.jobs.history(1))
    waited(lambda: len({row["runner"] for row in catalogue.database.rows("SELECT runner FROM tasks")} - {None}) > 1)
    del several[run.process]
    os.kill(several.popitem()[0], signal.SIGKILL)
    waited(lambda: outcomes(one)[0] == "done")
    assert_all_whole(one)


def assert_all_whole(one: Near) -> None:
    newest = one.watch.catalogue.newest("devices")
    assert {snapshot.system for snapshot in newest if snapshot.whole} == {*SYSTEMS}
    assert {snapshot.outcome for snapshot in newest} == {"whole"}
    assert "running" not in one("pulls", "-f", "csv").stdout


def line_of(runner: int, word: str) -> int | None:
    """The process of a line that a runner runs, by its words."""
    for folder in Path("/proc").glob("[0-9]*"):
        with suppress(OSError):
            parent = int((folder / "stat").read_text().rpartition(")")[2].split()[1])
            if parent == runner and word in (folder / "cmdline").read_text().split("\0"):
                return int(folder.name)
    return None


def test_runners_that_are_killed_in_each_line_of_a_round_are_replaced_within_seconds(fleet):
    """The machine is gone with all its processes; the lines before are not run again, and each result is whole."""
    one, state, runner = fleet
    state["slow"] = 1.0
    with_jobs(
        one, "  round: {every: 1d, steps: [pull, reconcile, findings --count, show entries, report -o night.html]}\n"
    )
    one.watch.catalogue.runs.await_from("round", "", one.watch.now())
    places = {one.pid: Path(f"/proc/{one.pid}/cwd").resolve() for one in (runner() for _ in range(5))}
    waited(lambda: len(one.watch.jobs.runners()) == len(places))  # who looks while nobody works finds it stopped
    one.watch.catalogue.database.run("UPDATE awaited SET since = '2000-01-01T00:00:00+00:00'")
    for ended, word in enumerate(("pull", "reconcile", "findings", "report")):
        run = waited(lambda: next((run for run in one.watch.jobs.history(9) if run.outcome == "running"), None))
        line = waited(lambda run=run, word=word: line_of(run.process, word))
        os.kill(line, signal.SIGSTOP)
        os.kill(run.process, signal.SIGKILL)
        os.kill(line, signal.SIGKILL)
        waited(lambda ended=ended: outcomes(one).count("stopped") == ended + 1)
        assert "another goes on with it" in one.watch.catalogue.runs.run(run.id).why
        del places[run.process]
    waited(lambda: "found" in outcomes(one))
    (last,) = [run for run in one.watch.jobs.history(9) if run.outcome == "found"]
    assert [step.outcome for step in last.steps] == ["done", "done", "found", "done", "done"]
    assert_all_whole(one)
    (left,) = places.values()
    assert "</html>" in (left / "night.html").read_text()
    assert len(one.watch.catalogue.reconciliations()) == 1
    assert len(json.loads(one("show", "entries", "-f", "json").stdout)) == 3 * len(SYSTEMS)


def test_a_runner_that_is_killed_while_it_writes_leaves_the_rest_to_a_person(fleet):
    """What writes is not begun anew by another: the change says how far it came."""
    one, _, _ = fleet
    with_jobs(one, "  writes: {every: 1d, steps: [pull s00, sync s00 --yes]}\n")
    one("pull", "s01")
    part = part_of(one.watch, "writes")
    catalogue = one.watch.catalogue
    number = catalogue.runs.begin("writes", "", one.watch.now(), "watch")
    lost = catalogue.runs.run(number)
    assert can_go_on(part, lost)
    catalogue.runs.step(number, [RanStep(line="pull s00", outcome="done")])
    assert not can_go_on(part, catalogue.runs.run(number))
    assert one.watch.jobs.history(1)[0].outcome == "stopped"


def test_every_line_that_reads_is_gone_on_with_and_none_that_prepares_or_writes(fleet):
    """By one rule, whatever the line does: a second draft would be a second change."""
    one, _, _ = fleet
    reads = ["pull", "reconcile", "findings", "drift --from baselines", "health", "report -o x.html", "versions"]
    writes = ["sync s00 --draft", "push x.csv --to s00 --yes", "change run 1 --yes", "config push s00 --from b --yes"]
    with_jobs(one, "".join(f"  j{n}: {{steps: ['{line}']}}\n" for n, line in enumerate([*reads, *writes])))
    one("pull", "s01")
    runs = one.watch.catalogue.runs
    for number, line in enumerate([*reads, *writes]):
        lost = runs.run(runs.begin(f"j{number}", "", one.watch.now(), "watch"))
        assert can_go_on(part_of(one.watch, f"j{number}"), lost) is (line in reads), line
    with_jobs(one, "  j0: {systems: [s00], steps: ['pull {systems}']}\n")
    one("system", "pause", "s00")  # it would pull the others
    assert not can_go_on(part_of(one.workspace, "j0"), runs.run(1))


def test_a_run_that_had_ended_is_not_begun_again_by_whoever_goes_on_with_it(fleet):
    """A line had failed, and the runner died in one that is always run: nothing else is run by the next."""
    one, state, _ = fleet
    with_jobs(one, "  round: {every: 1d, steps: [pull s00, {run: show devices, always: true}, pull s01]}\n")
    one("pull", "s02")
    runs, here = one.watch.catalogue.runs, one.watch
    number = runs.begin("round", "", here.now(), "watch")
    runs.step(number, [RanStep(line="pull s00", outcome="failed")])
    ran = run_part(here, part_of(here, "round"), here.now(), Event(), lost=runs.run(number))
    assert [step.outcome for step in ran.steps] == ["failed", "done", "left out"]
    assert state["asked"]["s01"] == 0
    assert runs.run(number).outcome == "stopped"


def test_what_a_dead_process_had_divided_by_hand_is_nobody_s_to_do(fleet):
    one, _, _ = fleet
    one("pull", "s02")
    catalogue = one.watch.catalogue
    number = catalogue.runs.begin("round", "", None, "watch")
    catalogue.tasks.divide(number, 1, ["pull"], [("s00", "anywhere"), ("s01", "anywhere")])
    with_jobs(one, "  round: {steps: [pull]}\n")
    one("job", "list")
    assert catalogue.tasks.take("another", ["anywhere"], 4) is None


def test_systems_of_a_place_are_reached_by_its_runners_alone(fleet):
    one, state, runner = fleet
    one.config(lambda text: text.replace("/s03'}", "/s03', runs: {where: berlin}}"))
    assert "s03 is reached from berlin alone" in one("pull", "s03", status=2).stderr
    one("pull")
    assert state["asked"]["s03"] == 0
    assert one("pull", "s03", env={"CONCORDEX_WHERE": "berlin"}).returncode == 0
    state["asked"].clear()
    with_jobs(one, "  round: {steps: [pull]}\n")
    there, _ = runner("--where", "berlin"), runner()
    waited(lambda: len(one.watch.jobs.runners()) == 2)
    one("job", "run", "round")
    assert state["asked"] == dict.fromkeys(SYSTEMS, 1)
    rows = {task.system: task for task in one.watch.catalogue.tasks.of(1, 1)}
    assert not rows  # they are forgotten with the run
    os.kill(there.pid, signal.SIGTERM)
    there.communicate(timeout=60)


def test_a_line_that_is_divided_tells_why_the_worst_of_it_is_so(fleet, monkeypatch):
    """Not what is the matter with another system, whose list is only short."""
    one, state, _ = fleet
    one.config(lambda text: text.replace("/s03'}", "/s03', runs: {where: berlin}}"))
    one("pull", "s00")
    state["n"] = 4  # more than comes
    monkeypatch.setattr(divide, "_NOBODY", 0.0)
    with_jobs(one, "  round: {steps: [pull s00 s03]}\n  near: {steps: [pull s00 s01]}\n")
    one("job", "run", "round", status=1)
    assert "no runner at berlin is at work" in one.watch.jobs.history(1)[0].steps[0].last_words
    one("job", "run", "near", status=4)
    assert "s00/devices is partial, and 1 more" in one.watch.jobs.history(1)[0].steps[0].last_words


def test_two_runners_whose_clocks_are_an_hour_apart_go_by_that_of_the_database(fleet, monkeypatch):
    one, _, _ = fleet
    one("pull", "s01")
    moments = []
    for apart in (timedelta(hours=1), timedelta(hours=-1)):

        class Wrong(datetime):
            @classmethod
            def now(cls, zone=None, apart=apart):
                return datetime.now(zone) + apart

        monkeypatch.setattr("concordex.work.workspace.base.datetime", Wrong)
        moments.append(one.workspace.now())
    assert abs(moments[0] - moments[1]) < timedelta(seconds=30)
    monkeypatch.setattr("concordex.work.upkeep.examine.datetime", Wrong)
    assert "clocks" in one("doctor", status=3).stdout


def test_the_night_of_the_demo_loses_a_runner_fails_recovers_drifts_finds_and_reports(tmp_path):
    ran = Shell(tmp_path)("demo", "night", "--night", "--devices", "50", status=0)
    told = ran.stdout
    assert "its runner is gone, and another goes on with it" in told
    _, _, mails = told.partition("# The mail of the night")
    for matter in ("was done in part", "is well again", "drift muster --from baselines", "findings --where"):
        assert matter in mails, told
    assert "muster/batteries failed, and 1 more" in told
    assert "rights: + wipe" in told
    assert "\n  -- " not in told  # of a mail what it says, and not who signed it
    assert (tmp_path / "night/night.html").stat().st_size > 50_000
    here = Near(tmp_path / "night").workspace  # its own store again: that of the night is gone
    runs = here.jobs.history()
    assert Counter(run.job for run in runs) == {"round": 4, "drift": 1, "morning": 1}
    assert {run.outcome for run in runs} == {"stopped", "found", "partly", "done"}
    here.close()

"""The public Python API: :class:`Workspace`, imported as ``from concordex import Workspace``.

Each method is one use case; what it does stands in the room of its name, which is imported when it is called.  Methods
wait until they are done, also inside a running event loop, such as a notebook's.  The command line uses nothing else.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from datetime import datetime
from functools import cached_property
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal, Self

from concordex.work.workspace.base import BaseWorkspace

if TYPE_CHECKING:
    from types import TracebackType

    import polars as pl

    from concordex.change.rows import Mistake, Row
    from concordex.change.run_options import RunOptions
    from concordex.change.steps import Change, Step
    from concordex.progress import Counted
    from concordex.wire.dialect import Dialect
    from concordex.wire.writing.staging import Pending
    from concordex.work.api_calls import Calls
    from concordex.work.api_fleet import FleetView
    from concordex.work.api_jobs import Jobs
    from concordex.work.api_kinds import ObjectKinds
    from concordex.work.api_objects import Objects
    from concordex.work.api_rehearsals import Rehearsals
    from concordex.work.api_tell import Telling
    from concordex.work.api_upkeep import Upkeep
    from concordex.work.change.freshness import Freshness
    from concordex.work.change.lines import Lines
    from concordex.work.change.onboarding import Onboarding
    from concordex.work.change.push import PreparedPush
    from concordex.work.change.sync import Edited
    from concordex.work.concordance.explain import Explanation, NotOne
    from concordex.work.concordance.history import Event
    from concordex.work.concordance.reconcile import Summary
    from concordex.work.concordance.review import DoubtfulPair
    from concordex.work.concordance.rulings import Ruling
    from concordex.work.pull.check import Finding
    from concordex.work.pull.pull import Pull
    from concordex.work.show.compare import Comparison
    from concordex.work.show.systems import SystemOverview
    from concordex.work.show.tables import Selection
    from concordex.work.upkeep.rename import Renamed
    from concordex.work.workspace.groups import GroupFile
    from concordex.work.workspace.repair import Mended


class Workspace(BaseWorkspace):
    """The systems, snapshots, entries and changes of one folder; close it, or enter it with ``with``."""

    @classmethod
    def make(cls, folder: Path | str) -> Self:
        """A new workspace in ``folder``, which may be there already."""
        from concordex.work.workspace.init import init

        init(Path(folder))
        return cls(folder)

    def __enter__(self) -> Self:
        return self

    def __exit__(self, kind: type[BaseException] | None, error: BaseException | None, at: TracebackType | None) -> None:
        self.close()

    # systems

    def overview(self, systems: Sequence[str] = ()) -> list[SystemOverview]:
        """What is known of each system without asking it."""
        from concordex.work.show.systems import overview

        return overview(self, systems)

    def check(self, systems: Sequence[str] = (), dialect: Dialect | None = None) -> list[Finding]:
        """Try systems step by step, up to the first that fails; ``dialect`` stands in for their own."""
        from concordex.work.pull.check import check

        return check(self, systems, dialect)

    def add_system(self, name: str, settings: Mapping[str, Any]) -> None:
        """Add a system to ``concordex.yaml``; comments there are kept."""
        from concordex.work.workspace.init import add_system

        add_system(self, name, settings)

    def set_system(
        self, name: str, settings: Mapping[str, str], tags: Sequence[str] = (), untags: Sequence[str] = ()
    ) -> list[str]:
        """Set what ``concordex.yaml`` says of a system, by dotted keys; what is altered, in words."""
        from concordex.work.workspace.init import set_system

        return set_system(self, name, settings, tags, untags)

    def remove_system(self, name: str) -> None:
        """Take a system out of ``concordex.yaml``; what was pulled of it stays."""
        from concordex.work.workspace.init import remove_system

        remove_system(self, name)

    def rename_system(self, old: str, new: str) -> Renamed:
        """Let a system be called otherwise: in the workspace's files, in all that was pulled of it, in the journal."""
        from concordex.work.upkeep.rename import rename

        made = rename(self, old, new)
        self.__dict__.pop("config", None)
        return made

    def set_paused(self, systems: Sequence[str], *, paused: bool) -> list[str]:
        """Pause systems, or let them be asked again; those that were not so already."""
        from concordex.work.workspace.init import set_paused

        return set_paused(self, systems, paused)

    def mend(self) -> list[Mended]:
        """Set right what a disk has lost of what is kept."""
        from concordex.work.workspace.repair import mend

        return mend(self)

    # pulling

    def pull(
        self, systems: Sequence[str] = (), tables: Sequence[str] = (),
        progress: Callable[[str, str, int, int | None], None] | None = None, *,
        where: str | None = None, changed_only: bool = False, accept_fall: bool = False,
    ) -> Pull:  # fmt: skip
        """Fetch tables and keep them, each proved whole, or called unproven or partial."""
        from concordex.work.pull.pull import pull

        return pull(self, systems, tables, progress, where=where, changed_only=changed_only, accept_fall=accept_fall)

    def stop_pull(self, number: int) -> None:
        """Ask a running pull to stop; what it finished is kept."""
        from concordex.work.pull.in_progress import stop

        stop(self, number)

    def settle_pulls(self) -> None:
        """End pulls whose process died."""
        from concordex.work.pull.in_progress import settle

        settle(self)

    # looking

    def show(self, table: str, **choice: object) -> Selection:
        """Records of a table, chosen and ordered; see :class:`concordex.work.show.show_options.ShowOptions`."""
        from concordex.work.show.show_options import ShowOptions
        from concordex.work.show.tables import select

        return select(self, table, ShowOptions(**choice))  # type: ignore[arg-type]

    def sql(self, text: str, as_of: datetime | None = None) -> Selection:
        """What a ``select`` finds in all that was pulled and reconciled, or as it was pulled ``as_of`` a moment."""
        from concordex.work.show.sql import ask

        return ask(self, text, as_of)

    def sql_tables(self, as_of: datetime | None = None) -> Iterator[dict[str, object]]:
        """Every column of every table that can be asked: ``table``, ``column``, ``type``."""
        from concordex.work.show.sql import described

        return described(self, as_of)

    def compare_systems(
        self, here: str, there: str, *, where: str | None = None, fields: Sequence[str] = ()
    ) -> Comparison:
        """Two systems side by side, device by device."""
        from concordex.work.show.compare import of_systems

        return of_systems(self, here, there, where=where, fields=fields)

    def compare_dates(
        self, here: datetime, there: datetime, *,
        systems: Sequence[str] = (), where: str | None = None, fields: Sequence[str] = (),
    ) -> Comparison:  # fmt: skip
        """Two moments side by side, record by record."""
        from concordex.work.show.compare import of_moments

        return of_moments(self, here, there, systems=systems, where=where, fields=fields)

    def groups(self) -> dict[str, GroupFile]:
        """Named selections, and what they are made of."""
        from concordex.work.workspace.groups import load

        return load(self.root)

    def add_group(self, name: str, settings: dict[str, Any]) -> None:
        """Name a selection: a filter, or a union, intersection or difference of groups."""
        from concordex.work.workspace.edit_groups import add

        add(self, name, settings)

    def remove_group(self, name: str) -> None:
        """Remove a group that no other is made of."""
        from concordex.work.workspace.edit_groups import remove

        remove(self, name)

    # one truth

    def reconcile(self, progress: Counted | None = None, *, relearn: bool = False) -> Summary:
        """Find out which records are one device, from the newest snapshots."""
        from concordex.work.concordance.reconcile import make

        return make(self, progress or (lambda _done, _of: None), relearn=relearn)

    def entries(self) -> pl.DataFrame:
        """The concordance as a frame: one row for each device."""
        return self._part("entries")

    def findings(self) -> pl.DataFrame:
        """What a person should look at, as a frame."""
        return self._part("findings")

    def evidence(self) -> pl.DataFrame:
        """The pairs of records within entries: a level for each kind of evidence, and the bits in all.

        ``a`` and ``b`` are the ``row`` of :meth:`members`; what levels mean is in :meth:`weights`.
        """
        return self._part("evidence")

    def members(self) -> pl.DataFrame:
        """Every record with its ``entry`` and the keys by which it was recognised."""
        return self._part("members")

    def weights(self) -> pl.DataFrame:
        """What each level of each kind of evidence means and weighs, in bits."""
        every = self._part("weights")
        return every.filter(every["class"] == 0).select("kind", "level", "means", "weight")

    def _part(self, name: str) -> pl.DataFrame:
        from concordex.work.concordance.stored import read

        return read(self, name).collect()

    def conflicts_since(self, findings: pl.DataFrame) -> dict[tuple[str, str], str]:
        """Since when the values of conflicts are as they are, by entry and field."""
        from concordex.work.show.first_seen import conflicts_since

        return conflicts_since(self, findings)

    def explain(self, device: str) -> list[Explanation]:
        """Why records are one device, for every entry that ``device`` may mean."""
        from concordex.work.concordance.explain import explain

        return explain(self, device)

    def why_not(self, device: str, other: str) -> NotOne:
        """Why two are not one device."""
        from concordex.work.concordance.explain import why_not

        return why_not(self, device, other)

    def history(self, entry: str) -> list[Event]:
        """What became of a device, as far as pulls are kept."""
        from concordex.work.concordance.history import history

        return history(self, entry)

    def records_of(self, device: str) -> list[str]:
        """``device`` as a record; or the first record of every entry that it may mean, by system and id."""
        from concordex.work.concordance.lookup import records_of

        return records_of(self, device)

    def doubtful_pairs(self, *, names: bool = False) -> pl.DataFrame:
        """Pairs of entries that may be one device, the likeliest first; with the ``names`` of both."""
        from concordex.work.concordance.review import pairs

        return pairs(self, names=names)

    def doubt(self, pair: dict[str, Any]) -> DoubtfulPair | None:
        """What a person needs to decide on one of :meth:`doubtful_pairs`, as it stands by now; nothing where it is none
        any more."""
        from concordex.work.concordance.review import doubt

        return doubt(self, pair)

    def acceptance(self, what: str, kind: str, field: str | None = None, about: str | None = None) -> dict[str, str]:
        """The finding of that kind of a device, a site or a rack, as a ruling that accepts it names it."""
        from concordex.work.concordance.acceptance import acceptance

        return acceptance(self, what, kind, field, about)

    def rulings(self, *, holding: bool = False) -> list[Ruling]:
        """People's standing decisions; only those ``holding`` today."""
        from concordex.work.concordance import rulings

        return rulings.holding(self) if holding else rulings.load(self)

    def rule(self, ruling: dict[str, Any], *, who: str | None = None, why: str = "") -> Ruling:
        """Add a decision to ``rulings.yaml``; ``who`` decides, else who is at work here."""
        from concordex.work.concordance.rulings import add
        from concordex.work.workspace.user import user

        return add(self, ruling, who=self.allowed.who if self.config.rights else who or user(), why=why)

    def remove_rulings(self, record: str) -> list[Ruling]:
        """Take back the decisions that speak of a record."""
        from concordex.work.concordance.rulings import remove

        return remove(self, record)

    # preparing changes

    def push(
        self, system: str, table: str, rows: Sequence[Row], *,
        columns: Mapping[str, str] | None = None, ignore: Sequence[str] = (), make: Sequence[str] = (),
        defaults: Sequence[tuple[str | None, Mapping[str, str]]] = (),
    ) -> PreparedPush:  # fmt: skip
        """Prepare writing rows into a table: all mistakes are told at once.

        ``columns`` says what columns mean that are not called as a field is, ``ignore`` which are left aside, ``make``
        of which tables missing records may be created; ``defaults`` are values for rows, by a filter on them or all.
        """
        from concordex.work.change.push import PushOptions, prepare_push

        choice = PushOptions(columns=dict(columns or {}), ignore=ignore, make=make, defaults=defaults)
        return prepare_push(self, system, table, rows, choice)

    def read_rows(self, file: str, form: str | None = None, sheet: str | None = None) -> list[Row]:
        """Rows of a file or of standard input (``-``), each with its place; ``form`` where the ending does not tell."""
        from concordex.work.workspace.tabular import read_rows

        return read_rows(file, form, sheet)

    def read_defaults(self, path: Path) -> list[tuple[str | None, dict[str, str]]]:
        """Values for groups of rows, from a file."""
        from concordex.work.change.push import read_defaults

        return read_defaults(path)

    def ask_devices(
        self, system: str, table: str, devices: str, rows: Sequence[Row], columns: Mapping[str, str],
        defaults: Sequence[tuple[str | None, Mapping[str, str]]] = (),
    ) -> tuple[Change, Onboarding]:  # fmt: skip
        """Begin onboarding: what is to be set on each device first, and what each is then to be asked."""
        from concordex.work.change.onboarding import onboarding_of, prepare_settings

        return prepare_settings(self, onboarding_of(self, system, table, devices, rows, columns, defaults))

    def answers_of_devices(self, asked: Onboarding) -> tuple[list[Row], list[Mistake], list[Row]]:
        """Rows completed with what each device told; what is wrong, and the rows left out for it."""
        from concordex.work.change.onboarding import answered

        return answered(self, asked)

    def set(
        self, system: str, table: str, selection: str, values: Mapping[str, str], make: Sequence[str] = ()
    ) -> Change:
        """Prepare giving fields of records other values."""
        from concordex.work.change.edit import prepare_set

        return prepare_set(self, system, table, selection, values, make)

    def retire(self, system: str, table: str, selection: str) -> Change:
        """Prepare setting records to what their system calls retired."""
        from concordex.work.change.edit import prepare_retire

        return prepare_retire(self, system, table, selection)

    def delete(self, system: str, table: str, selection: str) -> Change:
        """Prepare deleting records."""
        from concordex.work.change.edit import prepare_delete

        return prepare_delete(self, system, table, selection)

    def action(self, system: str, table: str, name: str, selection: str) -> Change:
        """Prepare doing to devices what their system offers."""
        from concordex.work.change.edit import prepare_action

        return prepare_action(self, system, table, name, selection)

    def sync(self, system: str, where: str | None = None, edited: Edited = "hold") -> tuple[Change, list[str]]:
        """Prepare bringing an inventory, a database or a file up to the concordance; with notes for people."""
        from concordex.work.targets.rows import known

        if known(self, system):
            from concordex.work.change.sync_rows import prepare_rows

            return prepare_rows(self, system, where, edited)
        from concordex.work.change.sync import prepare_sync

        prepared = prepare_sync(self, system, where, edited)
        return prepared.change, list(prepared.notes)

    def push_groups(self, names: Sequence[str], system: str) -> Change:
        """Prepare making our groups in a system whose groups are made of kinds and of other groups."""
        from concordex.work.objects.groups import prepare_groups

        return prepare_groups(self, names, system)

    def enter_lines(
        self, devices: str, template: Path, rows: Sequence[Row] | None = None, at: Sequence[str] = ()
    ) -> Lines:
        """Prepare entering lines from a template, each device's as one: of all ``rows``, or of those ``at`` addresses.

        Without rows, each address is a row of its own.
        """
        from concordex.work.change.lines import prepare_lines, rows_at

        return prepare_lines(self, devices, template, rows_at(at, rows) if at or rows is None else rows)

    def show_lines(
        self, name: str, line: str, addresses: Sequence[str] = (), form: Literal["data", "text"] = "data"
    ) -> dict[str, Any]:
        """What a command that only shows tells, by address; an error in the place of an answer."""
        from concordex.work.change.lines import look

        return look(self, name, line, addresses, form)

    # changes

    def keep(self, change: Change) -> Change:
        """A prepared change, kept in the journal under a number, with who prepared it; :meth:`run` runs it."""
        return self.journal.keep(change if change.about.by else change.described(**self.signature()))

    def check_guards(self, change: Change, *, any_time: bool = False) -> None:
        """Raise where a change is too large, or comes at the wrong time, or to a system that is only read."""
        from concordex.work.run.guards import check_guards

        check_guards(self, change, any_time=any_time)

    def check_staging(self, change: Change, *, stage: bool, note: str | None) -> None:
        """Raise where a system does not stage, or takes no note with a commit."""
        from concordex.work.run.run import check_staging

        check_staging(self, change, stage=stage, note=note)

    def choose_steps(
        self, change: Change, actions: Sequence[str] = (), table: str | None = None, where: str | None = None,
        first: int | None = None,
    ) -> list[Step]:  # fmt: skip
        """The open steps of a part of a change, with the creations that they refer to."""
        from concordex.work.change.choose import choose

        return choose(self, change, actions, table, where, first)

    def run(
        self, number: int, progress: Counted | None = None, *,
        only: Collection[int] | None = None, how: RunOptions | None = None, any_time: bool = False, wait: float = 0.0,
    ) -> Change:  # fmt: skip
        """Run a change, or ``only`` some of its steps: written down first, sent once, read back, compared."""
        from concordex.work.run.run import run

        return run(self, number, progress, only=only, how=how, any_time=any_time, wait=wait)

    def settle(self, number: int, step: int, *, done: bool) -> Change:
        """A person's word on a step whose outcome nobody knows."""
        from concordex.work.run.settle import settle

        return settle(self, number, step, done=done)

    def undo(self, number: int) -> Change:
        """Prepare taking a change back."""
        from concordex.work.change.undo import prepare_undo

        return prepare_undo(self, number)

    def agree(self, number: int) -> Change:
        """Agree to a change that somebody else prepared, as it is now; the same, as it stands then.

        Raises Stopped where this person may not, or prepared it.
        """
        from concordex.work.run.second import agree

        return agree(self, number)

    def waits_for_second(self, change: Change) -> bool:
        """Whether somebody else than who prepared a change must agree to it before it is run, and nobody has."""
        from concordex.work.run.second import waits_for_second

        return waits_for_second(self, change)

    def drop(self, number: int) -> None:
        """Put a change aside for good."""
        from concordex.work.change.undo import drop

        drop(self, number)

    def freshness(self, change: Change) -> Freshness:
        """How old what a draft rests on is, and what of it is no longer so."""
        from concordex.work.change.freshness import freshness

        return freshness(self, change)

    def save_change(self, number: int, path: Path) -> None:
        """Write a change into a YAML file, for a colleague."""
        from concordex.work.change.file import save

        save(self.change(number), path)

    def load_change(self, path: Path) -> Change:
        """A change from a file that :meth:`save_change` wrote."""
        from concordex.work.change.file import load

        return load(self, path)

    # what systems hold staged

    def staged(self, system: str) -> list[Pending]:
        """What is staged in a system and not committed."""
        from concordex.work.run.staged import staged

        return staged(self, system)

    def waiting(self, system: str) -> dict[int, list[Step]]:
        """Steps of our changes that a system holds staged, by change."""
        from concordex.work.run.staged import waiting

        return waiting(self, system)

    def commit(self, system: str, *, any_time: bool = False) -> None:
        """Put into effect what is staged in a system by this user."""
        from concordex.work.run.staged import put_into_effect

        put_into_effect(self, system, any_time=any_time)

    def unstage(self, system: str) -> list[int]:
        """Take back what is staged in a system by this user; the changes that can be run again."""
        from concordex.work.run.staged import take_back

        return take_back(self, system)

    # configuration

    @cached_property
    def calls(self) -> Calls:
        """Single calls to systems: prepared, sent once, kept without secrets."""
        from concordex.work.api_calls import Calls

        return Calls(self)

    @cached_property
    def rehearsals(self) -> Rehearsals:
        """Copies of systems, to try things on, and changes run against them."""
        from concordex.work.api_rehearsals import Rehearsals

        return Rehearsals(self)

    @cached_property
    def jobs(self) -> Jobs:
        """What runs by itself: jobs, when they are due, what they did."""
        from concordex.work.api_jobs import Jobs

        return Jobs(self)

    @cached_property
    def telling(self) -> Telling:
        """Whom is told what jobs came to."""
        from concordex.work.api_tell import Telling

        return Telling(self)

    @cached_property
    def upkeep(self) -> Upkeep:
        """What is wrong here, copies of the workspace, and its journal held against its chain."""
        from concordex.work.api_upkeep import Upkeep

        return Upkeep(self)

    @cached_property
    def fleet(self) -> FleetView:
        """The fleet as it is seen: health, batteries, links, racks, versions, a report."""
        from concordex.work.api_fleet import FleetView

        return FleetView(self)

    @cached_property
    def kinds(self) -> ObjectKinds:
        """Which kinds of configuration object there are."""
        from concordex.work.api_kinds import ObjectKinds

        return ObjectKinds(self)

    @cached_property
    def objects(self) -> Objects:
        """Configuration objects: saved, compared, loaded back, migrated, installed."""
        from concordex.work.api_objects import Objects

        return Objects(self)

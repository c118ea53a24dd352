"""Configuration objects in the public Python API: ``Workspace.objects``."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

from concordex.work.objects import baselines as saved_sets
from concordex.work.objects import diff, files, install, live, migrate, pick, prepare, secrets
from concordex.work.objects import drift as drifting
from concordex.work.objects.kinds import chosen_kinds
from concordex.work.targets.kinds import kinds_of
from concordex.work.workspace import devices as device_list

if TYPE_CHECKING:
    from concordex.change.differ import Difference
    from concordex.change.objects import Kind, Object
    from concordex.change.steps import Change
    from concordex.errors import ConcordexError
    from concordex.progress import Advance
    from concordex.work.objects.diff import Side
    from concordex.work.objects.drift import Drift
    from concordex.work.objects.files import Saved
    from concordex.work.objects.live import Held
    from concordex.work.objects.migrate import Original
    from concordex.work.workspace.base import BaseWorkspace

    Kinds = Mapping[str, Kind]
    Read = Callable[[str, Iterable[str]], Held]


class Objects:
    """The configuration objects of a workspace's systems: addressed as SYSTEM/KIND/NAME."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    # finding

    def live(self, system: str, kinds: Iterable[str] | None = None, progress: Advance | None = None) -> Held:
        """Objects as they are now; of all kinds where none are given."""
        if kinds is None:
            kinds = chosen_kinds(self._workspace, system, [])
        return live.live(self._workspace, system, list(kinds), progress)

    def pulled(self, system: str, kinds: Sequence[str]) -> Held:
        """Objects as the last pull found them."""
        return live.pulled(self._workspace, system, kinds, self._workspace.now())

    def find(self, address: str) -> tuple[str, str, str]:
        """System, kind and name that an address means."""
        return pick.find(self._workspace, address)

    def get(self, held: Held, address: str) -> Object:
        """The one object that an address means."""
        return pick.one_of(held, *pick.find(self._workspace, address))

    def at(self, held: Held, system: str, addresses: Sequence[str]) -> list[Object]:
        """The objects of one system that addresses mean: SYSTEM/KIND/NAME, SYSTEM/KIND, or SYSTEM."""
        return pick.at(self._workspace, held, system, addresses)

    def matching(self, held: Held, kinds: Iterable[str], where: str | None = None) -> list[Object]:
        """Objects of some kinds on whose records a filter holds."""
        return pick.matching(self._workspace, held, kinds, where)

    # files

    def text(self, obj: Object) -> str:
        """An object as its file has it."""
        return files.written(obj, obj.key)

    def read(self, path: Path, kinds: Kinds, progress: Advance | None = None) -> list[Object]:
        """Objects from a file, or from all files of a folder."""
        return files.read_objects(path, kinds, progress)

    def save(
        self,
        system: str,
        held: Held,
        kinds: Kinds,
        into: Path,
        where: str | None = None,
        progress: Advance | None = None,
    ) -> tuple[Path, Saved]:
        """Save objects as one file each, and where they stand."""
        return saved_sets.save_in(self._workspace, system, held, kinds, where, into, progress)

    def save_many(
        self, names: Sequence[str], into: Path, kinds: Sequence[str] = (), where: str | None = None,
        progress: Advance | None = None,
    ) -> dict[str, Saved | ConcordexError]:  # fmt: skip
        """The same of many systems or devices at once; an error in the place of what could not be saved."""
        return saved_sets.save_many(self._workspace, names, kinds, where, into, progress)

    def devices_named(self, devices: str, table: str) -> list[str]:
        """The devices that the rows of a table mean, as DEVICES:ADDRESS."""
        return device_list.named(self._workspace, devices, table)

    # comparing

    def sides(
        self, before: str, now: str, kinds: Sequence[str] = (), progress: Advance | None = None
    ) -> tuple[Side, Side]:
        """Two sides to compare: folders, files, systems, systems at a date."""
        return diff.sides(self._workspace, before, now, kinds, progress)

    def are_two_systems(self, before: str, now: str) -> bool:
        """Whether two sides are of two systems, so that what binds objects to people there differs anyway."""
        names = {text.partition("@")[0] for text in (before, now)}
        return len(names) == 2 and all(diff.is_known(self._workspace, name) for name in names)

    def differences(self, before: Side, now: Side, *, bound: bool = True) -> list[Difference]:
        """How two sides differ by meaning."""
        return diff.compared(before, now, bound=bound)

    def drift(
        self, systems: Sequence[str] = (), baselines: Path | None = None, progress: Advance | None = None
    ) -> dict[str, Drift | ConcordexError]:
        """What moved away from what was saved, system by system; an error in the place of what was not seen."""
        root = baselines or self._workspace.root / "baselines"
        return drifting.drifts(self._workspace, saved_sets.folders(self._workspace, systems, root), progress)

    def last_commits(self, folder: Path, paths: Collection[Path]) -> dict[Path, str]:
        """The last commit that touched each file, where the folder is in a git repository."""
        return drifting.last_commits(folder, paths)

    def accept(self, drift: Drift) -> Saved:
        """Write what is live into the baseline."""
        return drifting.accept(drift)

    # preparing changes

    def restore(self, drift: Drift) -> Change:
        """Prepare putting a baseline back."""
        return drifting.restore(self._workspace, drift)

    def push(
        self, system: str, wanted: Sequence[Object], held: Held, *, may_go: Sequence[Object] = (), free: bool = False
    ) -> tuple[Change, list[Difference]]:
        """Prepare loading objects back; and what the system has beside them."""
        return prepare.prepare_objects(self._workspace, system, wanted, held, may_go=may_go, free=free)

    def may_go(self, path: Path, kinds: Collection[str], held: Held, wanted: Sequence[Object]) -> list[Object]:
        """What a system has and a folder has no longer, of those kinds of which the folder holds all."""
        return saved_sets.may_go(self._workspace, path, kinds, held, wanted)

    def made_without(self, change: Change) -> list[str]:
        """Which secrets new objects are made without, since no reading shows those of others; in words."""
        return secrets.made_without(change, self._workspace.dialect(change.system))

    def odd_members(self, wanted: Sequence[Object], held: Held) -> list[str]:
        """Members that no other object of the kind has: perhaps mistyped."""
        return prepare.odd_members(wanted, held)

    def original(self, address: str, to: str | None, read: Read) -> Original:
        """The object that is to be copied, and what is around it here and there, as ``read`` reads it."""
        return migrate.original(self._workspace, address, to, read)

    def copied(
        self,
        original: Original,
        sets: Sequence[tuple[str, str]],
        drops: Sequence[str],
        *,
        name: str | None,
        bound: bool,
    ) -> Object:
        """The copy of an object: under a name of its own, with edits, without what binds it unless ``bound``."""
        return migrate.copied(original, migrate.Edits(sets=sets, drops=drops), name=name, bound=bound)

    def renamed(self, obj: Object, name: str, kinds: Kinds) -> Object:
        """The same object under another name."""
        return migrate.renamed(obj, name, kinds)

    def copy(self, original: Original, made: Object, *, bound: bool = False) -> tuple[Change, list[str]]:
        """Prepare making a copy; with notes for people."""
        return migrate.prepare_copy(self._workspace, original, made, bound=bound)

    def migrated(
        self, system: str, to: str, chosen: Sequence[Object], held: Held, names: Path | None = None, *,
        bound: bool = False,
    ) -> tuple[list[Object], list[str]]:  # fmt: skip
        """Objects with all that they need, as another system calls it; with notes for people."""
        mapping = migrate.read_map(names) if names else None
        ours, theirs = (kinds_of(self._workspace.dialect(name)) for name in (system, to))
        return migrate.migrated(chosen, held, ours, theirs, mapping, bound=bound)

    def install(
        self, system: str, chosen: Sequence[Object], on: Sequence[str], held: Held, *, off: bool = False
    ) -> Change:
        """Prepare pushing objects onward to the devices that they are assigned to, or taking them ``off``."""
        return install.prepare_installation(self._workspace, system, chosen, on, held, off=off)

    def remove(self, system: str, gone: Sequence[Object], held: Held) -> Change:
        """Prepare removing objects, users first."""
        return prepare.prepare_removal(self._workspace, system, gone, held)

    def onward(self, change: Change) -> list[str]:
        """What is still to be installed on devices once a change has run."""
        return install.onward(self._workspace, change)

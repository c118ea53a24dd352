"""Single calls to systems, in the public Python API: ``Workspace.calls``."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from concordex.errors import CalledWrongly
from concordex.work.call import answer, call, colleague
from concordex.work.call.request import CallSpec
from concordex.work.learn.description import description, kept_description

if TYPE_CHECKING:
    import polars as pl

    from concordex.insight.described import Described
    from concordex.work.call.call import Called, PreparedCall
    from concordex.work.call.colleague import CallCopy
    from concordex.work.workspace.base import BaseWorkspace


class Calls:
    """Calls to the systems and devices of a workspace, signed in as it says."""

    def __init__(self, workspace: BaseWorkspace) -> None:
        self._workspace = workspace

    def description(self, system: str) -> Described:
        """What a system says can be called: asked of it, or read from a file, as its setting ``describes`` says."""
        return description(self._workspace, system)

    def names(self, system: str) -> list[str]:
        """What can be called of a system by a name, as far as that is at hand: tables of its dialect, operations."""
        name, _ = self._workspace.target(system)
        known = kept_description(self._workspace, system)
        operations = known.operations if known is not None else ()
        return [*self._workspace.dialect(name).tables, *(operation.name for operation in operations)]

    def parameters(self, system: str, operation: str) -> list[str]:
        """The names of what an operation takes, as far as its description is at hand."""
        known = kept_description(self._workspace, system)
        found = known.named(operation) if known is not None else None
        return [parameter.name for parameter in found.parameters] if found is not None else []

    def prepare(self, system: str, where: str, **rest: Any) -> PreparedCall:
        """A call to a path, a table of the dialect or a method of JSON-RPC; see
        :class:`concordex.work.call.request.CallSpec`.  Nothing is sent."""
        return call.prepare(self._workspace, system, CallSpec(where=where, **rest))

    def check_write(self, prepared: PreparedCall, *, any_time: bool = False) -> None:
        """Raise Stopped where what may alter something may not be sent now."""
        call.check_write(self._workspace, prepared, any_time=any_time)

    def send(self, prepared: PreparedCall, *, every: bool = False, write: bool = False) -> Called:
        """Send a call once; ``every`` page of a list; ``write`` says that it may alter something."""
        return call.send(self._workspace, prepared, every=every, wrote=write)

    def copy(self, prepared: PreparedCall) -> CallCopy:
        """How a call would leave, with names in the place of secrets."""
        return colleague.copy_of(self._workspace, prepared)

    def history(self) -> list[dict[str, Any]]:
        """The calls that were made, the latest first."""
        return call.history(self._workspace)

    def again(self, number: int) -> PreparedCall:
        """An earlier call, prepared once more."""
        system, spec = call.again(self._workspace, number)
        return call.prepare(self._workspace, system, spec)

    def taken(self, called: Called, path: str) -> pl.DataFrame:
        """What stands at a path into all answers to a call, a row for each."""
        if called.records is not None:
            if path not in (called.at, f"$.{called.at}"):
                raise CalledWrongly(
                    f"--take {path}: of every page of this list its records are read, at {called.at}",
                    advice=f"--take {called.at}; what is in them is a column",
                )
            return answer.frame_of(answer.rows_of(called.records))
        bodies = called.bodies or [called.body]
        return answer.frame_of([row for body in bodies for row in answer.taken(body, path)])

    def records(self, called: Called) -> list[Any]:
        """The members of the one list in the answers to a call."""
        return [*called.records] if called.records is not None else answer.records(called.bodies or [called.body])

    def listed(self, called: Called) -> pl.DataFrame:
        """The same, a row for each."""
        return answer.frame_of(answer.rows_of(self.records(called)))

    def as_table(self, prepared: PreparedCall, called: Called, table: str) -> pl.DataFrame:
        """The records of the answers as the dialect maps those of a table."""
        dialect = self._workspace.dialect(prepared.system)
        if called.records is not None and table in dialect.tables:
            return answer.mapped(dialect, table, [called.records])
        return answer.as_table(dialect, table, called.bodies or [called.body])

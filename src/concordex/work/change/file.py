"""A change as a YAML file: to be reviewed, kept beside the ticket, run by a colleague."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

from pydantic import Field

from concordex.change.about import About
from concordex.change.steps import Change, Step
from concordex.documents import Part, read_as, write_yaml
from concordex.errors import CalledWrongly
from concordex.words import suggestion
from concordex.work.workspace.secret_sources import SAY_WHERE, is_reference

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace


class StepPart(Part):
    """One step."""

    operation: Literal["create", "update", "delete", "action"]
    table: str
    record: str
    key: dict[str, Any] = Field(default_factory=dict)
    before: dict[str, Any] = Field(default_factory=dict)
    desired: dict[str, Any] = Field(default_factory=dict)
    action: str | None = None
    record_id: str | None = None
    entry: str | None = None
    source: str | None = None
    at: str | None = None


class AboutPart(Part):
    """What a change says of itself wherever it is run."""

    by: str = ""
    command: str = ""
    source: str = Field("", alias="from")
    selection: str = ""
    objects: bool = False
    irreversible: bool = False
    sizes: dict[str, int] = Field(default_factory=dict)
    once: list[str] = Field(default_factory=list)


class ChangeFile(Part):
    """The whole file."""

    format: int = Field(ge=1, le=1)
    kind: str
    system: str
    about: AboutPart = Field(default_factory=AboutPart)
    steps: list[StepPart]


def save(change: Change, path: Path) -> None:
    """Write the open steps of ``change``, whole or not at all."""
    about = {name: value for name, value in change.about.document().items() if name not in _OWN}
    document = {
        "format": 1, "kind": change.kind, "system": change.system, "about": about,
        "steps": [_said(step) for step in change.writes if step.operation != "report"],
    }  # fmt: skip
    write_yaml(path, document, private=True)  # a one-time code may stand in it


#: What a change knows of the workspace that it was prepared in, and means nothing in another.
_OWN = ("undoes", "token", "chosen", "how", "asks")


def _said(step: Step) -> dict[str, Any]:
    members = {
        "operation": step.operation, "table": step.table, "record": step.label, "key": dict(step.key),
        "before": dict(step.before), "desired": dict(step.desired), "action": step.action, "record_id": step.record_id,
        "entry": step.entry, "source": step.source, "at": step.at,
    }  # fmt: skip
    return {name: value for name, value in members.items() if value not in (None, {}, "")}


def load(workspace: BaseWorkspace, path: Path) -> Change:
    """The change in ``path``, for a system of this workspace."""
    saved = read_as(path, ChangeFile)
    if saved.system not in workspace.config.devices:
        workspace.target(saved.system)
    dialect = workspace.dialect(saved.system)
    for at, step in enumerate(saved.steps, start=1):
        spec = dialect.tables.get(step.table)
        if spec is None or spec.write is None:
            raise CalledWrongly(
                f"{path}: step {at} is about the table {step.table!r}, which {saved.system} cannot be written",
                advice=suggestion(step.table, [name for name, written in dialect.tables.items() if written.write]),
            )
        known = {*spec.fields, *_referring(spec)}
        strange = [name for name in (*step.desired, *step.before, *step.key) if name not in known]
        if strange and not saved.about.objects:  # of objects, members are the system's own
            raise CalledWrongly(
                f"{path}: step {at} names the field {strange[0]!r}, which {step.table} does not have",
                advice=suggestion(strange[0], spec.fields),
            )
        for name, written in spec.write.fields.items():
            said = step.desired.get(written.to if saved.about.objects else name)
            if written.secret and said is not None and not is_reference(str(said)):
                raise CalledWrongly(f"{path}: step {at}: {name} is a secret", advice=SAY_WHERE)
        if step.operation in ("update", "delete", "action") and step.record_id is None:
            raise CalledWrongly(f"{path}: step {at} does not say which record_id it is about")
        if step.operation == "action" and step.action not in spec.write.actions:
            raise CalledWrongly(f"{path}: step {at}: {saved.system} offers no {step.action!r}")
    steps = [
        Step(
            number=at, table=s.table, operation=s.operation, label=s.record, key=s.key, before=s.before,
            desired=s.desired, action=s.action, record_id=s.record_id, entry=s.entry, source=s.source, at=s.at,
        )
        for at, s in enumerate(saved.steps, start=1)
    ]  # fmt: skip
    irreversible = any(
        dialect.tables[s.table].write.actions[s.action].irreversible  # type: ignore[union-attr, index]
        for s in steps
        if s.operation == "action"
    )
    gone = any(step.operation == "delete" for step in steps)  # judged by the steps: a file's words may have been edited
    facts = saved.about
    about = About(
        by=facts.by, command=facts.command, source=str(path), selection=facts.selection, objects=facts.objects,
        irreversible=irreversible or gone or facts.irreversible, sizes=facts.sizes, once=facts.once,
    )  # fmt: skip
    return Change(kind=saved.kind, system=saved.system, steps=tuple(steps), about=about)


def _referring(spec: Any) -> set[str]:
    return {ours for ref in spec.write.references.values() for ours in ref.by.values()}

"""What is sent of steps: their bodies, with the secrets that they name, and the keys by which a repetition is known."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any
from uuid import UUID, uuid5

from concordex.change.reasons import Why, because
from concordex.change.steps import Outcome, Step
from concordex.errors import CalledWrongly, SecretError
from concordex.model.members import put, value_at
from concordex.wire import dialect as d
from concordex.work.targets.api_target import ApiTarget


@dataclass
class Bodies:
    """What is sent of the steps of one change.

    actual  the system as it stands: what steps refer to is found there
    reveal  gives the secret that a reference names
    token   the change's own, of which the keys are made by which a system knows a repetition
    """

    actual: ApiTarget
    reveal: Callable[[str], str]
    token: str | None = None

    def sayable(self, write: d.Write, steps: Sequence[Step]) -> tuple[list[Step], list[dict[str, Any]], list[Outcome]]:
        """Steps, with what is sent for each; those that refer to what was not made after all are held."""
        sayable, bodies, settled = list[Step](), [], list[Outcome]()
        secret = self._secret(write, steps)
        for step in steps:
            try:
                bodies.append(self.actual.body(write, self._revealed(secret, step) if secret else step))
                sayable.append(step)
            except (CalledWrongly, SecretError) as lack:
                settled.append(Outcome(step, "held", because(Why.ERROR, text=lack.what)))
        return sayable, bodies, settled

    def _secret(self, write: d.Write, steps: Sequence[Step]) -> list[str]:
        """Where secrets stand in what steps of a table write: fields, or the members of configuration objects."""
        tables = self.actual.session.dialect.tables
        objects = any(tables[step.table].config for step in steps[:1])
        return [str(spec.to) if objects else name for name, spec in write.fields.items() if spec.secret]

    def _revealed(self, secret: Sequence[str], step: Step) -> Step:
        """A step with the secrets that its values only name: in memory, for as long as it is sent."""
        desired: Mapping[str, Any] = step.desired
        for path in secret:
            if reference := value_at(desired, path):
                desired = put(desired, path, self.reveal(str(reference)))
        return replace(step, desired=desired)

    def key(self, steps: Sequence[Step]) -> str | None:
        """By what a system knows a request again: the same for the same steps of a change, however often it is sent."""
        numbers = ",".join(str(step.number) for step in steps)
        return str(uuid5(UUID(self.token), numbers)) if self.token else None

    def known(
        self, how: d.Send, steps: Sequence[Step], bodies: Sequence[Mapping[str, Any]]
    ) -> Sequence[Mapping[str, Any]]:
        """What is sent of each step, with the member by which the system knows it again."""
        if how.idempotency is None or how.idempotency.startswith("header:"):
            return bodies
        return [{**body, how.idempotency: self.key([step])} for step, body in zip(steps, bodies, strict=True)]

    def together(
        self, how: d.Together, writes: Mapping[str, d.Write], steps: Mapping[str, Sequence[Step]]
    ) -> dict[str, list[dict[str, Any]]]:
        """What is sent of each table; each record is known, for those that come after it, by its place in the call."""
        bodies: dict[str, list[dict[str, Any]]] = {}
        places: dict[str, list[str]] = {}
        try:
            for table, mine in steps.items():
                secret = self._secret(writes[table], mine)
                for at, step in enumerate(mine):
                    body = self.actual.body(writes[table], self._revealed(secret, step) if secret else step)
                    bodies.setdefault(table, []).append(body)
                    if how.refers:
                        place = how.refers.format(member=how.tables[table], at=at)
                        self.actual.made(step, place)
                        places.setdefault(table, []).append(place)
        finally:  # outside of the call they mean nothing
            for table, named in places.items():
                self.actual.gone(table, named)
        return bodies

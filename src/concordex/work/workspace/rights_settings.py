"""Who may do what in a workspace, and on which systems; who says nothing of it lets everybody do everything."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from concordex.documents import Part, Slug, fault_at

Right = Literal["see", "pull", "prepare", "agree", "run", "decide"]
#: How members of a group of the operating system are named.
GROUP = "group:"


class SomeSystems(Part):
    """Some systems by their names or tags; all, where neither is said."""

    systems: list[Slug] = Field(default_factory=list)
    tags: list[str] = Field(default_factory=list)

    def hold(self, system: str, tags: list[str]) -> bool:
        """Whether a system is among them."""
        return not (self.systems or self.tags) or system in self.systems or bool(set(tags) & set(self.tags))


class Grant(SomeSystems):
    """What somebody may do, and where."""

    may: list[Right] = Field(
        min_length=1,
        description="see: look at what was pulled; pull: ask systems; prepare: draft changes; agree: to a change of"
        " somebody else; run: send changes; decide: rulings and settings.",
    )


class Person(Part):
    """Somebody by their name: a user of the operating system, `group:NAME`, or a runner that has a token."""

    grants: list[Grant] = Field(min_length=1)
    token: Annotated[str, Field(pattern=r"^[0-9a-f]{64}$")] | None = Field(
        None, description="The SHA-256 of a runner's token (`concordex rights token`), which has it in CONCORDEX_TOKEN."
    )

    @model_validator(mode="before")
    @classmethod
    def _short(cls, given: Any) -> Any:
        """One grant may stand by itself."""
        if not isinstance(given, Mapping) or "may" not in given:
            return given
        own = {name: given[name] for name in ("may", "systems", "tags") if name in given}
        return {**{name: value for name, value in given.items() if name not in own}, "grants": [own]}


class Rights(Part):
    """Everybody who may do something, and for which systems a change needs a second person."""

    people: dict[str, Person] = Field(min_length=1)
    second_person: SomeSystems | None = Field(
        None, description="Changes of these systems are run once somebody else than who prepared them has agreed."
    )

    @model_validator(mode="after")
    def _sound(self) -> Rights:
        for name, person in self.people.items():
            if not name.removeprefix(GROUP).strip():
                raise fault_at(("people", name), "names nobody")
            if person.token and name.startswith(GROUP):
                raise fault_at(("people", name, "token"), "is for one runner, and this is a group")
        return self

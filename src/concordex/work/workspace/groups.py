"""Named selections, one small file each in ``groups/``."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

from pydantic import Field, model_validator

from concordex.documents import Part, fault_at, read_as
from concordex.query.groups import Group

if TYPE_CHECKING:
    pass

FOLDER = "groups"


class GroupFile(Part):
    """A group: a filter, or a union, intersection or difference of other groups."""

    about: str = ""
    where: str | None = None
    any_of: list[str] = Field(default_factory=list, description="A union: what is in any of these groups.")
    all_of: list[str] = Field(default_factory=list, description="An intersection: what is in all of these groups.")
    but_not: list[str] = Field(default_factory=list, description="A difference: less what is in these groups.")

    @model_validator(mode="after")
    def _something(self) -> GroupFile:
        if not (self.where or self.any_of or self.all_of):
            raise fault_at(("where",), "a group says `where`, `any_of` or `all_of`")
        return self

    @property
    def group(self) -> Group:
        """As filters use it."""
        return Group(where=self.where, any_of=self.any_of, all_of=self.all_of, but_not=self.but_not)


def load(root: Path) -> dict[str, GroupFile]:
    """The groups of the workspace in ``root`` by name."""
    folder = root / FOLDER
    paths = sorted(folder.glob("*.yaml")) if folder.is_dir() else []
    return {path.stem: read_as(path, GroupFile) for path in paths}


def groups(root: Path) -> dict[str, Group]:
    """The groups of the workspace in ``root``, as filters use them."""
    return {name: file.group for name, file in load(root).items()}

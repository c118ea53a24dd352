"""The catalogue of device models: one YAML file each under ``models/``, made to be kept in version control."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from pydantic import Field

from concordex.documents import Part, read_as

if TYPE_CHECKING:
    from concordex.work.workspace.base import BaseWorkspace

FOLDER = "models"


class Port(Part):
    """Ports of one sort."""

    name: str = Field(description="With {n} for their number.")
    sort: str = Field(description="Such as 1000base-t, sfp+, power.")
    count: int = Field(1, ge=1)


class Model(Part):
    """One model of device."""

    format: int = Field(ge=1, le=1)
    maker: str
    name: str
    kind: str | None = None
    units: float | None = Field(None, ge=0, description="Height in rack units.")
    full_depth: bool | None = Field(
        None, description="Whether it is as deep as a rack, so that nothing fits behind it."
    )
    weight: float | None = Field(None, ge=0, description="In kilograms.")
    power: float | None = Field(None, ge=0, description="In watts.")
    ports: list[Port] = Field(default_factory=list)


def models(workspace: BaseWorkspace) -> list[dict[str, Any]]:
    """What the catalogue says of each model, by our fields; ports as texts such as ``24 1000base-t``."""
    folder = workspace.root / FOLDER
    paths = sorted(folder.glob("*.yaml")) if folder.is_dir() else []
    every = [read_as(path, Model) for path in paths]
    return [
        {
            "maker": model.maker, "name": model.name, "kind": model.kind, "units": model.units,
            "full_depth": model.full_depth, "weight": model.weight, "power": model.power,
            "ports": [f"{port.count} {port.sort}" for port in model.ports] or None,
        }
        for model in every
    ]  # fmt: skip

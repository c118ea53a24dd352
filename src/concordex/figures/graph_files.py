"""Links as files for graph programs: GraphML (graphml.graphdrawing.org) and DOT (graphviz.org)."""

from __future__ import annotations

import io
from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import Any

from concordex.landing import landing
from concordex.unseen import in_data

FORMS = ("graphml", "dot")
_OF_A_LINK = ("near_port", "far_port", "speed", "duplex", "status", "told")


def write(cables: Sequence[Mapping[str, Any]], path: Path) -> None:
    """Write cables as the ending of the file says; each device with its kind and site, each cable with its ports."""
    content = _dot(cables) if path.suffix.lower() == ".dot" else _graphml(cables)
    with landing(path) as making:
        making.write_bytes(content.encode())


def _plain(text: object) -> str:
    """A name from outside without signs that no XML may hold (XML 1.0, section 2.2), or that end a line."""
    return "".join(sign if sign.isprintable() else "·" for sign in in_data(str(text)))


def _facts(cable: Mapping[str, Any], names: Sequence[str]) -> dict[str, Any]:
    """What is known of it under some names."""
    return {
        name.rpartition(".")[2]: value if isinstance(value, int | float) else _plain(value)
        for name in names
        if (value := cable.get(name)) is not None
    }


def _graphml(cables: Sequence[Mapping[str, Any]]) -> str:
    import networkx as nx

    graph = nx.MultiGraph()
    for cable in cables:
        ends = []
        for end in ("near", "far"):
            name = _plain(cable[end])
            ends.append(name)
            graph.add_node(name, **_facts(cable, (f"{end}.kind", f"{end}.site")))
        graph.add_edge(*ends, **_facts(cable, _OF_A_LINK))
    buffer = io.BytesIO()
    nx.write_graphml_xml(graph, buffer)
    return buffer.getvalue().decode()


def _dot(cables: Sequence[Mapping[str, Any]]) -> str:
    nodes: dict[str, dict[str, Any]] = {}
    lines = ["graph links {"]
    for cable in cables:
        for end in ("near", "far"):
            nodes.setdefault(str(cable[end]), {}).update(_facts(cable, (f"{end}.kind", f"{end}.site")))
    lines += [f"  {_quoted(name)} [{_attributes(facts)}];" for name, facts in nodes.items()]
    for cable in cables:
        ends = f"{_quoted(cable['near'])} -- {_quoted(cable['far'])}"
        lines.append(f"  {ends} [{_attributes(_facts(cable, _OF_A_LINK))}];")
    return "\n".join([*lines, "}", ""])


def _attributes(facts: Mapping[str, Any]) -> str:
    return ", ".join(f"{name}={_quoted(value)}" for name, value in facts.items())


def _quoted(value: object) -> str:
    """A text in quotes, in which only a quote and a backslash mean something."""
    text = _plain(value).replace("\\", "\\\\").replace('"', '\\"')
    return f'"{text}"'

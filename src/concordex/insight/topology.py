"""What hangs on what: ways between devices, and sites that are reached through one device or one link alone."""

from __future__ import annotations

from collections import Counter
from collections.abc import Collection, Hashable, Iterable, Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING, Any, Literal, NamedTuple

if TYPE_CHECKING:
    import networkx as nx

#: A device, as the graph knows it.
Node = Hashable
#: Two devices that a link is between, and what that link is called.
Edge = tuple[Node, Node, int]


class Hanging(NamedTuple):
    """A site, and the devices and links (by their numbers) without any one of which it cannot be reached.

    Of a site that is not of one piece the largest piece is meant: so many of its devices are ``there``.
    """

    site: str
    there: int
    devices: Sequence[Node]
    links: Sequence[int]


@dataclass(frozen=True)
class Graph:
    """Devices, and the links between them; several between two are one way that is not cut by one of them."""

    graph: nx.Graph

    @classmethod
    def of(cls, edges: Iterable[Edge]) -> Graph:
        """The graph of some links."""
        import networkx as nx

        graph = nx.Graph()
        for near, far, number in edges:
            if near == far:
                continue
            if graph.has_edge(near, far):
                graph[near][far]["links"].append(number)
            else:
                graph.add_edge(near, far, links=[number])
        return cls(graph)

    def way(self, here: Node, there: Node) -> list[tuple[Node, list[int]]] | None:
        """The devices on a shortest way, each but the first with the links that lead to it; None without one."""
        import networkx as nx

        if here not in self.graph or there not in self.graph:
            return None
        try:
            nodes = nx.shortest_path(self.graph, here, there)
        except nx.NetworkXNoPath:
            return None
        return [(nodes[0], []), *((after, self.graph[before][after]["links"]) for before, after in pairwise(nodes))]

    def hanging(self, sites: Mapping[Any, str]) -> list[Hanging]:
        """The sites that one device or one link cuts off from the rest.

        By the tree of blocks and cut vertices (Hopcroft and Tarjan 1973), whose root is where most sites meet: what
        stands on the way from a site to it is what the site hangs on; and on the root hangs what is not in the largest
        of the parts into which the net falls without it.  A site's own device counts where no other one does.
        """
        import networkx as nx

        parts = list(nx.connected_components(self.graph))
        part_of = {node: number for number, part in enumerate(parts) for node in part}
        blocks: list[list[set[Node]]] = [[] for _ in parts]
        for block in nx.biconnected_components(self.graph):  # of all at once: a view of a part is slow to walk
            blocks[part_of[next(iter(block))]].append(block)
        hanging, home = [], _homes(part_of, sites)
        for number, (part, own) in enumerate(zip(parts, blocks, strict=True)):
            mine = {node: sites[node] for node in part if sites.get(node) is not None}
            settled = {site for site in mine.values() if home[site] == number}
            if settled and len({*mine.values()}) > 1:
                hanging += _Tree(self.graph, part, own, mine).hanging(settled)
        return sorted(hanging, key=lambda found: found.site)


def _homes(part_of: Mapping[Node, int], sites: Mapping[Any, str]) -> dict[str, int]:
    """The part of the net in which most devices of each site are."""
    counts = Counter((site, part_of[node]) for node, site in sites.items() if node in part_of)
    homes: dict[str, int] = {}
    for (site, part), count in counts.items():
        if site not in homes or count > counts[site, homes[site]]:
            homes[site] = part
    return homes


#: So many devices are in the block of a link that no other way goes round.
_TWO = 2

#: A place in the tree: the number of a block, or a cut vertex; the root is taken for one.
_Place = int | tuple[Literal["cut"], Node]


class _Tree:
    """The blocks and cut vertices of a part of the net that hangs together."""

    def __init__(
        self, graph: nx.Graph, part: Collection[Node], blocks: Sequence[set[Node]], sites: Mapping[Node, str]
    ) -> None:
        import networkx as nx

        self.graph, self.part, self.blocks, self.sites = graph, part, blocks, sites
        of: dict[Node, list[int]] = {}
        for number, block in enumerate(self.blocks):
            for node in block:
                of.setdefault(node, []).append(number)
        self.top = self._meeting_place()
        self.root: _Place = ("cut", self.top)
        cuts = {node for node, numbers in of.items() if len(numbers) > 1 or node == self.top}
        self.place: dict[Node, _Place] = {
            node: ("cut", node) if node in cuts else numbers[0] for node, numbers in of.items()
        }
        tree = nx.Graph((number, self.place[node]) for node in cuts for number in of[node])
        self.parted = len(of[self.top]) > 1  # the net falls apart without it
        self.above: dict[_Place, _Place] = {child: parent for parent, child in nx.bfs_edges(tree, self.root)}

    def _meeting_place(self) -> Node:
        """The device that is next to devices of the most sites."""
        meets = {node: len({self.sites.get(other) for other in self.graph[node]} - {None}) for node in self.part}
        top: Node = max(meets, key=lambda node: (meets[node], len(self.graph[node]), str(node)))
        return top

    def hanging(self, wanted: Collection[str]) -> list[Hanging]:
        """What each of the ``wanted`` sites hangs on."""
        members: dict[str, list[Node]] = {}
        for node, site in self.sites.items():
            if site in wanted:
                members.setdefault(site, []).append(node)
        main = self._main_branch()
        found = []
        for site, nodes in members.items():
            way = self._shared_way({self.place[node] for node in nodes})
            devices = [place[1] for place in way if isinstance(place, tuple)]
            if way and way[-1] != main and main is not None:
                devices.append(self.top)
            pairs = [
                tuple(block) for place in way if isinstance(place, int) and len(block := self.blocks[place]) == _TWO
            ]
            links = [self.graph[near][far]["links"] for near, far in pairs]
            single = [numbers[0] for numbers in links if len(numbers) == 1]
            foreign = [device for device in devices if self.sites.get(device) != site]
            own = [device for device in devices if self.sites.get(device) == site and nodes != [device]]
            if foreign or own or single:
                found.append(Hanging(site, len(nodes), foreign or own, single))
        return found

    def _shared_way(self, places: Collection[_Place]) -> list[_Place]:
        """What stands on the way from all of some places to the root, without it."""
        first, *others = places
        way = [first]
        while way[-1] != self.root:
            way.append(self.above[way[-1]])
        at = {place: number for number, place in enumerate(way)}
        joined = 0  # from here on all of them go this way
        for place in others:
            climbed = [place]
            while climbed[-1] not in at:  # nobody climbs twice where somebody of this site was
                climbed.append(self.above[climbed[-1]])
            joined = max(joined, at[climbed[-1]])
            at |= dict.fromkeys(climbed, at[climbed[-1]])
        return way[joined:-1]

    def _main_branch(self) -> _Place | None:
        """Of the branches at a root that is a cut vertex the one with the most devices."""
        if not self.parted:
            return None
        branch: dict[_Place, _Place] = {}
        for place, above in self.above.items():  # each after what is above it
            branch[place] = place if above == self.root else branch[above]
        sizes = Counter(branch[place] for place in self.place.values() if place != self.root)
        return max(sizes, key=lambda branch: (sizes[branch], -branch if isinstance(branch, int) else 0))

"""Where the tables of a map stand: parents above children, few crossings (Sugiyama, by igraph)."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise
from typing import TYPE_CHECKING

from yeldro.core.model.tables.graph import components

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap

Bend = tuple[str, str, int]  # of the line between a parent and a child, in a layer
Node = str | Bend
_MOST_ABREAST = 7
_SWEEPS = 24
GAP, RISE = 34, 58  # pixels between two boxes, and between two layers


@dataclass(frozen=True)
class Layout:
    """Boxes and the ways between them, in pixels from the upper left corner.

    Args:
        corners: by table, the upper left corner of its box.
        ways: by (child, parent), the points between the two boxes, from the child on.
    """

    width: float
    height: float
    corners: Mapping[str, tuple[float, float]]
    ways: Mapping[tuple[str, str], Sequence[tuple[float, float]]]


def laid_out(drawn: KeyMap, width: float, heights: Mapping[str, float]) -> Layout:
    """Place every table of a map.

    Args:
        width: of every box.
        heights: of each box.
    """
    import igraph  # type: ignore[import-untyped]

    names = [table.name for table in drawn.tables]
    pairs = sorted({(key.parent, key.child) for key in drawn.keys if key.parent != key.child})
    layers = _layers(names, pairs)
    ranks = _Ranks(width)
    right = 0.0
    for together in _connected(names, pairs):  # igraph mixes up the lines of separate parts
        place = {name: number for number, name in enumerate(together)}
        inside = [pair for pair in pairs if pair[0] in place]
        edges = [(place[parent], place[child]) for parent, child in inside]
        graph = igraph.Graph(len(together), edges, directed=True)
        ranked = [layers[name] for name in together]
        found = graph.layout_sugiyama(layers=ranked, vgap=1, maxiter=1000)
        for name, (x, _) in zip(together, found, strict=True):
            ranks.add(name, layers[name], right + x)
        for (parent, child), bent in zip(inside, found.edge_routing, strict=True):
            ranks.connect(parent, child, [(round(y), right + x) for x, y in bent])
        right += 1 + max(x for bent in (found, *found.edge_routing) for x, _ in bent)
    centres = ranks.centres()
    left = min((centres[name] for name in names), default=0) - width / 2
    bands = _bands(layers, heights)
    corners = {name: (centres[name] - width / 2 - left, bands[layers[name]][0]) for name in names}
    ways = {}
    for parent, child in pairs:
        points = [
            (centres[bend] - left, edge)
            for bend in ranks.bends[parent, child]
            for edge in bands[bend[2]]
        ]
        points.sort(key=lambda point: point[1], reverse=layers[child] > layers[parent])
        ways[child, parent] = points
    return Layout(
        max((x for x, _ in corners.values()), default=0) + width,
        max((bottom for _, bottom in bands.values()), default=0),
        corners,
        ways,
    )


def _connected(names: Sequence[str], pairs: Sequence[tuple[str, str]]) -> list[list[str]]:
    """Return the tables in sets that no foreign key connects with one another."""
    beside: dict[str, list[str]] = {name: [] for name in names}
    for parent, child in pairs:
        beside[parent].append(child)
        beside[child].append(parent)
    return components(beside)


class _Ranks:
    """Boxes and bends of lines, layer by layer in order from left to right.

    The order comes from elsewhere. Each is put as near to the middle of those that it is connected
    with as the others of its layer allow: a least squares fit that keeps the order (isotonic
    regression by pooling adjacent violators), one layer after another, down and up.
    """

    def __init__(self, width: float) -> None:
        self._width = width
        self._layers: dict[int, list[tuple[float, Node]]] = {}
        self._layer: dict[Node, int] = {}
        self._beside: dict[Node, list[Node]] = {}
        self.bends: dict[tuple[str, str], list[Bend]] = {}

    def add(self, node: Node, layer: int, x: float) -> None:
        """Add a box, or a bend, whose place in the order is `x`."""
        self._layers.setdefault(layer, []).append((x, node))
        self._layer[node] = layer
        self._beside[node] = []

    def connect(self, parent: str, child: str, bent: Sequence[tuple[int, float]]) -> None:
        """Connect two boxes by a line that bends in the layers between them."""
        own = self.bends[parent, child] = [(parent, child, layer) for layer, _ in bent]
        for bend, (layer, x) in zip(own, bent, strict=True):
            self.add(bend, layer, x)
        chain: list[Node] = sorted([parent, *own, child], key=lambda one: self._layer[one])
        for one, other in pairwise(chain):
            self._beside[one].append(other)
            self._beside[other].append(one)

    def centres(self) -> dict[Node, float]:
        """Return the x of the middle of each box and of each bend, in pixels."""
        order = {
            layer: [node for _, node in sorted(nodes, key=lambda one: (one[0], str(one[1])))]
            for layer, nodes in sorted(self._layers.items())
        }
        centres: dict[Node, float] = {}
        for nodes in order.values():
            offsets = self._offsets(nodes)
            middle = (offsets[-1] + self._size(nodes[-1])) / 2
            centres |= {node: at - middle for node, at in zip(nodes, offsets, strict=True)}
        for sweep in range(_SWEEPS):
            down = sweep % 2 == 0
            for layer in sorted(order, reverse=not down):
                nodes = order[layer]
                wanted = [self._wanted(node, down, centres) for node in nodes]
                offsets = self._offsets(nodes)
                fitted = _in_order([want - at for want, at in zip(wanted, offsets, strict=True)])
                centres |= {
                    node: fit + at for node, fit, at in zip(nodes, fitted, offsets, strict=True)
                }
        return centres | self._alone(centres)

    def _alone(self, centres: Mapping[Node, float]) -> dict[Node, float]:
        """Return the places of boxes without lines, in the middle under the others."""
        tied = [x for node, x in centres.items() if self._beside[node]] or [0.0]
        alone = [x for node, x in centres.items() if not self._beside[node]] or [0.0]
        shift = (min(tied) + max(tied) - min(alone) - max(alone)) / 2
        return {node: x + shift for node, x in centres.items() if not self._beside[node]}

    def _wanted(self, node: Node, down: bool, centres: Mapping[Node, float]) -> float:
        """Return the middle of those that it is connected with, above it or else below."""
        beside = self._beside[node]
        first = [other for other in beside if (self._layer[other] < self._layer[node]) is down]
        listed = [centres[other] for other in first or beside]
        return sum(listed) / len(listed) if listed else centres[node]

    def _offsets(self, nodes: Sequence[Node]) -> list[float]:
        """Return where the middles are if all stand as close together as they may."""
        found = [0.0]
        for one, other in pairwise(nodes):
            found.append(found[-1] + (self._size(one) + self._size(other)) / 2 + GAP)
        return found

    def _size(self, node: Node) -> float:
        return self._width if isinstance(node, str) else 0.0


def _in_order(wanted: Sequence[float]) -> list[float]:
    """Return the values nearest to `wanted`, by least squares, that never decrease."""
    pools: list[tuple[float, int]] = []
    for value in wanted:
        total, number = value, 1
        while pools and pools[-1][0] / pools[-1][1] > total / number:
            before, more = pools.pop()
            total, number = total + before, number + more
        pools.append((total, number))
    return [total / number for total, number in pools for _ in range(number)]


def _layers(names: Sequence[str], pairs: Sequence[tuple[str, str]]) -> dict[str, int]:
    """Return the layer of each table: below all its parents, where there is no cycle."""
    children: dict[str, list[str]] = {name: [] for name in names}
    for parent, child in pairs:
        children[parent].append(child)
    connected = {name for pair in pairs for name in pair}
    layers: dict[str, int] = {}
    for component in components(children):
        inside = set(component)
        above = [
            layers[parent] for parent, child in pairs if child in inside and parent not in inside
        ]
        first = max(above, default=-1) + 1
        layers |= {name: first + number for number, name in enumerate(component)}
    for name in reversed(list(layers)):  # a table without parents stands right above its children
        if name in connected and not any(child == name for _, child in pairs):
            layers[name] = min(layers[child] for child in children[name]) - 1
    lowest = max((layers[name] for name in connected), default=-1)
    layers |= {name: lowest + 1 for name in names if name not in connected}
    return _split(layers)


def _split(layers: Mapping[str, int]) -> dict[str, int]:
    """Return the same layers, those with too many tables cut in several."""
    found: dict[str, int] = {}
    next_layer = 0
    for layer in sorted(set(layers.values())):
        members = [name for name, its in layers.items() if its == layer]
        for number, name in enumerate(members):
            found[name] = next_layer + number // _MOST_ABREAST
        next_layer += (len(members) - 1) // _MOST_ABREAST + 1
    return found


def _bands(
    layers: Mapping[str, int], heights: Mapping[str, float]
) -> dict[int, tuple[float, float]]:
    """Return the top and the bottom of each layer."""
    found: dict[int, tuple[float, float]] = {}
    top = 0.0
    for layer in sorted(set(layers.values())):
        tallest = max(heights[name] for name, its in layers.items() if its == layer)
        found[layer] = (top, top + tallest)
        top += tallest + RISE
    return found

"""Where the boxes of a layered drawing stand, and where its edges run. Knows no tables; the same
input always gives the same output.

The steps are those of Sugiyama, Tagawa and Toda ("Methods for Visual Understanding of Hierarchical
System Structures", 1981). Layers no wider than they may be come from Coffman and Graham ("Optimal
Scheduling for Two-Processor Systems", 1972). Boxes keep their order and stand as near as they can
to the mean of their neighbours: least squares by pooling neighbours that are in each other's way
(Barlow, Bartholomew, Bremner and Brunk, "Statistical Inference under Order Restrictions", 1972).
"""

from __future__ import annotations

from bisect import bisect_right, insort
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence

from msgspec import Struct

# Crossings hardly ever become fewer after so many sweeps down and up.
_SWEEPS = 12
# An edge that runs past boxes is narrow, and rather straight.
_EDGE_WIDTH, _STRAIGHT = 0.25, 4.0

Edge = tuple[int, int]
Point = tuple[float, int]


class Layout(Struct, frozen=True):
    """`boxes` holds for each node the middle of its box and its layer, 0 at the top; `routes` for
    each edge the points that it runs through from its first node to its second one, their boxes
    included. `layers` is how many there are, `width` that of the widest."""

    boxes: tuple[Point, ...]
    routes: tuple[tuple[Point, ...], ...]
    layers: int
    width: float


def lay_out(widths: Sequence[float], edges: Sequence[Edge], most: int, gap: float) -> Layout:
    """Lay out nodes 0, 1, 2… of these widths, at least `gap` apart and `most` to a layer.

    An edge leads down from an earlier node to a later one, and up from a later one to an earlier
    one. Nodes without edges stand below the others.
    """
    down = sorted({(min(edge), max(edge)) for edge in edges if edge[0] != edge[1]})
    joined = sorted({node for edge in down for node in edge})
    alone = [node for node in range(len(widths)) if node not in set(joined)]
    levels = _find_layers(joined, down, most)
    graph = _Layered([*levels, *_split(alone, most)], widths, down, gap)
    graph.untangle()
    graph.place()
    return graph.describe(edges, len(widths))


def _split(nodes: Sequence[int], size: int) -> list[list[int]]:
    return [list(nodes[start : start + size]) for start in range(0, len(nodes), size)]


def _find_layers(nodes: Sequence[int], down: Sequence[Edge], most: int) -> list[list[int]]:
    """Layers from the top, each node above all that it leads to."""
    above: dict[int, list[int]] = {node: [] for node in nodes}
    below: dict[int, list[int]] = {node: [] for node in nodes}
    for upper, lower in down:
        above[lower].append(upper)
        below[upper].append(lower)
    labels = _label(nodes, above)
    layers: list[list[int]] = []
    done: set[int] = set()
    while len(done) < len(nodes):
        free = [one for one in nodes if one not in done and done.issuperset(below[one])]
        free.sort(key=lambda one: -labels[one])
        layers.append(free[:most])
        done.update(layers[-1])
    levels = {node: level for level, layer in enumerate(reversed(layers)) for node in layer}
    _pull_together(levels, above, below, most)
    return [sorted(one for one in nodes if levels[one] == level) for level in range(len(layers))]


def _label(nodes: Sequence[int], above: Mapping[int, Sequence[int]]) -> dict[int, int]:
    """Numbers by which layers are filled: those come first of which the last one above came
    first."""
    labels: dict[int, int] = {}

    def rank(node: int) -> tuple[list[int], int]:
        return sorted((labels[up] for up in above[node]), reverse=True), node

    for label in range(len(nodes)):
        free = [one for one in nodes if one not in labels and labels.keys() >= set(above[one])]
        labels[min(free, key=rank)] = label
    return labels


def _pull_together(
    levels: dict[int, int],
    above: Mapping[int, Sequence[int]],
    below: Mapping[int, Sequence[int]],
    most: int,
) -> None:
    """Move each node to where its edges are shortest together, where there is room."""
    room = Counter(levels.values())
    for node in [*sorted(levels, key=lambda one: levels[one]), *sorted(levels)] * 2:
        near = [levels[one] for one in (*above[node], *below[node])]
        first = max((levels[one] + 1 for one in above[node]), default=levels[node])
        last = min((levels[one] - 1 for one in below[node]), default=levels[node])
        free = [one for one in range(first, last + 1) if room[one] < most or one == levels[node]]
        best = min(free, key=lambda one: (sum(abs(one - other) for other in near), one))
        room[levels[node]] -= 1
        room[best] += 1
        levels[node] = best


class _Layered:
    """Nodes in layers with edges between neighbouring layers alone: longer ones are cut by nodes of
    their own."""

    def __init__(
        self, layers: list[list[int]], widths: Sequence[float], down: Sequence[Edge], gap: float
    ) -> None:
        self.layers = layers
        self.gap = gap
        self.widths = dict(enumerate(widths))
        self.level = {node: level for level, layer in enumerate(layers) for node in layer}
        self.chains: dict[Edge, list[int]] = {}
        self.above: dict[int, list[int]] = {node: [] for node in self.level}
        self.below: dict[int, list[int]] = {node: [] for node in self.level}
        self.real = len(widths)
        for edge in down:
            self.chains[edge] = list(self._cut(edge))
            for upper, lower in zip(self.chains[edge], self.chains[edge][1:], strict=False):
                self.above[lower].append(upper)
                self.below[upper].append(lower)
        self.x: dict[int, float] = {}

    def _cut(self, edge: Edge) -> Iterator[int]:
        upper, lower = edge
        yield upper
        for level in range(self.level[upper] + 1, self.level[lower]):
            node = len(self.widths)
            self.widths[node] = _EDGE_WIDTH
            self.level[node], self.above[node], self.below[node] = level, [], []
            self.layers[level].append(node)
            yield node
        yield lower

    # Order

    def untangle(self) -> None:
        """Order each layer so that few edges cross."""
        best, fewest = [list(layer) for layer in self.layers], self._count_crossings()
        for sweep in range(_SWEEPS):
            if not fewest:
                break
            if sweep % 2:
                for level in reversed(range(len(self.layers) - 1)):
                    self._sort(level, level + 1, self.below)
            else:
                for level in range(1, len(self.layers)):
                    self._sort(level, level - 1, self.above)
            crossings = self._count_crossings()
            if crossings < fewest:
                best, fewest = [list(layer) for layer in self.layers], crossings
        self.layers = best

    def _sort(self, level: int, other: int, neighbours: dict[int, list[int]]) -> None:
        """By the mean place of the neighbours; one without any stays where it is."""
        place = {node: number for number, node in enumerate(self.layers[other])}
        own = {node: number for number, node in enumerate(self.layers[level])}
        scale = len(place) / max(1, len(own))

        def mean(node: int) -> float:
            places = [place[one] for one in neighbours[node]]
            return sum(places) / len(places) if places else own[node] * scale

        self.layers[level].sort(key=lambda node: (mean(node), own[node]))

    def _count_crossings(self) -> int:
        return sum(
            self._count_between(upper, lower)
            for upper, lower in zip(self.layers, self.layers[1:], strict=False)
        )

    def _count_between(self, upper: Sequence[int], lower: Sequence[int]) -> int:
        place = {node: number for number, node in enumerate(lower)}
        crossings, seen = 0, list[int]()
        for node in upper:
            ends = [place[one] for one in self.below[node]]
            crossings += sum(len(seen) - bisect_right(seen, end) for end in ends)
            for end in ends:
                insort(seen, end)
        return crossings

    # Coordinates

    def place(self) -> None:
        """Give each node an x, in layer order and apart, as near to its neighbours as can be."""
        for layer in self.layers:
            self._settle(layer, [0.0] * len(layer), [1.0] * len(layer))
        for sweep in range(_SWEEPS):
            levels = range(len(self.layers)) if sweep % 2 else reversed(range(len(self.layers)))
            for level in levels:
                layer = self.layers[level]
                wanted = [self._find_middle(node) for node in layer]
                weights = [_STRAIGHT if node >= self.real else 1.0 for node in layer]
                self._settle(layer, wanted, weights)

    def _find_middle(self, node: int) -> float:
        near = [*self.above[node], *self.below[node]]
        return sum(self.x[one] for one in near) / len(near) if near else self.x[node]

    def _settle(
        self, layer: Sequence[int], wanted: Sequence[float], weights: Sequence[float]
    ) -> None:
        """Move a layer as near to where its nodes are wanted as their order and widths allow."""
        starts = [0.0]
        for one, other in zip(layer, layer[1:], strict=False):
            starts.append(starts[-1] + (self.widths[one] + self.widths[other]) / 2 + self.gap)
        # Each block: the sum of its weights, the mean of what is wanted, and how many nodes.
        blocks: list[tuple[float, float, int]] = []
        for start, want, weight in zip(starts, wanted, weights, strict=True):
            total, mean, count = weight, want - start, 1
            while blocks and blocks[-1][1] > mean:
                other_total, other_mean, other_count = blocks.pop()
                mean = (mean * total + other_mean * other_total) / (total + other_total)
                total, count = total + other_total, count + other_count
            blocks.append((total, mean, count))
        means = [mean for _, mean, count in blocks for _ in range(count)]
        for node, start, mean in zip(layer, starts, means, strict=True):
            self.x[node] = mean + start

    def describe(self, edges: Sequence[Edge], nodes: int) -> Layout:
        left = min((self.x[node] - self.widths[node] / 2 for node in self.x), default=0.0)
        right = max((self.x[node] + self.widths[node] / 2 for node in self.x), default=0.0)
        points = {node: (x - left, self.level[node]) for node, x in self.x.items()}
        routes = []
        for start, end in edges:
            chain = self.chains.get((min(start, end), max(start, end)), [start])
            steps = chain if start <= end else chain[::-1]
            routes.append(tuple(points[node] for node in steps))
        boxes = tuple(points[node] for node in range(nodes))
        return Layout(boxes, tuple(routes), len(self.layers), right - left)

"""Order and cycles over any nodes and edges. Knows no tables; the same input always gives the same
output."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Iterator, Mapping, Sequence
from typing import Generic, TypeVar

Node = TypeVar("Node", bound=Hashable)


def find_components(nodes: Sequence[Node], edges: Iterable[tuple[Node, Node]]) -> list[list[Node]]:
    """The strongly connected components, each before the components that its edges lead to.

    An edge (a, b) leads from a to b; edges to nodes that are not in `nodes` are ignored. Within a
    component the nodes keep the order of `nodes`. Tarjan's algorithm ("Depth-first search and
    linear graph algorithms", 1972), written without recursion.
    """
    place = {node: position for position, node in enumerate(nodes)}
    leads: dict[Node, list[Node]] = {node: [] for node in nodes}
    for start, end in edges:
        if start in place and end in place and end not in leads[start]:
            leads[start].append(end)
    for ends in leads.values():
        ends.sort(key=place.__getitem__)
    walk = _Walk(leads)
    for root in reversed(nodes):
        walk.visit(root)
    components = [sorted(component, key=place.__getitem__) for component in walk.components]
    return components[::-1]


class _Walk(Generic[Node]):
    """A walk through a graph, depth first. `low` is the first node that a node can get back to,
    `waiting` are those whose component is not closed yet."""

    def __init__(self, leads: Mapping[Node, Sequence[Node]]) -> None:
        self.leads = leads
        self.index: dict[Node, int] = {}
        self.low: dict[Node, int] = {}
        self.waiting: list[Node] = []
        self.is_waiting: set[Node] = set()
        self.components: list[set[Node]] = []

    def visit(self, root: Node) -> None:
        """Walk from a node to all that were not seen yet."""
        if root in self.index:
            return
        self._enter(root)
        path = [(root, iter(self.leads[root]))]
        while path:
            node, ends = path[-1]
            end = self._find_new(node, ends)
            if end is not None:
                self._enter(end[0])
                path.append((end[0], iter(self.leads[end[0]])))
                continue
            path.pop()
            if path:
                parent = path[-1][0]
                self.low[parent] = min(self.low[parent], self.low[node])
            if self.low[node] == self.index[node]:
                self._close(node)

    def _enter(self, node: Node) -> None:
        self.index[node] = self.low[node] = len(self.index)
        self.waiting.append(node)
        self.is_waiting.add(node)

    def _find_new(self, node: Node, ends: Iterator[Node]) -> tuple[Node] | None:
        """The next node that was not seen yet, and on the way how far back the others lead."""
        for end in ends:
            if end not in self.index:
                return (end,)
            if end in self.is_waiting:
                self.low[node] = min(self.low[node], self.index[end])
        return None

    def _close(self, node: Node) -> None:
        component: set[Node] = set()
        while node not in component:
            component.add(self.waiting.pop())
        self.is_waiting -= component
        self.components.append(component)


def find_cycle(nodes: Sequence[Node], edges: Sequence[tuple[Node, Node]]) -> list[int]:
    """The positions in `edges` of one cycle, in its order, or [] where there is none. A loop at one
    node counts."""
    out: dict[Node, list[int]] = {node: [] for node in nodes}
    for position, (start, end) in enumerate(edges):
        if start in out and end in out:
            out[start].append(position)
    finished: set[Node] = set()
    for root in nodes:
        if root in finished:
            continue
        path: list[int] = []
        on_path: dict[Node, int] = {root: 0}
        walk = [(root, iter(out[root]))]
        while walk:
            node, edges_left = walk[-1]
            for position in edges_left:
                end = edges[position][1]
                if end in on_path:
                    return [*path[on_path[end] :], position]
                if end not in finished:
                    path.append(position)
                    on_path[end] = len(path)
                    walk.append((end, iter(out[end])))
                    break
            else:
                walk.pop()
                finished.add(node)
                del on_path[node]
                if path:
                    path.pop()
    return []

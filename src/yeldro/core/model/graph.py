"""Order and cycles over any nodes and edges. Knows no tables; the same input always gives the same
output."""

from __future__ import annotations

from collections.abc import Hashable, Iterable, Sequence
from typing import TypeVar

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

    index: dict[Node, int] = {}
    low: dict[Node, int] = {}
    open_nodes: list[Node] = []
    is_open: set[Node] = set()
    components: list[list[Node]] = []
    for root in reversed(nodes):
        if root in index:
            continue
        walk = [(root, iter(leads[root]))]
        while walk:
            node, ends_left = walk[-1]
            if node not in index:
                index[node] = low[node] = len(index)
                open_nodes.append(node)
                is_open.add(node)
            for end in ends_left:
                if end not in index:
                    walk.append((end, iter(leads[end])))
                    break
                if end in is_open:
                    low[node] = min(low[node], index[end])
            else:
                walk.pop()
                if walk:
                    low[walk[-1][0]] = min(low[walk[-1][0]], low[node])
                if low[node] == index[node]:
                    component = set()
                    while node not in component:
                        component.add(open_nodes.pop())
                    is_open -= component
                    components.append(sorted(component, key=place.__getitem__))
    components.reverse()
    return components


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

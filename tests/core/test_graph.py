"""Order and cycles against what plain reachability says."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yeldro.core.model.graph import find_components, find_cycle

EDGES = st.lists(st.tuples(st.integers(0, 6), st.integers(0, 6)), max_size=14)
NODES = list(range(7))


def reachable(start: int, edges: list[tuple[int, int]]) -> set[int]:
    found, waiting = set(), [start]
    while waiting:
        node = waiting.pop()
        for end in (b for a, b in edges if a == node and b not in found):
            found.add(end)
            waiting.append(end)
    return found


@given(EDGES)
def test_components_are_those_of_mutual_reach_in_the_order_of_the_edges(
    edges: list[tuple[int, int]],
) -> None:
    components = find_components(NODES, edges)
    assert sorted(node for part in components for node in part) == NODES
    place = {node: number for number, part in enumerate(components) for node in part}
    assert all(place[a] <= place[b] for a, b in edges)
    for a in NODES:
        for b in NODES:
            together = a == b or (b in reachable(a, edges) and a in reachable(b, edges))
            assert (place[a] == place[b]) == together


@given(EDGES)
def test_a_cycle_is_found_exactly_where_there_is_one(edges: list[tuple[int, int]]) -> None:
    cycle = [edges[place] for place in find_cycle(NODES, edges)]
    assert bool(cycle) == any(node in reachable(node, edges) for node in NODES)
    for (_, end), (start, _) in zip(cycle, [*cycle[1:], *cycle[:1]], strict=True):
        assert end == start

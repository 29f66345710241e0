"""Where the boxes of a map stand, and which tables share one."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from yeldro.core.model.schema import Reference, ReferentialAction, Schema, Table, TableName
from yeldro.core.survey.layout import lay_out
from yeldro.core.survey.map import make_map
from yeldro.core.survey.picture import make_picture

NODES, GAP = 12, 0.5
EDGES = st.lists(st.tuples(st.integers(0, NODES - 1), st.integers(0, NODES - 1)), max_size=24)
WIDTHS = st.lists(st.floats(0.5, 3), min_size=NODES, max_size=NODES)


def make_table(name: str) -> Table:
    return Table(TableName("s", name), name, "table", (), ("id",), ("id",))


def make_reference(child: Table, parent: Table) -> Reference:
    return Reference("r", child, ("x",), parent, ("id",), ReferentialAction.CASCADE)


@given(WIDTHS, EDGES, st.integers(1, 6))
def test_boxes_stand_apart_and_edges_run_from_layer_to_layer(
    widths: list[float], edges: list[tuple[int, int]], most: int
) -> None:
    layout = lay_out(widths, edges, most, GAP)
    layers: dict[int, list[tuple[float, float]]] = {}
    for (x, layer), width in zip(layout.boxes, widths, strict=True):
        layers.setdefault(layer, []).append((x - width / 2, x + width / 2))
    for boxes in layers.values():
        boxes.sort()
        assert len(boxes) <= most
        assert all(
            right + GAP <= left + 1e-6
            for (_, right), (left, _) in zip(boxes, boxes[1:], strict=False)
        )
    for (start, end), route in zip(edges, layout.routes, strict=True):
        assert (route[0], route[-1]) == (layout.boxes[start], layout.boxes[end])
        step = 1 if end > start else -1
        passed = [layer for _, layer in route]
        assert passed == list(range(passed[0], passed[-1] + step, step))


def test_edges_that_need_not_cross_do_not() -> None:
    layout = lay_out([1.0] * 6, [(0, 5), (1, 4), (2, 3)], 3, GAP)
    upper, lower = layout.boxes[:3], layout.boxes[:2:-1]
    assert sorted(range(3), key=lambda one: upper[one]) == sorted(
        range(3), key=lambda one: lower[one]
    )


@given(EDGES, st.integers(1, NODES), st.integers(0, NODES - 1))
def test_tables_share_boxes_until_these_are_few(
    edges: list[tuple[int, int]], most: int, kept: int
) -> None:
    tables = [make_table(f"t{number}") for number in range(NODES)]
    references = [make_reference(tables[a], tables[b]) for a, b in edges]
    found = make_map(Schema(tuple(tables), tuple(references)), None)
    picture = make_picture(found, {}, keep=[tables[kept]], most=most)
    shown = [table for box in picture.boxes for table in box.tables]
    assert sorted(table.label for table in shown) == sorted(table.label for table in tables)
    assert (tables[kept],) in [box.tables for box in picture.boxes]
    told = [reference for arrow in picture.arrows for reference in arrow.references]
    homes = {table: box for box in picture.boxes for table in box.tables}
    inside = [
        one
        for one in references
        if homes[one.child] is homes[one.parent] and homes[one.child].is_folded
    ]
    assert len(told) + len(inside) == len(references)
    assert most < NODES or len(picture.boxes) == NODES


def test_those_that_are_most_alike_share_a_box() -> None:
    tables = [make_table(f"t{number}") for number in range(NODES)]
    into = [make_reference(one, tables[-1]) for one in tables[:8]]
    into += [make_reference(one, tables[-2]) for one in tables[8:10]]
    picture = make_picture(make_map(Schema(tuple(tables), tuple(into)), None), {}, most=7)
    assert sorted(len(box.tables) for box in picture.boxes) == [1, 1, 1, 1, 1, 1, 6]

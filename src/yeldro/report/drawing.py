"""A map of tables as a picture: boxes in layers, children above what they reference, and the rule
of each reference told by the form of its line and by words."""

from __future__ import annotations

import re
import warnings
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from html import escape
from io import StringIO
from pathlib import Path
from typing import Any

import matplotlib as mpl
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.font_manager import FontProperties
from matplotlib.patches import FancyArrowPatch, FancyBboxPatch
from matplotlib.path import Path as Line
from matplotlib.textpath import TextToPath
from matplotlib.ticker import MaxNLocator
from msgspec import Struct

from yeldro.core.model.action import Action
from yeldro.core.model.plural import count
from yeldro.core.model.schema import Reference, ReferentialAction
from yeldro.core.model.visible import one_line
from yeldro.core.run.by_time import ByTime
from yeldro.core.survey.layout import Layout, lay_out
from yeldro.core.survey.picture import Arrow, Box, Picture
from yeldro.store.batch_file import BatchFacts
from yeldro.words.tell import tell, tell_maybe

KINDS = ("svg", "png", "pdf")
# Inches.
_GAP, _BETWEEN, _EDGE, _LINE_HEIGHT, _PAD = 0.4, 0.5, 0.4, 0.19, 0.12
_ASIDE, _PORT, _LABEL, _PASSING = 0.11, 0.3, 0.18, 0.025
_NAME, _SMALL, _TITLE = 9.5, 7.5, 13
_INK, _UPWARD, _BAR, _GOES = "#1b1f24", "#8a1c1c", "#4a6785", "#b3413a"
# Sizes of groups that have a bar of their own.
_MOST_BARS = 12
_FORMS: dict[ReferentialAction, tuple[Any, float]] = {
    ReferentialAction.CASCADE: ("-", 1.5),
    ReferentialAction.SET_NULL: ((0, (5, 2.5)), 1.2),
    ReferentialAction.SET_DEFAULT: ((0, (6, 2, 1, 2)), 1.2),
    ReferentialAction.RESTRICT: ((0, (1, 1)), 1.8),
    ReferentialAction.NO_ACTION: ((0, (1, 2.4)), 1.4),
}
_FOLDED = ("-", 0.8)
_FILLS = {
    Action.DELETE: "#fbe3e0",
    Action.DETACH: "#efe6f7",
    Action.MOVE: "#e3ecf8",
    Action.STOP: "#fff1cc",
}
_SETTINGS: Any = {
    "svg.hashsalt": "yeldro",
    "svg.fonttype": "path",
    "font.family": "DejaVu Sans",
    "path.sketch": None,
}
_METADATA: dict[str, dict[str, Any]] = {
    "svg": {"Date": None, "Creator": "Yeldro"},
    "png": {"Software": None},
    "pdf": {"CreationDate": None, "Creator": "Yeldro", "Producer": None},
}


class _Sheet(Struct):
    """Where things are, in inches from the top left. `tops` and `bottoms` are those of each layer,
    `sizes` the width and height of each box. `depths` is how far from its child the label of each
    arrow stands."""

    layout: Layout
    sizes: list[tuple[float, float]]
    tops: list[float]
    bottoms: list[float]
    ports: dict[int, tuple[float, float]]
    depths: dict[int, float]

    @property
    def height(self) -> float:
        return self.bottoms[-1] if self.bottoms else 0.0

    def find_box(self, number: int) -> tuple[float, float, float, float]:
        """Left, top, width, height. Boxes of a layer stand on one line."""
        (x, layer), (width, height) = self.layout.boxes[number], self.sizes[number]
        return x - width / 2, self.tops[layer], width, height


def write_picture(picture: Picture, title: str, path: Path) -> None:
    """Write the picture to a file whose ending says of which kind it is. The same picture gives
    the same bytes."""
    kind = path.suffix[1:].lower()
    with mpl.rc_context(_SETTINGS), warnings.catch_warnings():
        warnings.simplefilter("ignore")  # of letters that the font has not: a box stands for them
        figure = _draw(picture, title)
        figure.savefig(path, format=kind, metadata=_METADATA[kind], dpi=110)


def draw_svg(picture: Picture) -> str:
    """The same without a title, to stand in a page."""
    return _write_svg(lambda: _draw(picture, ""), "The tables as a picture")


def draw_rates(batches: Sequence[BatchFacts]) -> str:
    """Rows a second of each batch."""

    rates = [one.get("rows", 0) / max(one.get("seconds", 0), 0.001) for one in batches]
    return _draw_line(batches, rates, "rows a second")


def draw_lags(batches: Sequence[BatchFacts]) -> str:
    """How far behind the furthest replica was when each batch began."""
    return _draw_line(batches, [one.get("behind", 0.0) for one in batches], "seconds behind")


def _draw_line(batches: Sequence[BatchFacts], values: Sequence[float], what: str) -> str:
    numbers = [one["batch"] for one in batches]

    def draw(axes: Any) -> None:
        axes.plot(numbers, values, color=_INK, marker=".", linewidth=1)
        axes.set(xlabel="batch", ylabel=what, ylim=(0, None))
        axes.xaxis.set_major_locator(MaxNLocator(integer=True))

    return _draw_chart(draw, f"{what}, batch by batch")


def draw_sizes(sizes: Sequence[tuple[int, int]]) -> str:
    """How many groups there are of each size."""

    def draw(axes: Any) -> None:
        more = [groups for _, groups in sizes[_MOST_BARS:]]
        bars = [(f"{size:,}", groups) for size, groups in sizes[:_MOST_BARS]]
        bars += [("more", sum(more))] if more else []
        drawn = axes.bar([name for name, _ in bars], [groups for _, groups in bars], color=_BAR)
        axes.bar_label(drawn, fmt="{:,.0f}", size=_SMALL)
        axes.set(xlabel="rows in a group", ylabel="groups", xlim=(-0.7, max(len(bars), 8) - 0.3))

    return _draw_chart(draw, "How many groups have how many rows")


def draw_by_time(found: ByTime) -> str:
    """What goes and what stays, by time."""
    names = [one.name or "NULL" for one in found.periods]
    goes = [one.goes for one in found.periods]

    def draw(axes: Any) -> None:
        stays = [one.stays for one in found.periods]
        axes.bar(names, goes, color=_GOES, label="goes")
        axes.bar(
            names, stays, bottom=goes, color="white", edgecolor=_INK, hatch="//", label="stays"
        )
        axes.set(ylabel="rows")
        axes.set_xticks(range(0, len(names), -(-len(names) // 12)))
        axes.legend(frameon=False, fontsize=_SMALL)

    return _draw_chart(draw, f"What goes and what stays, by {found.column}")


def _draw_chart(draw: Callable[[Any], None], told: str) -> str:
    def make() -> Figure:
        figure = Figure(figsize=(7, 2.2), layout="constrained")
        FigureCanvasAgg(figure)
        axes = figure.add_subplot()
        draw(axes)
        axes.spines[["top", "right"]].set_visible(False)
        return figure

    return _write_svg(make, told)


def _write_svg(draw: Callable[[], Figure], told: str) -> str:
    """As an element of a page, which says what it is to whoever does not see it."""
    target = StringIO()
    with mpl.rc_context(_SETTINGS), warnings.catch_warnings():
        warnings.simplefilter("ignore")
        draw().savefig(target, format="svg", metadata=_METADATA["svg"])
    text = target.getvalue()
    # What it says of itself names places elsewhere.
    element = re.sub(r"(?s)<metadata>.*?</metadata>", "", text[text.index("<svg") :])
    return element.replace("<svg", f'<svg role="img" aria-label="{escape(told)}"', 1)


def _draw(picture: Picture, title: str) -> Figure:
    own = [arrow for arrow in picture.arrows if arrow.child == arrow.parent]
    arrows = [arrow for arrow in picture.arrows if arrow.child != arrow.parent]
    lines = [
        [*_describe(box), *(_label(arrow) for arrow in own if arrow.child == number)]
        for number, box in enumerate(picture.boxes)
    ]
    sheet = _make_sheet(lines, arrows)
    layout, legend = sheet.layout, _list_forms(picture.arrows)
    width = max(layout.width, _width(title, _TITLE), 1.75 * len(legend)) + 2 * _EDGE
    above, below = (0.75 if title else 0.15), (0.6 if legend else 0.15)
    figure = Figure(figsize=(width, sheet.height + above + below), facecolor="white")
    FigureCanvasAgg(figure)
    axes = figure.add_axes((0, 0, 1, 1))
    left = (width - layout.width) / 2
    axes.set(xlim=(-left, width - left), ylim=(sheet.height + below, -above))
    axes.axis("off")
    if title:
        _write(axes, _EDGE - left, -0.38, title, size=_TITLE, weight="bold", ha="left")
    for number, arrow in enumerate(arrows):
        points = _trace(sheet, number, arrow, arrows)
        _draw_arrow(axes, arrow, _smooth(points))
        _draw_label(axes, arrow, points[1])
    for place, arrow in enumerate(own):
        turn = sum(one.child == arrow.child for one in own[:place])
        _draw_arrow(axes, arrow, _loop(sheet.find_box(arrow.child), turn))
    for number, box in enumerate(picture.boxes):
        _draw_box(axes, sheet.find_box(number), box, lines[number])
    _draw_legend(axes, legend, _EDGE - left, sheet.height + 0.3)
    return figure


def _write(axes: Any, x: float, y: float, text: str, **how: Any) -> None:
    """One line. Dollar signs are not mathematics."""
    shown = {"size": _SMALL, "color": _INK, "ha": "center", "va": "center", **how}
    axes.text(x, y, text, parse_math=False, **shown)


def _width(text: str, size: float, weight: str = "bold") -> float:
    """Of a text, in inches."""
    if not text:
        return 0.0
    font = FontProperties(family="DejaVu Sans", size=size, weight=weight)
    wide, _, _ = TextToPath().get_text_width_height_descent(text, font, False)
    return float(wide) / 72


# Where things are


def _make_sheet(lines: Sequence[Sequence[str]], arrows: Sequence[Arrow]) -> _Sheet:
    ends = Counter(one for arrow in arrows for one in (arrow.child, arrow.parent))
    sizes = [_measure_box(one, ends[number]) for number, one in enumerate(lines)]
    edges = [(arrow.child, arrow.parent) for arrow in arrows]
    most = max(4, round(len(lines) ** 0.5))
    layout = lay_out([width for width, _ in sizes], edges, most, _GAP)
    ports = _find_ports(arrows, layout, sizes)
    depths, gaps = _stack_labels(arrows, layout, ports)
    heights = [0.0] * layout.layers
    for (_, layer), (_, height) in zip(layout.boxes, sizes, strict=True):
        heights[layer] = max(heights[layer], height)
    tops, bottoms, top = [], [], 0.0
    for layer, height in enumerate(heights):
        tops.append(top)
        bottoms.append(top + height)
        top += height + gaps[layer]
    return _Sheet(layout, sizes, tops, bottoms, ports, depths)


def _measure_box(lines: Sequence[str], ends: int) -> tuple[float, float]:
    widest = max(
        _width(line, _SMALL if place else _NAME, "normal" if place else "bold")
        for place, line in enumerate(lines)
    )
    width = max(widest + 2 * _PAD + 0.08, _PORT * (min(ends, 12) + 1))
    return width, _LINE_HEIGHT * len(lines) + 2 * _PAD


def _find_ports(
    arrows: Sequence[Arrow], layout: Layout, sizes: Sequence[tuple[float, float]]
) -> dict[int, tuple[float, float]]:
    """Where each arrow leaves its child, and where it meets its parent: side by side, in the order
    in which they come."""
    comers: dict[tuple[int, bool], list[tuple[float, int, int]]] = {}
    for number, arrow in enumerate(arrows):
        route = layout.routes[number]
        leads_down = route[0][1] < route[-1][1]
        comers.setdefault((arrow.child, leads_down), []).append((route[1][0], number, 0))
        comers.setdefault((arrow.parent, not leads_down), []).append((route[-2][0], number, 1))
    found: dict[int, list[float]] = {number: [0.0, 0.0] for number in range(len(arrows))}
    for (box, _), several in comers.items():
        (x, _), (width, _) = layout.boxes[box], sizes[box]
        for place, (_, number, end) in enumerate(sorted(several), 1):
            found[number][end] = x - width / 2 + width * place / (len(several) + 1)
    return {number: (start, end) for number, (start, end) in found.items()}


def _stack_labels(
    arrows: Sequence[Arrow], layout: Layout, ports: Mapping[int, tuple[float, float]]
) -> tuple[dict[int, float], list[float]]:
    """How far from its child the label of each arrow stands, so that none lies on another one, and
    how high the space below each layer is then."""
    rows: dict[tuple[int, bool], list[list[tuple[float, float]]]] = {}
    depths = {}
    for number in sorted(range(len(arrows)), key=lambda one: ports[one][0]):
        route, wide = layout.routes[number], _width(_label(arrows[number]), _SMALL, "normal") + 0.1
        leads_down = route[0][1] < route[-1][1]
        left, right = ports[number][0] - wide / 2, ports[number][0] + wide / 2
        taken = rows.setdefault((route[0][1], leads_down), [])
        free = [place for place, row in enumerate(taken) if all(end <= left for _, end in row)]
        if not free:
            free = [len(taken)]
            taken.append([])
        taken[free[0]].append((left, right))
        # Arrowheads stand on top of a box.
        depths[number] = (0.14 if leads_down else 0.26) + _LABEL * free[0]
    used = Counter({key: len(row) for key, row in rows.items()})
    lines = [used[layer, True] + used[layer + 1, False] for layer in range(layout.layers)]
    passing = Counter(
        min(one, other)
        for route in layout.routes
        for (_, one), (_, other) in zip(route, route[1:], strict=False)
    )
    gaps = [
        _BETWEEN + _LABEL * lines[layer] + _PASSING * passing[layer]
        for layer in range(layout.layers)
    ]
    return depths, gaps


def _trace(
    sheet: _Sheet, number: int, arrow: Arrow, arrows: Sequence[Arrow]
) -> list[tuple[float, float]]:
    """The points of an arrow, of which the second is where its label stands. Past a layer it runs
    straight, beside others between the same boxes."""
    route, (start, end) = sheet.layout.routes[number], sheet.ports[number]
    first, last = route[0][1], route[-1][1]
    leads_down = first < last
    aside = _ASIDE * sum(
        (one.child, one.parent) == (arrow.child, arrow.parent) for one in arrows[:number]
    )
    child, parent = sheet.find_box(arrow.child), sheet.find_box(arrow.parent)
    y = child[1] + child[3] if leads_down else child[1]
    deep = sheet.bottoms[first] + sheet.depths[number] if leads_down else y - sheet.depths[number]
    points = [(start, y), (start, deep)]
    for x, layer in route[1:-1]:
        edge = (sheet.tops[layer], sheet.bottoms[layer])
        points += [(x + aside, one) for one in (edge if leads_down else edge[::-1])]
    if not leads_down:
        points.append((end, sheet.bottoms[last]))
    return [*points, (end, parent[1] if leads_down else parent[1] + parent[3])]


# Boxes


def _describe(box: Box) -> list[str]:
    """The lines of a box, its name first."""
    first = box.tables[0].label
    if box.is_folded:
        return [first, f"and {len(box.tables) - 1:,} more"]
    lines = [first, "" if box.rows is None else count(box.rows, "row")]
    lines += [f"{action} {rows:,}" for action, rows in box.counts.items() if rows]
    for stop in box.stops:
        lift = tell_maybe(stop.lift)
        lines += [tell(stop.reason), f"allowed by {lift}" if lift else "nothing allows it"]
    return [one_line(line) for line in lines if line]


def _draw_box(
    axes: Any, place: tuple[float, float, float, float], box: Box, lines: Sequence[str]
) -> None:
    left, top, width, height = place
    acts = [action for action in _FILLS if box.counts.get(action)]
    for shift in (0.07, 0.035, 0.0) if box.is_folded else (0.0,):
        frame = FancyBboxPatch(
            (left + shift, top - shift),
            width,
            height,
            boxstyle="round,pad=0,rounding_size=0.06",
            facecolor=_FILLS[acts[-1]] if acts else "white",
            edgecolor=_INK,
            linewidth=1.8 if box.counts else 1.0,
            zorder=3,
        )
        axes.add_patch(frame)
    for number, line in enumerate(lines):
        how = {} if number else {"size": _NAME, "weight": "bold"}
        y = top + _PAD + _LINE_HEIGHT * (number + 0.5)
        _write(axes, left + width / 2, y, line, zorder=4, **how)


# Arrows


def _smooth(points: Sequence[tuple[float, float]]) -> Line:
    """Curves that begin and end upright."""
    steps, codes = [points[0]], [Line.MOVETO]
    for (x, y), (to_x, to_y) in zip(points, points[1:], strict=False):
        bend = (to_y - y) * 0.5
        steps += [(x, y + bend), (to_x, to_y - bend), (to_x, to_y)]
        codes += [Line.CURVE4] * 3
    return Line(steps, codes)


def _loop(place: tuple[float, float, float, float], turn: int) -> Line:
    left, top, width, height = place
    right, reach = left + width, 0.28 + 0.16 * turn
    high, low = top + height * 0.25, top + height * 0.75
    return Line(
        [(right, high), (right + reach, high), (right + reach, low), (right, low)],
        [Line.MOVETO, Line.CURVE4, Line.CURVE4, Line.CURVE4],
    )


def _form_of(arrow: Arrow) -> tuple[Any, float]:
    return _FORMS[arrow.references[0].on_delete] if len(arrow.references) == 1 else _FOLDED


def _colour_of(arrow: Arrow) -> str:
    return _UPWARD if arrow.child >= arrow.parent else _INK


def _draw_arrow(axes: Any, arrow: Arrow, line: Line) -> None:
    form, weight = _form_of(arrow)
    arrowhead = FancyArrowPatch(
        path=line,
        arrowstyle="-|>,head_length=5,head_width=2.6",
        mutation_scale=1,
        linestyle=form,
        linewidth=weight,
        edgecolor=_colour_of(arrow),
        facecolor=_colour_of(arrow),
        shrinkA=0,
        shrinkB=0,
        zorder=2,
    )
    axes.add_patch(arrowhead)


def _draw_label(axes: Any, arrow: Arrow, place: tuple[float, float]) -> None:
    behind = {"facecolor": "white", "edgecolor": "none", "pad": 0.6}
    _write(axes, *place, _label(arrow), color=_colour_of(arrow), zorder=2.5, bbox=behind)


def _label(arrow: Arrow) -> str:
    if not arrow.references:
        return one_line(arrow.label)
    if len(arrow.references) > 1:
        return count(len(arrow.references), "reference")
    reference = arrow.references[0]
    names = reference.columns
    columns = names[0] if len(names) == 1 else f"({', '.join(names)})"
    return f"{one_line(columns)}: {_rule(reference)}"


def _rule(reference: Reference) -> str:
    return reference.on_delete.value.lower() if reference.declared else "not declared"


# The legend


def _list_forms(arrows: Sequence[Arrow]) -> list[tuple[str, Any, float, str]]:
    """The forms of line that are there, with their meaning."""
    rules = {arrow.references[0].on_delete for arrow in arrows if len(arrow.references) == 1}
    found = [(rule.value.lower(), *_FORMS[rule], _INK) for rule in _FORMS if rule in rules]
    if any(len(arrow.references) > 1 for arrow in arrows):
        found.append(("several references", *_FOLDED, _INK))
    if any(arrow.child >= arrow.parent for arrow in arrows):
        found.append(("closes a cycle", "-", 1.2, _UPWARD))
    return found


def _draw_legend(
    axes: Any, forms: Sequence[tuple[str, Any, float, str]], left: float, top: float
) -> None:
    for name, form, weight, colour in forms:
        axes.plot([left, left + 0.45], [top, top], linestyle=form, linewidth=weight, color=colour)
        _write(axes, left + 0.53, top, name, ha="left")
        left += 0.53 + _width(name, _SMALL, "normal") + 0.35

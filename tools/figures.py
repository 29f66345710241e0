"""What the benches measured: written to the screen, kept as JSON, and drawn as one picture."""

from __future__ import annotations

import json
import sys
from collections.abc import Mapping, Sequence
from dataclasses import asdict, dataclass, field
from pathlib import Path
from statistics import median

KEPT = Path("docs/bench.json")
PICTURE = Path("docs/screenshots/bench.png")


@dataclass(frozen=True)
class Figure:
    """One ratio. `seconds` says how long each way took, `phases` where ours went."""

    job: str
    engine: str
    ratio: float
    bar: float
    baseline: str
    seconds: Mapping[str, float] = field(default_factory=dict)
    phases: Mapping[str, float] = field(default_factory=dict)

    @property
    def is_met(self) -> bool:
        return self.ratio <= self.bar


class Figures:
    """Those of one run of the benches."""

    def __init__(self) -> None:
        self.found: list[Figure] = []

    def add(self, figure: Figure) -> bool:
        """Keep a figure and write it beside its bar. Returns whether the bar is met."""
        self.found.append(figure)
        verdict = "met" if figure.is_met else "MISSED"
        what = f"{figure.engine} {figure.job}".strip()
        bar = f"bar {figure.bar:g} x: {verdict}"
        sys.stdout.write(f"{what:36} {figure.ratio:6.2f} x {figure.baseline}  ({bar})\n")
        for title, values in (("took", figure.seconds), ("of ours", figure.phases)):
            if values:
                told = ", ".join(f"{name} {value:.2f} s" for name, value in values.items())
                sys.stdout.write(f"    {title}: {told}\n")
        sys.stdout.flush()
        return figure.is_met

    def compare(
        self,
        job: str,
        engine: str,
        ours: Sequence[float],
        others: Mapping[str, tuple[Sequence[float], float]],
        phases: Sequence[Mapping[str, float]] = (),
    ) -> bool:
        """Set the medians of runs that took turns against each other: `others` are the baselines,
        each with its bar. `phases` are those of each of our runs."""
        middle = sorted(range(len(ours)), key=lambda place: ours[place])[len(ours) // 2]
        mine, seconds = median(ours), {name: median(taken) for name, (taken, _) in others.items()}
        met = True
        for name, (_, bar) in others.items():
            spent = dict(sorted(phases[middle].items())) if phases else {}
            figure = Figure(
                job, engine, mine / seconds[name], bar, name, {**seconds, "ours": mine}, spent
            )
            met &= self.add(figure)
        return met

    def keep(self) -> None:
        """Put the figures in the place of older ones of the same jobs, and draw all of them."""
        known = json.loads(KEPT.read_text()) if KEPT.exists() else []
        every = {(one["job"], one["engine"], one["baseline"]): one for one in known}
        for figure in self.found:
            every[figure.job, figure.engine, figure.baseline] = _rounded(asdict(figure))
        KEPT.write_text(json.dumps(list(every.values()), indent=1) + "\n")
        draw([Figure(**one) for one in every.values()])


def _rounded(one: dict[str, object]) -> dict[str, object]:
    def cut(value: object) -> object:
        if isinstance(value, dict):
            return {name: cut(inner) for name, inner in value.items()}
        return round(value, 3) if isinstance(value, float) else value

    return {name: cut(value) for name, value in one.items()}


_COLOURS = {"SQLite": "#3b6ea5", "PostgreSQL": "#7a5195", "MariaDB": "#c8663a", "": "#5c6770"}
_NAMES = {"sqlite": "SQLite", "postgresql": "PostgreSQL", "mariadb": "MariaDB"}


def draw(figures: Sequence[Figure]) -> None:
    """Each figure as a share of its bar: left of the line it is met."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot as plt

    shown = [one for one in figures if "memory" not in one.job]
    jobs = list(dict.fromkeys((one.job, one.baseline) for one in shown))
    rows = [one for job in jobs for one in shown if (one.job, one.baseline) == job]
    plot, axes = plt.subplots(figsize=(12.8, max(4.0, 0.14 * (len(rows) + 0.6 * len(jobs)) + 1)))
    height, ticks, names, seen = 0.0, [], [], set()
    for job in jobs:
        for one in (one for one in rows if (one.job, one.baseline) == job):
            name = _NAMES.get(one.engine, "")
            share = one.ratio / one.bar
            label = name if name and name not in seen else None
            seen.add(name)
            axes.barh(height, min(share, 2.6), 0.8, color=_COLOURS[name], label=label)
            told = f"{one.ratio:.2f} x  (bar {one.bar:g})"
            told += ", off the scale" if share > 2.6 else ""
            box = {"facecolor": "white", "edgecolor": "none", "pad": 0.6}
            axes.text(min(share, 2.6) + 0.02, height, told, va="center", fontsize=7.5, bbox=box)
            ticks.append(height)
            against = f"{one.job}, against {one.baseline}"
            names.append(
                against if one is next(o for o in rows if (o.job, o.baseline) == job) else ""
            )
            height += 1
        height += 0.6
    axes.axvline(1, color="black", linewidth=1.2)
    axes.set_yticks(ticks, names, fontsize=8)
    axes.tick_params(axis="y", length=0)
    axes.set_ylim(height - 0.5, -0.8)
    axes.margins(0)
    axes.set_xlim(0, 3.2)
    axes.set_xlabel("time as a share of the bar: left of the line it is met")
    axes.set_title("What a run takes, against SQL by hand in the same minutes", fontsize=12)
    if seen - {""}:
        axes.legend(loc="upper right", frameon=False)
    for side in ("top", "right"):
        axes.spines[side].set_visible(False)
    plot.tight_layout()
    plot.savefig(PICTURE, dpi=100, metadata={"Software": None})
    plt.close(plot)

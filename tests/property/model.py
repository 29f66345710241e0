"""What a deletion should do, worked out row by row in plain Python. Shares no code with the
product."""

from __future__ import annotations

from dataclasses import dataclass, field

Row = dict[str, int | None]


@dataclass(frozen=True)
class Link:
    """A reference: `columns` of table `child` point at `target` columns of table `parent`."""

    child: str
    columns: tuple[str, ...]
    parent: str
    target: tuple[str, ...]
    rule: str
    nullable: tuple[bool, ...]
    default: int | None = None

    def __str__(self) -> str:
        return f"{_end(self.child, self.columns)} -> {_end(self.parent, self.target)}"

    def points_at(self, row: Row, parent: Row) -> bool:
        values = [row[name] for name in self.columns]
        return None not in values and values == [parent[name] for name in self.target]


def _end(table: str, columns: tuple[str, ...]) -> str:
    return f"{table}.{columns[0]}" if len(columns) == 1 else f"{table}.({', '.join(columns)})"


@dataclass(frozen=True)
class Dress:
    """How tables are declared, which must make no difference: the type of their u, and of links
    that point at it, by table; the types of other links, by column; which are partitioned, and
    which fill a column of each row that comes.
    """

    u: dict[str, str] = field(default_factory=dict)
    links: dict[str, str] = field(default_factory=dict)
    parts: frozenset[str] = frozenset()
    touched: frozenset[str] = frozenset()


@dataclass(frozen=True)
class World:
    """Tables with their rows, and the links between them. `keys` are the key columns of each table."""

    keys: dict[str, tuple[str, ...]]
    rows: dict[str, list[Row]]
    links: list[Link]
    dress: Dress = Dress()


@dataclass
class Expected:
    """`after` is the end state where nothing stops it; `tally` counts (deleted, detached) of each
    touched table."""

    after: dict[str, list[Row]]
    tally: dict[str, tuple[int, int]] = field(default_factory=dict)
    stops: dict[tuple[str, str], int] = field(default_factory=dict)


def _treatment(link: Link, rules: dict[str | None, str]) -> str:
    rule = rules.get(link.child, rules[None])
    declared = {"CASCADE": "delete", "SET NULL": "null", "SET DEFAULT": "default"}.get(
        link.rule, "stop"
    )
    if rule == "declared":
        return "stop" if declared == "null" and not all(link.nullable) else declared
    if rule == "detach":
        return "default" if link.rule == "SET DEFAULT" else "null" if any(link.nullable) else "stop"
    return rule


def expect(world: World, table: str, matched: list[int], rules: dict[str | None, str]) -> Expected:
    """Delete the rows at the places `matched` of `table`."""
    doomed = {(table, place) for place in matched}
    grew = True
    while grew:
        grew = False
        for link in world.links:
            if _treatment(link, rules) != "delete":
                continue
            for place, row in enumerate(world.rows[link.child]):
                hit = any(
                    link.points_at(row, world.rows[t][p]) for t, p in doomed if t == link.parent
                )
                if hit and (link.child, place) not in doomed:
                    doomed.add((link.child, place))
                    grew = True

    after = {name: [dict(row) for row in rows] for name, rows in world.rows.items()}
    stops: dict[tuple[str, str], int] = {}
    detached: set[tuple[str, int]] = set()
    for link in world.links:
        treatment = _treatment(link, rules)
        gone = [world.rows[t][p] for t, p in doomed if t == link.parent]
        left = [
            place
            for place, row in enumerate(world.rows[link.child])
            if (link.child, place) not in doomed
            and any(link.points_at(row, parent) for parent in gone)
        ]
        if not left or treatment == "delete":
            continue
        if treatment == "stop":
            stops[link.child, str(link)] = len(left)
            continue
        detached |= {(link.child, place) for place in left}
        cleared = [
            name
            for name, may in zip(link.columns, link.nullable, strict=True)
            if may or treatment == "default"
        ]
        for place in left:
            for name in cleared:
                after[link.child][place][name] = link.default if treatment == "default" else None
        if treatment == "default" and link.default is not None:
            stay = [
                row
                for p, row in enumerate(world.rows[link.parent])
                if (link.parent, p) not in doomed
            ]
            if not any(row[link.target[0]] == link.default for row in stay):
                stops[link.child, str(link)] = len(left)
    tally = {}
    for name in world.rows:
        went = {p for t, p in doomed if t == name}
        stayed = {p for t, p in detached if t == name}
        after[name] = [row for p, row in enumerate(after[name]) if p not in went]
        if went or stayed:
            tally[name] = (len(went), len(stayed))
    return Expected(after, tally, stops)

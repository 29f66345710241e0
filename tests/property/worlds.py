"""Random schemas with random rows: every shape of reference that the product must get right."""

from __future__ import annotations

from dataclasses import dataclass

from hypothesis import strategies as st

from tests.property.model import Dress, Link, Row, World

RULES = ["CASCADE", "SET NULL", "RESTRICT", "NO ACTION", "SET DEFAULT"]
NAMES = ["fen", "mere", "beck", "Order", "weir %", "gräben", "lock:a", "reed'bed"]


@dataclass(frozen=True)
class Case:
    """A world, the places of the matched rows of its first table, and rules for dependents (None:
    the default)."""

    world: World
    table: str
    matched: list[int]
    rules: dict[str | None, str]


@st.composite
def cases(draw: st.DrawFn, engine: str = "sqlite", *, dressed: bool = False) -> Case:
    names = NAMES[: draw(st.integers(2, 8))]
    keys: dict[str, tuple[str, ...]] = {
        name: ("a", "b") if draw(st.integers(0, 3)) == 0 else ("id",) for name in names
    }
    rows: dict[str, list[Row]] = {name: [] for name in names}
    for name in names:
        for place in range(draw(st.integers(1, 6))):
            unique = 100 + place if place == 0 or draw(st.booleans()) else None
            key: Row = (
                {"id": place + 1} if keys[name] == ("id",) else {"a": place // 2, "b": place % 2}
            )
            rows[name].append({**key, "u": unique})
    links = [
        _link(draw, number, names, keys, rows, engine) for number in range(draw(st.integers(1, 9)))
    ]
    table = draw(st.sampled_from(names))
    matched = draw(st.lists(st.integers(0, len(rows[table]) - 1), unique=True, min_size=1))
    some = st.sampled_from(["declared", "delete", "detach", "stop"])
    rules: dict[str | None, str] = {
        None: draw(st.sampled_from(["declared", "declared", "delete", "detach", "stop"]))
    }
    rules |= draw(st.dictionaries(st.sampled_from(names), some, max_size=3))
    return Case(
        World(keys, rows, links, _dress(draw, names, links, engine) if dressed else Dress()),
        table,
        sorted(matched),
        rules,
    )


# Of SQLite: a column has an affinity, and one that points at it another. One without any makes
# rings of rows, and one with another in the same table makes rows that point at themselves, which
# the engine itself takes for broken when they come back.
AFFINITIES = ["INTEGER", "INTEGER", "TEXT", "NUMERIC"]
# Of PostgreSQL: a domain, and a type whose operators are in a schema that nobody looks into.
TYPES = ["INTEGER", "INTEGER", "depth", "far.citext"]


def _dress(draw: st.DrawFn, names: list[str], links: list[Link], engine: str) -> Dress:
    some = st.frozensets(st.sampled_from(names), max_size=3)
    # What is unique over all partitions holds the column that they go by.
    whole = {link.parent for link in links if link.target == ("u",)}
    parts = draw(some) - whole if engine == "postgresql" else frozenset[str]()
    types = {"sqlite": AFFINITIES, "postgresql": TYPES}.get(engine, ["INTEGER"])
    u = {name: draw(st.sampled_from(types)) for name in names}
    own = AFFINITIES if engine == "sqlite" else ["INTEGER"]
    columns = {column: draw(st.sampled_from(own)) for link in links for column in link.columns}
    for link in links:
        if link.child == link.parent:
            columns |= dict.fromkeys(
                link.columns, u[link.parent] if link.target == ("u",) else "INTEGER"
            )
    return Dress(u, columns, parts, draw(some))


def _link(
    draw: st.DrawFn,
    number: int,
    names: list[str],
    keys: dict[str, tuple[str, ...]],
    rows: dict[str, list[Row]],
    engine: str,
) -> Link:
    child, parent = draw(st.sampled_from(names)), draw(st.sampled_from(names))
    target = draw(st.sampled_from([keys[parent], ("u",)]))
    columns = tuple(f"r{number}{'ab'[place]}" for place in range(len(target)))
    nullable = tuple(draw(st.booleans()) for _ in columns)
    rules = RULES if engine != "mariadb" and len(columns) == 1 else RULES[:4]
    if engine == "mariadb" and not all(nullable):
        rules = [rule for rule in rules if rule != "SET NULL"]  # it refuses to declare that
    rule = draw(st.sampled_from(rules))
    default = draw(st.sampled_from([None, 1, 100, 7777])) if rule == "SET DEFAULT" else None
    if rule == "SET DEFAULT" and default is None:
        nullable = (True,)
    choices = [row for row in rows[parent] if None not in [row[name] for name in target]]
    for row in rows[child]:
        aim = draw(st.sampled_from(choices))
        for name, to, may in zip(columns, target, nullable, strict=True):
            row[name] = None if may and draw(st.integers(0, 3)) == 0 else aim[to]
    return Link(child, columns, parent, target, rule, nullable, default)

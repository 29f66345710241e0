"""Which rows of one table a person asked for, read against the catalogue."""

from __future__ import annotations

import re
from collections.abc import Collection, Iterable, Iterator, Sequence
from itertools import chain

from msgspec import Struct

from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.lookup import fold
from yeldro.core.model.schema import Reference, Schema, Table
from yeldro.core.model.values import Value, read_key, read_parameter, read_value
from yeldro.core.selection.condition import Condition, read_condition
from yeldro.core.selection.parameters import Bound
from yeldro.core.selection.view import View, trace_view
from yeldro.errors import Refused, UsageError

# The options that choose rows by themselves.
CHOOSING = (
    "where",
    "keys",
    "keys_from",
    "found_in",
    "not_found_in",
    "orphans",
    "limit",
    "all_rows",
)
_WHOLE = "--truncate empties a whole table: it goes with --all-rows and with no other selection."


class Unfit(Struct, frozen=True):
    """Options that do not go together, or go missing: the name of one of them, "" where there is
    none."""

    name: str
    message: str
    hint: str = ""


class Order(Struct, frozen=True):
    column: str
    descending: bool


class KeyFile(Struct, frozen=True):
    """Keys from outside: the columns that the header names, and the lines, read as they are asked
    for."""

    name: str
    header: tuple[str, ...]
    lines: Iterable[tuple[int, Sequence[str]]]


class Match(Struct, frozen=True, eq=False):
    """Rows that have, or lack, a row in `other` with the same values: pairs of an own column and
    one of `other`."""

    other: Table
    pairs: tuple[tuple[str, str], ...]
    found: bool

    @property
    def columns(self) -> tuple[str, ...]:
        return tuple(own for own, _ in self.pairs)


class Asked(Struct, frozen=True):
    """A selection as it was asked for: texts from the command line or from a file."""

    table: str
    where: tuple[str, ...] = ()
    parameters: tuple[str, ...] = ()
    keys: tuple[str, ...] = ()
    key_file: KeyFile | None = None
    by: str | None = None
    found_in: str | None = None
    not_found_in: str | None = None
    on: str | None = None
    orphans: bool = False
    order_by: str | None = None
    limit: int | None = None
    all_rows: bool = False
    unparsed: bool = False
    truncate: bool = False
    restart_numbers: bool = False


class Selection(Struct, frozen=True):
    """Rows of `table` that meet all `conditions` and `matches`, stand in `view`, have one of the
    keys, and have no parent for one of the `orphans`.

    `keys` are the keys as they were given, values of `key_columns`; once they are in the database
    they are `listed`. Of a file of keys the columns `unused` are not looked at. With
    `order` and `limit`, the first rows; NULLs come last in either direction and the identity is the
    last tie-breaker. `all_rows` says that the person knows that it may be the whole table.
    """

    table: Table
    conditions: tuple[Condition, ...] = ()
    keys: Iterable[tuple[Value, ...]] | None = None
    key_columns: tuple[str, ...] = ()
    unused: tuple[str, ...] = ()
    listed: StoredKeys | None = None
    matches: tuple[Match, ...] = ()
    orphans: tuple[Reference, ...] = ()
    view: View | None = None
    order: tuple[Order, ...] = ()
    limit: int | None = None
    all_rows: bool = False
    truncate: bool = False
    restart_numbers: bool = False

    @property
    def is_by_conditions(self) -> bool:
        """Whether all rows go for which the conditions hold."""
        others = (self.listed, self.limit, self.view, self.matches, self.orphans)
        return self.keys is None and not any(others)

    @property
    def values(self) -> dict[str, Value]:
        """The values of the parameters of all conditions, by name."""
        return {
            name: value for condition in self.conditions for name, value in condition.values.items()
        }

    @property
    def columns(self) -> tuple[str, ...]:
        """The columns that the selection looks at, in the order in which it names them."""
        parts: list[Condition | Match | Reference] = [
            *self.conditions,
            *self.matches,
            *self.orphans,
        ]
        names = [name for part in parts for name in part.columns]
        return tuple(dict.fromkeys([*names, *(order.column for order in self.order)]))


def read_selection(asked: Asked, schema: Schema, dialect: str) -> Selection:
    """Read what was asked for. UsageError for a table, column, key or condition that cannot be
    right."""
    named = schema.find_table(asked.table)
    view = trace_view(named, schema, dialect) if named.kind == "view" else None
    table = view.base if view else named
    check_table(table)
    _check_choice(asked, table, named.label)
    parameters = {parameter.name: parameter for parameter in map(read_parameter, asked.parameters)}
    conditions = tuple(
        read_condition(text, named, dialect, parameters, unparsed=asked.unparsed)
        for text in asked.where
    )
    _check_used(parameters, conditions)
    by = _read_by(asked.by, table)
    header = asked.key_file.header if asked.key_file else ()
    return Selection(
        table,
        conditions,
        _read_keys(asked, table, by),
        key_columns=by,
        unused=tuple(name for name in header if name.lower() not in fold(by)),
        matches=tuple(_read_matches(asked, table, schema)),
        orphans=_read_orphans(asked, table, schema),
        view=view,
        order=_read_order(asked.order_by or "", table),
        limit=asked.limit,
        all_rows=asked.all_rows,
        truncate=asked.truncate and _check_truncate(named, schema),
        restart_numbers=asked.restart_numbers,
    )


def _check_used(parameters: Iterable[str], conditions: Sequence[Condition]) -> None:
    pieces = [piece for condition in conditions for piece in condition.pieces]
    used = {piece.name for piece in pieces if isinstance(piece, Bound)}
    for name in parameters:
        if name not in used:
            raise UsageError(
                f"The parameter {name} is not used in any condition.", f"Write :{name} in --where."
            )


def check_table(table: Table) -> Table:
    """The table itself, if its rows can be told apart and deleted. UsageError or Refused where
    not.
    """
    if table.kind != "table":
        raise UsageError(
            f"{table.label} is a {table.kind}, not a table.", "Name the table whose rows should go."
        )
    if table.refusal:
        raise Refused(f"Rows of {table.label} cannot be deleted safely: {table.refusal}.")
    if not table.identity:
        raise UsageError(
            f"{table.label} has nothing that tells its rows apart.",
            "Rows can be fixed only by a key without NULLs.",
        )
    return table


def find_unfit(given: Collection[str], table: str) -> Iterator[Unfit]:
    """What is wrong with the options that choose rows of a table, by the names of those that were
    given."""
    if not any(name in given for name in CHOOSING):
        yield Unfit(
            "",
            f"No rows of {table} were chosen.",
            "Choose them with --where, --key, --keys-from, --found-in, --not-found-in, --orphans "
            "or --limit, or give --all-rows.",
        )
    if ("limit" in given) != ("order_by" in given):
        one = "limit" if "limit" in given else "order_by"
        yield Unfit(
            one,
            "--order-by and --limit go together.",
            'For example: --order-by "opened_on" --limit 5.',
        )
    if "by" in given:
        yield from _find_unfit_by(given)
    if "on" in given:
        yield from _find_unfit_on(given)
    if "truncate" in given and [name for name in CHOOSING if name in given] != ["all_rows"]:
        yield Unfit("truncate", _WHOLE)
    if "restart_numbers" in given and "truncate" not in given:
        yield Unfit("restart_numbers", "--restart-numbers goes with --truncate.")


def _find_unfit_by(given: Collection[str]) -> Iterator[Unfit]:
    if "keys_from" not in given:
        yield Unfit("by", "--by goes with --keys-from.")
    elif "keys" in given:
        yield Unfit("by", "--by and --key exclude each other.", "Put all of them into the file.")


def _find_unfit_on(given: Collection[str]) -> Iterator[Unfit]:
    matching = [name for name in ("found_in", "not_found_in", "orphans") if name in given]
    if not matching:
        yield Unfit("on", "--on belongs to --found-in, --not-found-in or --orphans.")
    if len(matching) > 1:
        hint = "Give one of them, and --where for the rest."
        yield Unfit("on", "--on could belong to several options here.", hint)


def _check_choice(asked: Asked, table: Table, label: str) -> None:
    given = {
        name
        for name in (*CHOOSING, "order_by", "on", "by", "truncate", "restart_numbers")
        if _is_given(asked, name)
    }
    for unfit in find_unfit(given, label):
        raise UsageError(unfit.message, unfit.hint)
    if asked.limit is not None and table.shares_identity:
        raise UsageError(
            f"{table.label} has nothing that tells its rows apart, so --limit could not say which "
            "of several alike go.",
            "Choose all rows that are alike, with --where.",
        )
    if asked.limit is not None and asked.limit < 1:
        raise UsageError("--limit must be at least 1.")


def _is_given(asked: Asked, name: str) -> bool:
    value = getattr(asked, {"keys_from": "key_file"}.get(name, name))
    return value is not None if name in ("limit", "order_by") else bool(value)


def _check_truncate(table: Table, schema: Schema) -> bool:
    if table.kind != "table":
        raise UsageError(_WHOLE)
    children = sorted({reference.child.label for reference in schema.incoming(table)})
    if children:
        raise Refused(
            f"{table.label} cannot be truncated: {', '.join(children)} references it.",
            "Leave out --truncate: then the rows are deleted, and what depends on them is looked "
            "at.",
        )
    return True


def _read_by(text: str | None, table: Table) -> tuple[str, ...]:
    """The columns by which rows are looked up: the key, or others that are unique."""
    if text is None:
        return table.key
    names = tuple(table.find_column(name.strip()).name for name in text.split(","))
    if not any(index.unique and set(index.columns) <= set(names) for index in table.indexes):
        unique = [", ".join(index.columns) for index in table.indexes if index.unique]
        raise UsageError(
            f"{', '.join(names)} of {table.label} may name several rows: it is not unique there.",
            f"Unique are: {'; '.join(unique)}." if unique else "Use --where.",
        )
    return names


def _read_keys(
    asked: Asked, table: Table, by: tuple[str, ...]
) -> Iterable[tuple[Value, ...]] | None:
    if not asked.keys and asked.key_file is None:
        return None
    given = [read_key(text, table) for text in asked.keys]
    return chain(given, _read_key_file(asked.key_file, table, by) if asked.key_file else ())


def _read_key_file(file: KeyFile, table: Table, by: tuple[str, ...]) -> Iterator[tuple[Value, ...]]:
    if not by:
        raise UsageError(
            f"{table.label} has no primary key, so --keys-from cannot name its rows.",
            "Name unique columns with --by, or use --where.",
        )
    header = fold(file.header)
    if lacking := [name for name in by if name.lower() not in header]:
        raise UsageError(
            f"The header of {file.name} is {', '.join(file.header)}; it lacks "
            f"{', '.join(lacking)}, by which rows of {table.label} are looked up.",
            "The first line must name these columns; --by names other unique ones.",
        )
    places = [
        (file.header.index(header[name.lower()]), name, table.column(name).family) for name in by
    ]
    for number, fields in file.lines:
        yield tuple(
            read_value(fields[at], family, f"{file.name}, line {number} ({name})")
            for at, name, family in places
        )


def _read_matches(asked: Asked, table: Table, schema: Schema) -> Iterator[Match]:
    for text, found in ((asked.found_in, True), (asked.not_found_in, False)):
        if text:
            other = schema.find_table(text)
            yield Match(other, _read_pairs(asked.on, table, other, schema), found)


def _read_pairs(
    on: str | None, table: Table, other: Table, schema: Schema
) -> tuple[tuple[str, str], ...]:
    """The columns that must be equal: those of `--on`, else those of the one reference between the
    tables."""
    if on:
        return tuple(_read_pair(part, table, other) for part in on.split(","))
    out = [reference for reference in schema.outgoing(table) if reference.parent.name == other.name]
    choices = [tuple(zip(one.columns, one.referred, strict=True)) for one in out]
    back = [
        reference for reference in schema.outgoing(other) if reference.parent.name == table.name
    ]
    for one in back:
        if not one.is_self:
            choices.append(tuple(zip(one.referred, one.columns, strict=True)))
    if len(choices) == 1:
        return choices[0]
    between = f"between {table.label} and {other.label}"
    if not choices:
        raise UsageError(
            f"There is no reference {between}.", "Say which columns must be equal: --on COL[=COL],…"
        )
    written = [",".join(f"{own}={there}" for own, there in pairs) for pairs in choices]
    raise UsageError(
        f"There are several references {between}.", f"Choose: --on {' or --on '.join(written)}."
    )


def _read_pair(text: str, table: Table, other: Table) -> tuple[str, str]:
    own, _, same = text.partition("=")
    return table.find_column(own.strip()).name, other.find_column((same or own).strip()).name


def _read_orphans(asked: Asked, table: Table, schema: Schema) -> tuple[Reference, ...]:
    if not asked.orphans:
        return ()
    known = [
        reference for reference in schema.outgoing(table) if reference.parent.kind != "absent table"
    ]
    if asked.on:
        wanted = {table.find_column(name.strip()).name for name in asked.on.split(",")}
        known = [reference for reference in known if set(reference.columns) == wanted]
    if not known:
        columns = f" through {asked.on}" if asked.on else ""
        raise UsageError(
            f"{table.label} references no other table{columns}, so it has no orphans.",
            "A reference that the schema does not declare can be put into yeldro.toml.",
        )
    for reference in known:
        if reference.broken:
            raise Refused(
                f"Nobody can tell the orphans of {reference}. {reference.broken}.",
                "Choose another reference with --on, or the rows with --where.",
            )
    return tuple(known)


_ORDER_ITEM = re.compile(
    r"""\s*(?:"(?P<quoted>(?:[^"]|"")+)"|(?P<plain>[^\s,"]+))(?:\s+(?P<way>asc|desc))?\s*(?:,|$)""",
    re.IGNORECASE,
)


def _read_order(text: str, table: Table) -> tuple[Order, ...]:
    orders, place = [], 0
    while place < len(text):
        item = _ORDER_ITEM.match(text, place)
        if item is None:
            raise UsageError(
                f"--order-by {text!r} cannot be read.",
                'Write "COLUMN" or "COLUMN desc", with commas.',
            )
        name = item["plain"] or item["quoted"].replace('""', '"')
        orders.append(Order(table.find_column(name).name, (item["way"] or "").lower() == "desc"))
        place = item.end()
    return tuple(orders)

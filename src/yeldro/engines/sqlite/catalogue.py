"""SQLite's catalogue, read with one query a kind (https://www.sqlite.org/pragma.html)."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence
from functools import cache
from typing import Any

from msgspec.structs import replace

from yeldro.core.model.grammar import sqlglot
from yeldro.core.model.lookup import fold
from yeldro.core.model.schema import (
    Column,
    Family,
    Index,
    Reference,
    ReferentialAction,
    Schema,
    Table,
    TableName,
    Trigger,
    Unique,
)
from yeldro.engines.shared.gate import Gate

_OBJECTS = """
SELECT name, type, tbl_name, coalesce(sql, '') FROM main.sqlite_master
WHERE type IN ('table', 'view', 'trigger', 'index') AND name NOT LIKE 'sqlite~_%' ESCAPE '~' ORDER
BY name"""
_COLUMNS = """
SELECT m.name, c.name, c.type, c."notnull", c.dflt_value, c.pk, c.hidden
FROM main.sqlite_master AS m JOIN pragma_table_xinfo(m.name, 'main') AS c
WHERE m.type IN ('table', 'view') ORDER BY m.name, c.cid"""
_INDEXES = """
SELECT m.name, i.name, i."unique", i.origin, i.partial, x.name
FROM main.sqlite_master AS m JOIN pragma_index_list(m.name, 'main') AS i JOIN
pragma_index_xinfo(i.name, 'main') AS x
WHERE m.type = 'table' AND x.key = 1 ORDER BY m.name, i.seq, x.seqno"""
_REFERENCES = """
SELECT m.name, f.id, f.seq, f."table", f."from", f."to", f.on_delete,
  f.on_update
FROM main.sqlite_master AS m JOIN pragma_foreign_key_list(m.name, 'main') AS f
WHERE m.type = 'table' ORDER BY m.name, f.id DESC, f.seq"""

# The first that is found in the name of a type counts; SQLite takes any name.
_FAMILIES = (
    (r"DATETIME|TIMESTAMP", Family.TIMESTAMP),
    (r"DATE", Family.DATE),
    (r"BOOL", Family.BOOLEAN),
    (r"INT", Family.INTEGER),
    (r"CHAR|CLOB|TEXT", Family.TEXT),
    (r"REAL|FLOA|DOUB|NUM|DEC", Family.NUMBER),
)
# A table without row numbers has a key without NULLs, so finding the words in a comment too does no
# harm there.
_WITHOUT_ROWID = re.compile(r"\bWITHOUT\s+ROWID\b", re.IGNORECASE)
# Any of these names is the row number, unless a column has it.
_ROW_NUMBERS = ("rowid", "_rowid_", "oid")
_TRIGGER_HEAD = re.compile(
    r"\bTRIGGER\b.*?\b(?P<time>BEFORE|AFTER|INSTEAD\s+OF)?\s*(?P<event>DELETE|INSERT|UPDATE)\b.*?\bON\b",
    re.IGNORECASE | re.DOTALL,
)


def affinity(declared: str) -> str:
    """The affinity of a declared type (https://www.sqlite.org/datatype3.html, section 3.1)."""
    upper = declared.upper()
    if "INT" in upper:
        return "INTEGER"
    if any(part in upper for part in ("CHAR", "CLOB", "TEXT")):
        return "TEXT"
    if not upper or "BLOB" in upper:
        return "BLOB"
    return "REAL" if any(part in upper for part in ("REAL", "FLOA", "DOUB")) else "NUMERIC"


@cache
def _family(declared: str) -> Family:
    return next(
        (family for part, family in _FAMILIES if re.search(part, declared.upper())), Family.OTHER
    )


def read_schema(gate: Gate) -> Schema:
    """Read everything about the tables of the main database."""
    objects = gate.read(_OBJECTS)
    columns, indexes = _by_table(gate, _COLUMNS), _by_table(gate, _INDEXES)
    triggers, specials = defaultdict(list), defaultdict[str, list[Unique]](list)
    for name, kind, table, sql in objects:
        if kind == "index" and (special := _read_special(sql, {row[0] for row in columns[table]})):
            specials[table.lower()].append(special)
        if kind == "trigger":
            triggers[table.lower()].append(Trigger(name, _event(sql)))
    tables = [
        _make_table(name, kind, sql, columns[name], indexes[name], tuple(triggers[name.lower()]))
        for name, kind, _, sql in objects
        if kind in ("table", "view")
    ]
    tables = [replace(table, specials=tuple(specials[table.name.name.lower()])) for table in tables]
    # No pragma tells which reference it is.
    late = {name for name, kind, _, sql in objects if kind == "table" and "DEFERR" in sql.upper()}
    return Schema(tuple(tables), tuple(_references(tables, _by_table(gate, _REFERENCES), late)))


def _read_special(sql: str, columns: set[str]) -> Unique | None:
    """What a CREATE UNIQUE INDEX statement keeps apart, None where it is plain columns of all rows,
    or not unique."""
    # SQLite writes the first words itself.
    if not sql.startswith("CREATE UNIQUE "):
        return None
    tokens = sqlglot.tokenize(sql, read="sqlite")
    words = [token.text.upper() for token in tokens]
    if "(" not in words:
        return None
    first = words.index("(")
    starts, last = _find_parts(words, first)
    ends = [*(start - 2 for start in starts[1:]), last - 1]
    # The direction of an index says nothing about what is unique.
    ends = [end - (words[end] in ("ASC", "DESC")) for end in ends]
    spans = list(zip(starts, ends, strict=True))
    parts = tuple(sql[tokens[start].start : tokens[end].end + 1] for start, end in spans)
    predicate = sql[tokens[last + 2].start :] if last + 2 < len(tokens) else ""
    if not predicate and all(start == end for start, end in spans):
        return None
    lowered = fold(columns)
    used = [token.text.lower() for token in tokens[first:]]
    uses = frozenset(lowered[word] for word in used if word in lowered)
    return Unique(parts, uses, parts, predicate)


def _find_parts(words: Sequence[str], first: int) -> tuple[list[int], int]:
    """Where the parts of a list in brackets begin, and where its bracket is closed. `first` is the
    place of the bracket that opens it."""
    depth, starts = 0, [first + 1]
    for place, word in enumerate(words[first:], first):
        depth += (word == "(") - (word == ")")
        if depth == 1 and word == ",":
            starts.append(place + 1)
        if not depth:
            break
    return starts, place


def _by_table(gate: Gate, query: str) -> defaultdict[str, list[tuple[Any, ...]]]:
    rows: defaultdict[str, list[tuple[Any, ...]]] = defaultdict(list)
    for row in gate.read(query):
        rows[row[0]].append(row[1:])
    return rows


def _event(sql: str) -> str:
    head = _TRIGGER_HEAD.search(sql)
    return f"{(head['time'] or 'BEFORE').upper()} {head['event'].upper()}" if head else ""


def _make_table(
    name: str,
    kind: str,
    sql: str,
    column_rows: list[tuple[Any, ...]],
    index_rows: list[tuple[Any, ...]],
    triggers: tuple[Trigger, ...],
) -> Table:
    # Its rows lie with a module that may do anything with them.
    if re.match(r"\s*CREATE\s+VIRTUAL\b", sql, re.IGNORECASE):
        kind = "virtual table"
    # Columns of a key have numbers from 1 in the order of the key, which may differ from that of
    # the table.
    key = tuple(row[0] for row in sorted(column_rows, key=lambda row: row[4]) if row[4])
    # Only INTEGER PRIMARY KEY, spelled so, is the row number; INT PRIMARY KEY is not.
    rowid_key = len(key) == 1 and _is_rowid_key(key[0], column_rows, index_rows)
    collations = find_collations(sql) if "collate" in sql.lower() else {}
    columns = tuple(_make_column(row, collations, rowid_key=rowid_key) for row in column_rows)
    identity = _find_identity(key, columns, kind, sql)
    indexes = _make_indexes(index_rows)
    if rowid_key:
        indexes.insert(0, Index("", key, True))
    return Table(
        TableName("main", name),
        name,
        kind,
        columns,
        key,
        identity,
        tuple(indexes),
        triggers,
        definition=sql if kind == "view" else "",
        checks=tuple(_find_checks(sql)) if "check" in sql.lower() else (),
    )


def _make_column(row: tuple[Any, ...], collations: Mapping[str, str], *, rowid_key: bool) -> Column:
    name, type_, required, default, pk, hidden = row
    return Column(
        name,
        type_,
        _family(type_),
        # A PRIMARY KEY of SQLite may hold NULLs, unless it is the row number.
        nullable=not required and not (rowid_key and pk),
        default=default,
        generated=hidden in (2, 3),
        collation=collations.get(name.lower(), ""),
    )


def _find_identity(
    key: tuple[str, ...], columns: tuple[Column, ...], kind: str, sql: str
) -> tuple[str, ...]:
    """A key without NULLs, else the row number, () where there is neither."""
    nullable = {column.name for column in columns if column.nullable}
    if key and not nullable & set(key):
        return key
    if kind != "table" or _WITHOUT_ROWID.search(sql):
        return ()
    number = _row_number(columns)
    return (number,) if number else ()


def _make_indexes(rows: list[tuple[Any, ...]]) -> list[Index]:
    columns: dict[str, list[str]] = {}
    unique: dict[str, bool] = {}
    for name, is_unique, _, is_partial, column in rows:
        unique[name] = bool(is_unique) and not is_partial
        columns.setdefault(name, []).append(column or "")
    return [Index(name, tuple(parts), unique[name]) for name, parts in columns.items()]


def _find_checks(sql: str) -> Iterable[str]:
    """The conditions of the CHECK constraints of a CREATE TABLE statement."""
    tokens = sqlglot.tokenize(sql, read="sqlite")
    for place, token in enumerate(tokens):
        if (
            token.text.upper() == "CHECK"
            and place + 1 < len(tokens)
            and tokens[place + 1].text == "("
        ):
            depth = 0
            for end in tokens[place + 1 :]:
                depth += (end.text == "(") - (end.text == ")")
                if not depth:
                    yield sql[tokens[place + 1].start : end.end + 1]
                    break


def find_collations(sql: str) -> dict[str, str]:
    """The COLLATE of each column of a CREATE TABLE statement, by lower-case column name. No pragma
    tells it."""
    found: dict[str, str] = {}
    depth, column, tokens = 0, "", sqlglot.tokenize(sql, read="sqlite")
    for before, token in zip(tokens, tokens[1:], strict=False):
        depth += (before.text == "(") - (token.text == ")")
        if depth == 1 and before.text in ("(", ","):
            column = token.text.lower()
        elif depth == 1 and before.text.upper() == "COLLATE" and token.text.upper() != "BINARY":
            found[column] = token.text
    return found


def _is_rowid_key(key: str, columns: list[tuple[Any, ...]], indexes: list[tuple[Any, ...]]) -> bool:
    """Whether a primary key is an INTEGER PRIMARY KEY, the row number itself: it alone has no index
    of its own."""
    declared = next(row[1] for row in columns if row[0] == key)
    return declared.upper() == "INTEGER" and not any(row[2] == "pk" for row in indexes)


def _row_number(columns: Iterable[Column]) -> str:
    """A name under which the row number can be reached, "" where its names are taken."""
    taken = {column.name.lower() for column in columns}
    return next((name for name in _ROW_NUMBERS if name not in taken), "")


def _references(
    tables: list[Table], rows: defaultdict[str, list[tuple[Any, ...]]], late: set[str]
) -> Iterable[Reference]:
    """`late` are the tables whose references may be checked at the commit.

    SQLite matches the names of tables and columns without case; `REFERENCES p` alone means p's
    primary key.
    """
    by_name = {table.name.name.lower(): table for table in tables}
    for child in tables:
        groups: defaultdict[int, list[tuple[Any, ...]]] = defaultdict(list)
        for number, _, parent, column, to, *ruled in rows[child.name.name]:
            groups[number].append((parent, column, to, *ruled))
        for group in groups.values():
            parent_name, _, to, deleting, updating = group[0]
            parent = by_name.get(parent_name.lower())
            columns = tuple(_exact(child, column) for _, column, *_ in group)
            referred = (
                tuple(_exact(parent, target) for _, _, target, *_ in group) if parent and to else ()
            )
            if parent and not to:
                referred = parent.key
            yield Reference(
                "",
                child,
                columns,
                parent or _absent(parent_name),
                referred or tuple(target or "?" for _, _, target, *_ in group),
                ReferentialAction(deleting),
                columns,
                _fault(parent, parent_name, columns, referred),
                on_update=ReferentialAction(updating),
                late=child.name.name in late,
            )


def _exact(table: Table | None, name: str) -> str:
    names = table.column_names if table else ()
    return next((column for column in names if column.lower() == name.lower()), name)


def _absent(name: str) -> Table:
    return Table(TableName("main", name), name, "absent table", (), (), ())


def _fault(
    parent: Table | None, name: str, columns: tuple[str, ...], referred: tuple[str, ...]
) -> str:
    if parent is None:
        return f"The table {name} does not exist"
    unique = any(index.unique and set(index.columns) == set(referred) for index in parent.indexes)
    if len(columns) != len(referred) or not unique:
        return f"The referred columns of {parent.label} are not unique"
    return ""

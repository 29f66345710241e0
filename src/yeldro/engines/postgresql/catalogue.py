"""PostgreSQL's catalogue, read with one query a kind
(https://www.postgresql.org/docs/current/catalogs.html).

`information_schema` hides what the user may not read and joins constraints by name; `pg_catalog`
does neither.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Container, Iterable, Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

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

# Tables of people, and not those of the server or of sessions.
_OURS = "n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname !~ '^pg_(toast|temp)'"
_TABLES = f"""
SELECT c.oid, n.nspname, c.relname, c.relkind::text, c.relrowsecurity,
  CASE WHEN c.relkind = 'p' THEN ARRAY(SELECT t.relid::oid FROM pg_partition_tree(c.oid) AS t)
    ELSE ARRAY[]::oid[] END,
  c.relkind = 'r' AND EXISTS (SELECT 1 FROM pg_inherits AS i WHERE i.inhparent = c.oid),
  CASE WHEN c.relkind = 'v' THEN pg_get_viewdef(c.oid) ELSE '' END
FROM pg_class AS c JOIN pg_namespace AS n ON n.oid = c.relnamespace
WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {_OURS} ORDER BY n.nspname, c.relname"""
_COLUMNS = f"""
SELECT a.attrelid, a.attnum, a.attname, format_type(a.atttypid, a.atttypmod), t.typcategory::text,
  a.attnotnull AND IS_VALIDATED,
  coalesce(pg_get_expr(d.adbin, d.adrelid), pg_get_expr(t.typdefaultbin, 0)), a.attgenerated <> '',
  CASE WHEN l.oid IS NULL THEN '' WHEN l.collnamespace = 'pg_catalog'::regnamespace THEN
  quote_ident(l.collname)
    ELSE l.collnamespace::regnamespace::text || '.' || quote_ident(l.collname) END, a.atttypid
FROM pg_attribute AS a JOIN pg_class AS c ON c.oid = a.attrelid JOIN pg_namespace AS n ON n.oid =
c.relnamespace
JOIN pg_type AS t ON t.oid = a.atttypid LEFT JOIN pg_attrdef AS d ON d.adrelid = a.attrelid AND
d.adnum = a.attnum
LEFT JOIN pg_collation AS l ON l.oid = a.attcollation AND l.oid <>
'pg_catalog."default"'::regcollation
WHERE a.attnum > 0 AND NOT a.attisdropped AND c.relkind IN ('r', 'p', 'v', 'm', 'f') AND {_OURS}
ORDER BY a.attrelid, a.attnum"""
_INDEXES = f"""
SELECT i.indrelid, x.relname, i.indkey::int2[]::int[], i.indnkeyatts::int,
  i.indisunique AND i.indpred IS NULL AND i.indexprs IS NULL AND i.indisvalid AND i.indimmediate,
  i.indisprimary,
  s.is_special,
  CASE WHEN s.is_special THEN ARRAY(
    SELECT pg_get_indexdef(i.indexrelid, k, true) FROM generate_series(1, i.indnkeyatts) AS k) END,
  coalesce(pg_get_expr(i.indpred, i.indrelid), ''), NOT s.nulls_are_alike,
  CASE WHEN s.is_special THEN ARRAY(
    SELECT DISTINCT d.refobjsubid FROM pg_depend AS d WHERE d.classid = 'pg_class'::regclass
    AND d.objid = i.indexrelid AND d.refobjid = i.indrelid AND d.refobjsubid > 0)
    || i.indkey::int2[]::int[] END
FROM pg_index AS i JOIN pg_class AS x ON x.oid = i.indexrelid JOIN pg_class AS c ON c.oid =
i.indrelid
CROSS JOIN LATERAL (SELECT NULLS_ARE_ALIKE, i.indisunique AND (i.indpred IS NOT NULL
  OR i.indexprs IS NOT NULL OR NOT i.indimmediate OR NULLS_ARE_ALIKE)) AS s (nulls_are_alike,
  is_special)
JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE {_OURS} ORDER BY i.indrelid, x.relname"""
# What some versions of the server have, and what stands for it in older ones.
_SINCE = {
    "IS_VALIDATED": (
        180000,
        "NOT EXISTS (SELECT 1 FROM pg_constraint AS k WHERE k.conrelid = c.oid AND k.contype = 'n' "
        "AND NOT k.convalidated AND k.conkey = ARRAY[a.attnum])",
        "true",
    ),
    "NULLS_ARE_ALIKE": (150000, "i.indnullsnotdistinct", "false"),
    "IS_PERIOD": (180000, "k.conperiod", "false"),
    "IS_ENFORCED": (180000, "k.conenforced", "true"),
}
# A reference to or from a partitioned table has a copy for each partition (conparentid), which is
# none of its own.
_REFERENCES = """
WITH RECURSIVE copies (own, oid) AS (
  SELECT oid, oid FROM pg_constraint WHERE contype = 'f' AND conparentid = 0
  UNION ALL SELECT c.own, k.oid FROM copies AS c JOIN pg_constraint AS k ON k.conparentid = c.oid
  AND k.contype = 'f'
)
SELECT k.conname, k.conrelid, k.confrelid, k.conkey::int[], k.confkey::int[], k.confdeltype::text,
  CASE WHEN k.confdeltype IN ('n', 'd') THEN (to_jsonb(k) -> 'confdelsetcols')::text END,
  k.convalidated,
  k.oid IN (SELECT o.own FROM copies AS o JOIN pg_trigger AS g ON g.tgconstraint = o.oid
    WHERE g.tgenabled IN ('D', 'R')),
  k.conpfeqop::int8[], IS_PERIOD, IS_ENFORCED,
  k.confmatchtype = 'f', k.confupdtype::text
FROM pg_constraint AS k JOIN pg_class AS c ON c.oid = k.conrelid JOIN pg_namespace AS n ON n.oid =
c.relnamespace
WHERE k.contype = 'f' AND k.conparentid = 0
ORDER BY n.nspname, c.relname, k.conname"""
_OPERATORS = """
SELECT p.oid::int8, 'OPERATOR(' || p.oprnamespace::regnamespace::text || '.' || p.oprname || ')'
FROM pg_operator AS p WHERE p.oid IN (
  SELECT unnest(conpfeqop) FROM pg_constraint WHERE contype = 'f')"""
# The equality of the default ways to sort or hash a type, where it does not come with the server.
_EQUALITIES = """
SELECT DISTINCT ON (k.opcintype) k.opcintype,
  'OPERATOR(' || p.oprnamespace::regnamespace::text || '.' || p.oprname || ')'
FROM pg_opclass AS k JOIN pg_am AS m ON m.oid = k.opcmethod AND m.amname IN ('btree', 'hash')
JOIN pg_amop AS a ON a.amopfamily = k.opcfamily AND a.amoplefttype = k.opcintype AND
a.amoprighttype = k.opcintype
  AND a.amopstrategy = CASE m.amname WHEN 'btree' THEN 3 ELSE 1 END
JOIN pg_operator AS p ON p.oid = a.amopopr
WHERE k.opcdefault AND p.oprnamespace <> 'pg_catalog'::regnamespace ORDER BY k.opcintype,
m.amname"""
# A domain compares like the type below it.
_DOMAINS = "SELECT oid, typbasetype FROM pg_type WHERE typtype = 'd'"
_CHECKS = (
    "SELECT conrelid, pg_get_expr(conbin, conrelid) FROM pg_constraint WHERE contype = 'c' AND "
    "conrelid <> 0"
)
# What a deletion would fail on
# (https://www.postgresql.org/docs/current/logical-replication-publication.html).
_UNPUBLISHABLE = """
SELECT c.oid, min(u.pubname) FROM pg_publication_tables AS t JOIN pg_publication AS u ON u.pubname
= t.pubname
JOIN pg_namespace AS n ON n.nspname = t.schemaname
JOIN pg_class AS r ON r.relnamespace = n.oid AND r.relname = t.tablename
JOIN LATERAL (
  SELECT r.oid WHERE r.relkind <> 'p'
  UNION ALL SELECT p.relid FROM pg_partition_tree(r.oid) AS p WHERE r.relkind = 'p' AND p.isleaf
) AS leaf (oid) ON true
JOIN pg_class AS c ON c.oid = leaf.oid
WHERE (u.pubdelete OR u.pubupdate) AND (c.relreplident = 'n' OR c.relreplident = 'd' AND NOT EXISTS
(
  SELECT 1 FROM pg_index AS i WHERE i.indrelid = c.oid AND i.indisprimary)) GROUP BY c.oid"""
_TRIGGERS = f"""
SELECT g.tgrelid, g.tgname, g.tgtype::int, g.tgenabled::text
FROM pg_trigger AS g JOIN pg_class AS c ON c.oid = g.tgrelid
JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE NOT g.tgisinternal AND {_OURS}
UNION ALL
SELECT r.ev_class, r.rulename, -r.ev_type::text::int, r.ev_enabled::text
FROM pg_rewrite AS r JOIN pg_class AS c ON c.oid = r.ev_class
JOIN pg_namespace AS n ON n.oid = c.relnamespace WHERE r.ev_type IN ('2', '4') AND {_OURS}
ORDER BY 1, 2"""

_KINDS = {"r": "table", "p": "table", "v": "view", "m": "materialized view", "f": "foreign table"}
_RULES = {
    "a": ReferentialAction.NO_ACTION,
    "r": ReferentialAction.RESTRICT,
    "c": ReferentialAction.CASCADE,
    "n": ReferentialAction.SET_NULL,
    "d": ReferentialAction.SET_DEFAULT,
}
# By pg_type.oid, which is fixed for the types that come with the server.
_FAMILIES = {
    16: Family.BOOLEAN,
    **dict.fromkeys((20, 21, 23), Family.INTEGER),
    1082: Family.DATE,
    **dict.fromkeys((1114, 1184), Family.TIMESTAMP),
}
# The server's own groups of types, for types that we do not know by name.
_CATEGORIES = {"N": Family.NUMBER, "S": Family.TEXT}

Rows = defaultdict[int, list[tuple[Any, ...]]]


def read_schema(gate: Gate, path: Sequence[str]) -> Schema:
    """Read everything about the tables of all schemas but the system's.

    `path` are the schemas in which a bare name is looked for, the first one first. The session's
    own search path must hold nothing but pg_catalog meanwhile, so that all that the server writes
    is named in full.
    """
    rows = gate.read(_TABLES)
    names = {row[0]: TableName(row[1], row[2]) for row in rows}
    version = int(gate.read("SHOW server_version_num")[0][0])
    columns, indexes, triggers = (
        _by_table(gate.read(_fit(query, version))) for query in (_COLUMNS, _INDEXES, _TRIGGERS)
    )
    unpublishable = {
        names[oid]: publication for oid, publication in _find_unpublishable(gate) if oid in names
    }
    equalities, domains = dict(gate.read(_EQUALITIES)), dict(gate.read(_DOMAINS))
    numbered = {oid: {row[0]: row[1] for row in columns[oid]} for oid in names}
    bare = _find_bare(names.values(), path)

    def find_equality(type_: int) -> str:
        while type_ in domains:
            type_ = domains[type_]
        return str(equalities.get(type_, ""))

    tables = {
        row[0]: _make_table(
            row, names, bare, columns[row[0]], indexes[row[0]], triggers[row[0]], find_equality
        )
        for row in rows
    }
    checks = _by_table(gate.read(_CHECKS))
    tables = {
        oid: replace(table, checks=tuple(row[0] for row in checks[oid]))
        for oid, table in tables.items()
    }
    tables = {oid: _with_refusal(table, tables, unpublishable) for oid, table in tables.items()}
    constraints, operators = gate.read(_fit(_REFERENCES, version)), dict(gate.read(_OPERATORS))
    references = [
        _reference(tables, numbered, operators, row)
        for row in constraints
        if row[1] in tables and row[2] in tables
    ]
    return Schema(tuple(tables.values()), tuple(references))


def _find_unpublishable(gate: Gate) -> list[tuple[Any, ...]]:
    return gate.read(_UNPUBLISHABLE) if gate.read("SELECT 1 FROM pg_publication LIMIT 1") else []


def _fit(query: str, version: int) -> str:
    """A query as a server of this version can run it."""
    for name, (since, text, before) in _SINCE.items():
        query = query.replace(name, text if version >= since else before)
    return query


def _find_bare(names: Iterable[TableName], path: Sequence[str]) -> set[TableName]:
    """The tables that a bare name means: in the first schema of the path that has one of the
    name.
    """
    found: dict[str, TableName] = {}
    for schema in path:
        for name in names:
            if name.schema == schema:
                found.setdefault(name.name, name)
    return set(found.values())


def _by_table(found: Iterable[tuple[Any, ...]]) -> Rows:
    rows: Rows = defaultdict(list)
    for row in found:
        rows[row[0]].append(row[1:])
    return rows


def _make_table(
    row: tuple[Any, ...],
    names: dict[int, TableName],
    bare: Container[TableName],
    columns: list[tuple[Any, ...]],
    indexes: list[tuple[Any, ...]],
    triggers: list[tuple[Any, ...]],
    find_equality: Callable[[int], str],
) -> Table:
    oid, schema, name, kind, row_security, parts, is_inherited, definition = row
    numbers = {column[0]: column[1] for column in columns}
    found, primary = [], []
    for index, keys, size, unique, is_primary, *_ in indexes:
        names_of = tuple(numbers.get(number, "") for number in keys[:size])
        found.append(Index(index, names_of, unique))
        primary += [names_of] * is_primary
    key = primary[0] if primary else ()
    filled = {column[1] for column in columns if column[4]}
    return Table(
        names[oid],
        name if names[oid] in bare else f"{schema}.{name}",
        _KINDS[kind],
        tuple(_column(column, find_equality) for column in columns),
        key,
        key or _find_identity(found, filled, kind),
        tuple(found),
        tuple(Trigger(one, _event(bits), enabled in "OA") for one, bits, enabled in triggers),
        refusal=_refusal(is_inherited, columns),
        row_security=row_security,
        parts=frozenset(names[part] for part in parts if part in names),
        definition=definition,
        specials=tuple(_find_specials(indexes, numbers)),
    )


def _find_identity(indexes: Sequence[Index], filled: set[str], kind: str) -> tuple[str, ...]:
    """Unique columns without NULLs, else where the row lies, () for what holds no rows."""
    for index in indexes:
        if index.unique and set(index.columns) <= filled:
            return index.columns
    return ("tableoid", "ctid") if kind in "rp" else ()


def _find_specials(
    indexes: Sequence[tuple[Any, ...]], numbers: Mapping[int, str]
) -> Iterator[Unique]:
    """Unique indexes on more, or less, than plain columns of all rows."""
    for _, _, _, _, _, is_special, texts, when, differ, uses in indexes:
        if is_special:
            used = frozenset(numbers[use] for use in uses if use in numbers)
            yield Unique(tuple(texts), used, tuple(texts), when, differ)


def _refusal(is_inherited: bool, columns: Sequence[tuple[Any, ...]]) -> str:
    if is_inherited:
        return "other tables inherit from it, and references do not see their rows"
    return "" if columns else "it has no columns, so nothing of its rows could be kept"


def _with_refusal(
    table: Table, tables: Mapping[int, Table], unpublishable: Mapping[TableName, str]
) -> Table:
    """With why its rows cannot be deleted, where that is so of it or of one of its partitions."""
    foreign = [
        one.label
        for one in tables.values()
        if one.kind == "foreign table" and one.name in table.parts
    ]
    if table.refusal or table.kind != "table":
        return table
    if foreign:
        return replace(
            table,
            refusal=f"its partition {foreign[0]} is a foreign table, which cannot be locked or "
            "counted",
        )
    for name in sorted({table.name, *table.parts} & set(unpublishable)):
        place = "it" if name == table.name else f"its partition {name.name}"
        reason = (
            f"the publication {unpublishable[name]} publishes {place}, which has no replica "
            "identity"
        )
        return replace(table, refusal=reason)
    return table


def _column(row: tuple[Any, ...], find_equality: Callable[[int], str]) -> Column:
    _, name, type_, category, not_null, default, generated, collation, plain = row
    family = _FAMILIES.get(plain) or _CATEGORIES.get(category, Family.OTHER)
    return Column(
        name,
        type_,
        family,
        not not_null,
        default,
        generated,
        collation,
        equality=find_equality(plain),
    )


def _event(bits: int) -> str:
    """The bits of pg_trigger.tgtype; rules come as the negated pg_rewrite.ev_type."""
    if bits < 0:
        return f"RULE {'DELETE' if bits == -4 else 'UPDATE'}"
    time = "BEFORE" if bits & 2 else "INSTEAD OF" if bits & 64 else "AFTER"
    verbs = [
        verb
        for bit, verb in ((4, "INSERT"), (8, "DELETE"), (16, "UPDATE"), (32, "TRUNCATE"))
        if bits & bit
    ]
    return f"{time} {' OR '.join(verbs)}"


def _reference(
    tables: dict[int, Table],
    numbered: dict[int, dict[int, str]],
    signs: dict[int, str],
    row: tuple[Any, ...],
) -> Reference:
    (
        name,
        child,
        parent,
        keys,
        referred,
        rule,
        some,
        validated,
        disabled,
        compared_by,
        period,
        enforced,
        full,
        updating,
    ) = row
    columns = _names(numbered[child], keys)
    chosen = (
        [int(part) for part in some.strip("[]").split(",")]
        if some and some not in ("null", "[]")
        else keys
    )
    there = _names(numbered[parent], referred)
    operators = [signs[one] for one in compared_by]
    fault = ""
    if period:
        # A row may be covered by several rows together: by the other columns alone it is told that
        # one may be meant.
        fault = (
            f"The reference {name} of {tables[child].label} compares periods, which is not followed"
        )
        columns, there, operators, chosen = columns[:-1], there[:-1], operators[:-1], keys[:-1]
    ends = [(tables[child], columns), (tables[parent], there)]
    is_special = any(one.column(own).equality for one, names in ends for own in names)
    is_special = is_special or any("(pg_catalog." not in one for one in operators)
    return Reference(
        name,
        tables[child],
        columns,
        tables[parent],
        there,
        _RULES[rule],
        _names(numbered[child], chosen),
        fault,
        enforced=validated and not disabled and enforced,
        operators=tuple(operators) if is_special else (),
        match_full=full,
        on_update=_RULES[updating],
    )


def _names(numbers: dict[int, str], keys: Iterable[int]) -> tuple[str, ...]:
    return tuple(numbers[key] for key in keys)

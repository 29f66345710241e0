"""What tables are made of, of PostgreSQL: one query, as the system tables have it."""

from __future__ import annotations

from collections.abc import Collection

import sqlalchemy as sa

from yeldro.core.model.schema import TableName
from yeldro.core.model.shape import Shape
from yeldro.engines.shared.gate import Gate
from yeldro.engines.shared.shapes import gather

# Nothing here is written as a person would read it: that takes the server much longer, and depends
# on the search path. Long texts are digested.
_DIGEST = "pg_catalog.encode(pg_catalog.sha256(pg_catalog.convert_to(({})::text, 'UTF8')), 'hex')"
_WORDS = "pg_catalog.concat_ws(' ', {})"
_PARTS = f"""
WITH t AS MATERIALIZED (
  SELECT c.oid, n.nspname, c.relname, c.relkind, c.relrowsecurity, c.relforcerowsecurity,
    c.relispartition
  FROM pg_catalog.pg_class AS c JOIN pg_catalog.pg_namespace AS n ON n.oid = c.relnamespace
  WHERE c.relkind IN ('r', 'p') AND WANTED
)
SELECT nspname::text, relname::text, 'table', '',
  {_WORDS.format("oid, relkind, relrowsecurity, relforcerowsecurity, relispartition")}
FROM t
UNION ALL
SELECT t.nspname, t.relname, 'column', a.attname::text,
  {
    _WORDS.format(
        "a.atttypid, a.atttypmod, a.attnotnull, a.attgenerated, a.attidentity, a.attcollation, "
        + _DIGEST.format("d.adbin")
    )
}
FROM t JOIN pg_catalog.pg_attribute AS a ON a.attrelid = t.oid
LEFT JOIN pg_catalog.pg_attrdef AS d ON d.adrelid = a.attrelid AND d.adnum = a.attnum
WHERE a.attnum > 0 AND NOT a.attisdropped
UNION ALL
SELECT t.nspname, t.relname, 'check', k.conname::text,
  {_WORDS.format("k.convalidated, " + _DIGEST.format("k.conbin"))}
FROM t JOIN pg_catalog.pg_constraint AS k ON k.conrelid = t.oid AND k.contype = 'c'
UNION ALL
SELECT t.nspname, t.relname, 'unique', x.relname::text,
  {
    _WORDS.format(
        "i.indkey::text, i.indnkeyatts, i.indisvalid, i.indisprimary, i.indcollation::text, "
        "i.indclass::text, k.condeferrable, k.condeferred, k.conexclop::text, "
        + _DIGEST.format("i.indexprs")
        + ", "
        + _DIGEST.format("i.indpred")
    )
}
FROM t JOIN pg_catalog.pg_index AS i ON i.indrelid = t.oid AND (i.indisunique OR i.indisexclusion)
JOIN pg_catalog.pg_class AS x ON x.oid = i.indexrelid
LEFT JOIN pg_catalog.pg_constraint AS k ON k.conindid = i.indexrelid AND k.contype IN ('p', 'u',
'x')
UNION ALL
SELECT t.nspname, t.relname, 'reference', pg_catalog.concat(k.conname, ' of ', CASE n.nspname WHEN
  t.nspname THEN '' ELSE pg_catalog.concat(n.nspname, '.') END, c.relname),
  {
    _WORDS.format(
        "k.confrelid, k.confdeltype, k.confupdtype, k.confmatchtype, k.conkey::text, "
        "k.confkey::text, k.convalidated, k.condeferrable, k.condeferred, k.conpfeqop::text, "
        "pg_catalog.jsonb_extract_path(pg_catalog.to_jsonb(k), 'confdelsetcols')::text, "
        "pg_catalog.jsonb_extract_path(pg_catalog.to_jsonb(k), 'conenforced')::text"
    )
} || ' ' || ARRAY(
    SELECT g.tgenabled::text FROM pg_catalog.pg_trigger AS g WHERE g.tgconstraint = k.oid
    ORDER BY g.tgtype, g.tgrelid)::text
FROM t JOIN pg_catalog.pg_constraint AS k ON t.oid IN (k.conrelid, k.confrelid)
JOIN pg_catalog.pg_class AS c ON c.oid = k.conrelid
JOIN pg_catalog.pg_namespace AS n ON n.oid = c.relnamespace
WHERE k.contype = 'f' AND k.conparentid = 0
UNION ALL
SELECT t.nspname, t.relname, 'trigger', g.tgname::text,
  {
    _WORDS.format(
        "g.tgtype, g.tgenabled, g.tgfoid, g.tgattr::text, g.tgdeferrable, g.tginitdeferred, "
        "pg_catalog.encode(g.tgargs, 'hex'), p.prosecdef, p.proconfig::text, "
        + _DIGEST.format("g.tgqual")
        + ", "
        + _DIGEST.format("p.prosrc")
    )
}
FROM t JOIN pg_catalog.pg_trigger AS g ON g.tgrelid = t.oid AND NOT g.tgisinternal
JOIN pg_catalog.pg_proc AS p ON p.oid = g.tgfoid
UNION ALL
SELECT t.nspname, t.relname, 'rule', r.rulename::text,
  {
    _WORDS.format(
        "r.ev_type, r.ev_enabled, r.is_instead, "
        + _DIGEST.format("r.ev_qual")
        + ", "
        + _DIGEST.format("r.ev_action")
    )
}
FROM t JOIN pg_catalog.pg_rewrite AS r ON r.ev_class = t.oid
UNION ALL
SELECT t.nspname, t.relname, 'policy', p.polname::text,
  {
    _WORDS.format(
        "p.polcmd, p.polpermissive, p.polroles::text, "
        + _DIGEST.format("p.polqual")
        + ", "
        + _DIGEST.format("p.polwithcheck")
    )
}
FROM t JOIN pg_catalog.pg_policy AS p ON p.polrelid = t.oid
UNION ALL
SELECT t.nspname, t.relname, 'partition', c.relname::text, {_DIGEST.format("c.relpartbound")}
FROM t JOIN pg_catalog.pg_inherits AS i ON i.inhparent = t.oid
JOIN pg_catalog.pg_class AS c ON c.oid = i.inhrelid"""
_ALL = "n.nspname NOT IN ('pg_catalog', 'information_schema') AND n.nspname !~ '^pg_(toast|temp)'"
# Of functions and operators only those are called that come with the server.
SOME = (
    "(n.nspname::text, c.relname::text) IN (SELECT * FROM ROWS FROM (pg_catalog.unnest(:schemas), "
    "pg_catalog.unnest(:tables)))"
)


def read_shape(gate: Gate, tables: Collection[TableName] | None) -> Shape:
    """The shape of some tables, or of all."""
    statement = sa.text(_PARTS.replace("WANTED", _ALL if tables is None else SOME))
    if tables is not None:
        array = sa.ARRAY(sa.Text())
        names = split_names(tables)
        statement = statement.bindparams(
            *(sa.bindparam(key, value, type_=array) for key, value in names.items())
        )
    return gather(map(tuple, gate.run(statement)))


def split_names(tables: Collection[TableName]) -> dict[str, list[str]]:
    """Names as the two arrays that a statement takes them as."""
    return {
        "schemas": [name.schema for name in tables],
        "tables": [name.name for name in tables],
    }

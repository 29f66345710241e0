"""What functions of PostgreSQL do, by its catalogue
(https://www.postgresql.org/docs/current/catalog-pg-proc.html)."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import AbstractContextManager
from typing import Any

import sqlalchemy as sa

from yeldro.core.model.schema import Schema, Table
from yeldro.core.selection.calls import Calls, find_calls
from yeldro.engines.shared.calls import Judge, Unsafe
from yeldro.engines.shared.gate import Gate

# Volatile, because each call gives another answer, and nothing else.
_HARMLESS = {
    *(
        "random",
        "random_normal",
        "clock_timestamp",
        "timeofday",
        "gen_random_uuid",
        "uuidv4",
        "uuidv7",
    ),
    *(
        "uuid_generate_v1",
        "uuid_generate_v1mc",
        "uuid_generate_v4",
        "gen_random_bytes",
        "pg_is_in_recovery",
    ),
    *(
        "pg_relation_size",
        "pg_table_size",
        "pg_indexes_size",
        "pg_total_relation_size",
        "pg_database_size",
    ),
}
# The operators that words of the grammar look for.
_IMPLIED = {
    **dict.fromkeys(
        ("in", "any", "all", "some", "nullif", "distinct", "case", "using", "natural"), ("=", "<>")
    ),
    "between": ("<=", ">=", "<", ">"),
    "like": ("~~", "!~~"),
    "ilike": ("~~*", "!~~*"),
    "similar": ("~", "!~"),
}
# From this number on objects were made after the server was (FirstNormalObjectId).
_OWN = 16384
# What a function is, and what its body calls: it is as safe as the least safe of these.
_COLUMNS = f"""
SELECT p.oid::bigint, n.nspname, p.proname, p.provolatile::text, l.lanname, l.lanpltrusted,
  p.oid < {_OWN} OR EXISTS (SELECT 1 FROM pg_depend AS d
    WHERE d.classid = 'pg_proc'::regclass AND d.objid = p.oid AND d.deptype = 'e'),
  p.pronargs = 1 AND EXISTS (SELECT 1 FROM pg_type AS t WHERE t.oid = p.proargtypes[0] AND
  t.typtype IN ('c', 'p')),
  CASE WHEN p.prokind = 'a' THEN (SELECT a.aggtransfn::text || ' ( ' || a.aggfinalfn::text || ' ( '
      FROM pg_aggregate AS a WHERE a.aggfnoid = p.oid)
    WHEN p.oid >= {_OWN} AND l.lanname IN ('sql', 'plpgsql') THEN pg_get_functiondef(p.oid) ELSE ''
    END
FROM pg_proc AS p JOIN pg_namespace AS n ON n.oid = p.pronamespace JOIN pg_language AS l ON l.oid =
p.prolang"""
_BY_NAME = f"{_COLUMNS} WHERE lower(p.proname) = ANY (:names)"
# Operators and casts that somebody made here: a condition may use them without naming a function.
_BY_SIGN = f"""
SELECT o.oprname, f.* FROM ({_COLUMNS}) AS f JOIN pg_operator AS o ON o.oprcode::oid::bigint = f.oid
WHERE o.oid >= {_OWN}"""


class PostgresqlJudge(Judge):
    """`own_path` makes texts of ours mean what comes with the server; `path` is where bare names
    are looked for."""

    def __init__(
        self,
        gate: Gate,
        own_path: Callable[[], AbstractContextManager[None]],
        schema: Schema,
        path: Collection[str],
    ) -> None:
        super().__init__()
        self._gate = gate
        self._own_path = own_path
        self._schemas = {"pg_catalog", *path}
        self._views: dict[str, list[Table]] = {}
        for table in schema.tables:
            if table.definition:
                self._views.setdefault(table.name.name.lower(), []).append(table)
        self._signs: list[tuple[Any, ...]] | None = None
        self._known: dict[int, Unsafe | None] = {}

    def find_unsafe(self, text: str, calls: Calls) -> Iterator[Unsafe]:
        """What a text calls, and what that calls: by its signs, in views, by name."""
        yield from self._find_by_sign(text, calls)
        for word in sorted(calls.words):
            for view in self._views.get(word, ()):
                inner = find_calls(view.definition)
                for found in self.find_unsafe("", inner) if view.definition else ():
                    yield Unsafe(found.name, f"the view {view.label} calls it, and {found.reason}")
        if wanted := calls.names | calls.parts:
            yield from self._find_by_name(sorted(wanted), calls)

    def _find_by_sign(self, text: str, calls: Calls) -> Iterator[Unsafe]:
        if self._signs is None:
            with self._own_path():
                self._signs = self._gate.read(_BY_SIGN)
        implied = [sign for word in calls.words for sign in _IMPLIED.get(word, ())]
        for sign, *function in self._signs:
            if sign in text or sign in implied:
                if found := self._judge(tuple(function)):
                    yield Unsafe(found.name, f"the operator {sign} calls it, and {found.reason}")

    def _find_by_name(self, names: Sequence[str], calls: Calls) -> Iterator[Unsafe]:
        with self._own_path():
            functions = list(self._gate.run(sa.text(_BY_NAME).bindparams(names=names)))
        for function in map(tuple, functions):
            schema, name, is_attribute = function[1], function[2].lower(), function[7]
            is_meant = name in calls.names or is_attribute
            if is_meant and schema in self._schemas | calls.words:
                if found := self._judge(function):
                    yield found

    def _judge(self, function: tuple[Any, ...]) -> Unsafe | None:
        oid = function[0]
        if oid not in self._known:
            self._known[oid] = None  # one that calls itself is judged by the rest of what it does
            self._known[oid] = self._judge_anew(function)
        return self._known[oid]

    def _judge_anew(self, function: tuple[Any, ...]) -> Unsafe | None:
        _, _, name, volatility, language, is_trusted, is_delivered, _, body = function
        if volatility == "v" and name not in _HARMLESS:
            return Unsafe(name, "the database calls it VOLATILE, so it may write, lock or wait")
        if is_delivered:
            return None
        if not body:
            way = "" if is_trusted else ", which may do anything"
            return Unsafe(name, f"it is written in {language}{way}")
        calls = find_calls(body)
        if language == "plpgsql" and "execute" in calls.words:
            return Unsafe(name, "it puts statements together while it runs")
        for found in self.find_unsafe("", calls):
            if found.name.lower() not in self.allowed:
                return Unsafe(name, f"it calls {found.name}")
        return None

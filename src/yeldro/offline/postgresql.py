"""Scripts for PostgreSQL from a schema file, in PL/pgSQL. It is an engine that we do connect to: it
shows that the statements are right."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects.postgresql.base import PGDialect

from yeldro.core.model.values import Value
from yeldro.offline.script_entries import Make
from yeldro.offline.target import Parts, ProceduralTarget, find_tag


class Postgresql(ProceduralTarget):
    dialect, title = "postgres", "PostgreSQL"
    client = "psql -v ON_ERROR_STOP=1 -f FILE DATABASE"

    def make_dialect(self) -> sa.Dialect:
        return PGDialect()  # type: ignore[no-untyped-call]  # its own constructor is not typed

    def literal(self, value: Value) -> str:
        return str(value).upper() if isinstance(value, bool) else super().literal(value)

    def make(self, entry: Make) -> str:
        kind = "TABLE" if entry.lasting else "TEMPORARY TABLE"
        return f"CREATE {kind} {entry.name} AS {entry.query};"

    def assign(self, variable: str, query: str) -> str:
        return f"{variable} := ({query});"

    def assign_touched(self, variable: str) -> str:
        return f"GET DIAGNOSTICS {variable} = ROW_COUNT;"

    def raise_error(self, message: str) -> str:
        return f"RAISE EXCEPTION USING MESSAGE = {self.text(message)};"

    def frame(self, script: Parts, *, dry: bool) -> list[str]:
        tag = find_tag(script.lines)
        return [
            "BEGIN ISOLATION LEVEL SERIALIZABLE;",
            *script.early,
            f"DO {tag}",
            "DECLARE yeldro_wanted bigint; yeldro_found bigint; yeldro_added bigint;",
            "BEGIN",
            *script.lines,
            f"END {tag};",
            *script.late,
            *(f"DROP TABLE {name};" for name in script.keys),
            "ROLLBACK;" if dry else "COMMIT;",
        ]

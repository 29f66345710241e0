"""Scripts for Oracle, in PL/SQL."""

from __future__ import annotations

import re
from collections.abc import Iterator

import sqlalchemy as sa
from sqlalchemy.dialects.oracle.base import OracleDialect

from yeldro.offline.script_entries import Make
from yeldro.offline.target import Parts, ProceduralTarget

# Letters of a line: sqlplus refuses more than 2,499.
_LONGEST = 2000


class Oracle(ProceduralTarget):
    dialect, title = "oracle", "Oracle"
    tells_blank = False
    client = "sqlplus -L USER@DATABASE @FILE"

    def make_dialect(self) -> sa.Dialect:
        return OracleDialect()

    def make(self, entry: Make) -> str:
        kind = "TABLE" if entry.lasting else "GLOBAL TEMPORARY TABLE"
        kept = "" if entry.lasting else " ON COMMIT DELETE ROWS"
        return f"CREATE {kind} {entry.name}{kept} AS {entry.query};"

    def assign(self, variable: str, query: str) -> str:
        return f"SELECT ({query}) INTO {variable} FROM DUAL;"

    def assign_touched(self, variable: str) -> str:
        return f"{variable} := SQL%ROWCOUNT;"

    def raise_error(self, message: str) -> str:
        return f"RAISE_APPLICATION_ERROR(-20001, {self.text(message)});"

    def frame(self, script: Parts, *, dry: bool) -> list[str]:
        whole = [
            "WHENEVER SQLERROR EXIT FAILURE ROLLBACK",
            "SET DEFINE OFF",
            *script.early,
            "DECLARE",
            "yeldro_wanted NUMBER := 0;",
            "yeldro_found NUMBER := 0;",
            "yeldro_added NUMBER := 0;",
            "BEGIN",
            "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
            *script.lines,
            "ROLLBACK;" if dry else "COMMIT;",
            "EXCEPTION WHEN OTHERS THEN",
            "ROLLBACK;",
            "RAISE;",
            "END;",
            "/",
            # An index commits there, and tables outlive a rollback.
            *([] if dry else script.late),
            *(f"DROP TABLE {name};" for name in script.keys),
        ]
        return [part for text in whole for line in text.split("\n") for part in _fold(line)]


def _fold(line: str) -> Iterator[str]:
    """Its client takes no longer lines than this. They can be cut at a blank that stands in no
    quotes."""
    while len(line) > _LONGEST:
        quoted = re.compile(r"""'[^']*'|"[^"]*"|[^'" ]+""")
        ends = [found.end() for found in quoted.finditer(line)]
        blanks = [end for end in ends if line[end : end + 1] == " "]
        cut = max((place for place in blanks if place <= _LONGEST), default=min(blanks, default=0))
        if not cut:
            break
        yield line[:cut]
        line = line[cut + 1 :]
    yield line

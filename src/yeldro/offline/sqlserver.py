"""Scripts for SQL Server, in Transact-SQL."""

from __future__ import annotations

from collections.abc import Sequence
from datetime import date, datetime
from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects.mssql.base import MSDialect

from yeldro.core.model.values import Value
from yeldro.offline.script_entries import Make
from yeldro.offline.target import Parts, Target


class SqlServer(Target):
    dialect, title = "tsql", "SQL Server"
    client = "sqlcmd -b -x -I -i FILE"  # an error ends it, $(…) is no variable, "…" is a name
    wanted, found, added = "@wanted", "@found", "@added"

    def make_dialect(self) -> sa.Dialect:
        return MSDialect()  # type: ignore[no-untyped-call]  # its own constructor is not typed

    def key_name(self, name: str) -> str:
        return f"#{name}"

    def make_text(self, length: int) -> Any:
        return sa.Unicode(length)

    def literal(self, value: Value) -> str:
        if isinstance(value, datetime | date):
            kind = "datetime2" if isinstance(value, datetime) else "date"
            return f"CAST('{value.isoformat()}' AS {kind})"
        return super().literal(value)

    def text(self, message: str) -> str:
        return f"N{super().text(message)}"

    def make(self, entry: Make) -> str:
        # The union keeps an IDENTITY column from being one in the copy, which then could not be
        # written.
        rows = f"{entry.query} UNION ALL {entry.query}"
        names = ", ".join(entry.columns)
        return f"SELECT {names} INTO {entry.name} FROM ({rows}) AS yeldro_empty;"

    def assign(self, variable: str, query: str) -> str:
        return f"SET {variable} = ({query});"

    def assign_touched(self, variable: str) -> str:
        return f"SET {variable} = @@ROWCOUNT;"

    def count_added(self) -> list[str]:
        return ["SET @added = @added + @@ROWCOUNT;"]

    def fail_if(self, condition: str, message: str) -> str:
        return f"IF {condition} BEGIN; THROW 50001, {self.text(message)}, 1; END;"

    def repeat(self, lines: Sequence[str]) -> list[str]:
        return ["SET @added = 1;", "WHILE @added > 0", "BEGIN", "SET @added = 0;", *lines, "END;"]

    def frame(self, script: Parts, *, dry: bool) -> list[str]:
        return [
            "SET XACT_ABORT ON;",
            "SET NOCOUNT ON;",
            "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
            "DECLARE @wanted BIGINT = 0, @found BIGINT = 0, @added BIGINT = 0;",
            "BEGIN TRY",
            "BEGIN TRANSACTION;",
            *script.early,
            *script.lines,
            *script.late,
            *([] if dry else [f"DROP TABLE {name};" for name in script.keys]),
            "ROLLBACK TRANSACTION;" if dry else "COMMIT TRANSACTION;",
            "END TRY",
            "BEGIN CATCH",
            "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION;",
            "THROW;",
            "END CATCH;",
        ]

"""What is particular to each engine that a script is written for from a schema file."""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import date, datetime
from itertools import count

from sqlglot import exp

from yeldro.core.model.schema import Table
from yeldro.core.model.values import Value
from yeldro.errors import UsageError

_LONGEST = 2000
_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


class Target(ABC):
    """What is particular to one engine. `dialect` is its name for the parser, `client` how its own
    client runs a file, `words` the type of a text of some length."""

    dialect: str
    title: str
    client: str
    words = "VARCHAR"

    def __init__(self, quoted: frozenset[str] = frozenset()) -> None:
        self.quoted = quoted

    def name(self, text: str) -> str:
        plain = _PLAIN.fullmatch(text) and text not in self.quoted
        return text if plain else exp.to_identifier(text, quoted=True).sql(dialect=self.dialect)

    def table(self, table: Table) -> str:
        schema = f"{self.name(table.name.schema)}." if table.name.schema else ""
        return f"{schema}{self.name(table.name.name)}"

    def key_name(self, name: str) -> str:
        return name

    def literal(self, value: Value) -> str:
        match value:
            case None:
                return "NULL"
            case bool():
                return str(int(value))
            case datetime():
                return f"TIMESTAMP '{value.isoformat(' ')}'"
            case date():
                return f"DATE '{value.isoformat()}'"
            case str():
                return "'" + value.replace("'", "''") + "'"
            case bytes():
                raise UsageError("Binary values cannot be written into a script.")
            case _:
                return str(value)

    @abstractmethod
    def make(
        self, name: str, columns: Sequence[str], table: str, *, lasting: bool
    ) -> list[str]: ...

    def first(self, query: str, limit: int) -> str:
        return f"{query} FETCH FIRST {limit} ROWS ONLY"

    @abstractmethod
    def change(self, statement: str, wanted: str, message: str) -> list[str]:
        """A statement that must touch as many rows as `SELECT COUNT(*)` finds in `wanted` before
        it."""

    @abstractmethod
    def grow(self, statement: str) -> list[str]:
        """A statement in a loop: what it adds is counted."""

    @abstractmethod
    def loop(self, lines: Sequence[str]) -> list[str]:
        """Again and again, until nothing is added."""

    @abstractmethod
    def none(self, rows: str, message: str) -> list[str]:
        """There must be none of the rows that `SELECT COUNT(*)` finds."""

    @abstractmethod
    def frame(
        self,
        early: Sequence[str],
        lines: Sequence[str],
        late: Sequence[str],
        drop: Sequence[str],
        *,
        dry: bool,
    ) -> list[str]:
        """The whole script: before the transaction, in it, and after it. `drop` are the key
        tables.
        """

    def text(self, message: str) -> str:
        return "'" + message.replace("'", "''") + "'"

    def is_blank(self, cell: str) -> str:
        return f"LTRIM(RTRIM({cell})) = ''"


class SqlServer(Target):
    dialect, title, words = "tsql", "SQL Server", "NVARCHAR"
    client = "sqlcmd -b -x -I -i FILE"  # an error ends it, $(…) is no variable, "…" is a name

    def key_name(self, name: str) -> str:
        return f"#{name}"

    def literal(self, value: Value) -> str:
        if isinstance(value, datetime | date):
            kind = "datetime2" if isinstance(value, datetime) else "date"
            return f"CAST('{value.isoformat()}' AS {kind})"
        return self.text(value) if isinstance(value, str) else super().literal(value)

    def text(self, message: str) -> str:
        return f"N{super().text(message)}"

    def make(self, name: str, columns: Sequence[str], table: str, *, lasting: bool) -> list[str]:
        # The union keeps an IDENTITY column from being one in the copy, which then could not be
        # written.
        empty = f"FROM {table} WHERE 1 = 0"
        plain = ", ".join(column.rpartition(" AS ")[2] for column in columns)
        rows = f"SELECT {', '.join(columns)} {empty} UNION ALL SELECT {', '.join(columns)} {empty}"
        return [f"SELECT {plain} INTO {name} FROM ({rows}) AS yeldro_empty;"]

    def first(self, query: str, limit: int) -> str:
        return f"{query} OFFSET 0 ROWS FETCH NEXT {limit} ROWS ONLY"

    def change(self, statement: str, wanted: str, message: str) -> list[str]:
        return [
            f"SELECT @wanted = COUNT(*) {wanted};",
            f"{statement};",
            "SET @found = @@ROWCOUNT;",
            f"IF @found <> @wanted BEGIN; THROW 50001, {self.text(message)}, 1; END;",
        ]

    def grow(self, statement: str) -> list[str]:
        return [f"{statement};", "SET @added = @added + @@ROWCOUNT;"]

    def loop(self, lines: Sequence[str]) -> list[str]:
        return ["SET @added = 1;", "WHILE @added > 0", "BEGIN", "SET @added = 0;", *lines, "END;"]

    def none(self, rows: str, message: str) -> list[str]:
        return [
            f"IF (SELECT COUNT(*) {rows}) > 0 BEGIN; THROW 50001, {self.text(message)}, 1; END;"
        ]

    def frame(
        self,
        early: Sequence[str],
        lines: Sequence[str],
        late: Sequence[str],
        drop: Sequence[str],
        *,
        dry: bool,
    ) -> list[str]:
        ending = "ROLLBACK TRANSACTION;" if dry else "COMMIT TRANSACTION;"
        start = [
            "SET XACT_ABORT ON;",
            "SET NOCOUNT ON;",
            "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;",
        ]
        declared = "DECLARE @wanted BIGINT = 0, @found BIGINT = 0, @added BIGINT = 0;"
        caught = ["BEGIN CATCH", "IF @@TRANCOUNT > 0 ROLLBACK TRANSACTION;", "THROW;", "END CATCH;"]
        dropped = [] if dry else [f"DROP TABLE {name};" for name in drop]
        return [
            *start,
            declared,
            "BEGIN TRY",
            "BEGIN TRANSACTION;",
            *early,
            *lines,
            *late,
            *dropped,
            ending,
            "END TRY",
            *caught,
        ]


class _Procedural(Target):
    """PL/SQL and PL/pgSQL, which have most of their words in common."""

    @abstractmethod
    def raised(self, message: str) -> str: ...

    @abstractmethod
    def found(self) -> str: ...

    def count(self, into: str, rows: str) -> str:
        return f"SELECT COUNT(*) INTO {into} {rows};"

    def change(self, statement: str, wanted: str, message: str) -> list[str]:
        return [
            self.count("yeldro_wanted", wanted),
            f"{statement};",
            self.found(),
            f"IF yeldro_found <> yeldro_wanted THEN {self.raised(message)} END IF;",
        ]

    def grow(self, statement: str) -> list[str]:
        return [f"{statement};", self.found(), "yeldro_added := yeldro_added + yeldro_found;"]

    def loop(self, lines: Sequence[str]) -> list[str]:
        return [
            "yeldro_added := 1;",
            "WHILE yeldro_added > 0 LOOP",
            "yeldro_added := 0;",
            *lines,
            "END LOOP;",
        ]

    def none(self, rows: str, message: str) -> list[str]:
        return [
            self.count("yeldro_found", rows),
            f"IF yeldro_found > 0 THEN {self.raised(message)} END IF;",
        ]


def find_tag(texts: Iterable[str]) -> str:
    """What a text in PostgreSQL's dollar quotes begins and ends with: something that none of these
    holds."""
    whole = "\n".join(texts)
    return next(tag for number in count() if (tag := f"$yeldro{number or ''}$") not in whole)


def _fold(line: str) -> Iterator[str]:
    """Its client takes no longer lines than this. They can be cut at a blank that stands in no
    quotes."""
    while len(line) > _LONGEST:
        quoted = re.compile(r"""'[^']*'|"[^"]*"|[^'" ]+""")
        blanks = [
            found.end()
            for found in quoted.finditer(line)
            if line[found.end() : found.end() + 1] == " "
        ]
        cut = max((place for place in blanks if place <= _LONGEST), default=min(blanks, default=0))
        if not cut:
            break
        yield line[:cut]
        line = line[cut + 1 :]
    yield line


class Oracle(_Procedural):
    dialect, title, words = "oracle", "Oracle", "VARCHAR2"
    client = "sqlplus -L USER@DATABASE @FILE"

    def is_blank(self, cell: str) -> str:
        return f"TRIM({cell}) IS NULL"  # an empty text is NULL there

    def make(self, name: str, columns: Sequence[str], table: str, *, lasting: bool) -> list[str]:
        kind = "TABLE" if lasting else "GLOBAL TEMPORARY TABLE"
        kept = "" if lasting else " ON COMMIT DELETE ROWS"
        return [
            f"CREATE {kind} {name}{kept} AS SELECT {', '.join(columns)} FROM {table} WHERE 1 = 0;"
        ]

    def raised(self, message: str) -> str:
        return f"RAISE_APPLICATION_ERROR(-20001, {self.text(message)});"

    def found(self) -> str:
        return "yeldro_found := SQL%ROWCOUNT;"

    def frame(
        self,
        early: Sequence[str],
        lines: Sequence[str],
        late: Sequence[str],
        drop: Sequence[str],
        *,
        dry: bool,
    ) -> list[str]:
        declared = [
            "DECLARE",
            "yeldro_wanted NUMBER := 0;",
            "yeldro_found NUMBER := 0;",
            "yeldro_added NUMBER := 0;",
        ]
        ending = "ROLLBACK;" if dry else "COMMIT;"
        caught = ["EXCEPTION WHEN OTHERS THEN", "ROLLBACK;", "RAISE;", "END;", "/"]
        start = ["WHENEVER SQLERROR EXIT FAILURE ROLLBACK", "SET DEFINE OFF", *early]
        level = "SET TRANSACTION ISOLATION LEVEL SERIALIZABLE;"
        dropped = [f"DROP TABLE {name};" for name in drop]
        whole = [
            *start,
            *declared,
            "BEGIN",
            level,
            *lines,
            ending,
            *caught,
            *([] if dry else late),
            *dropped,
        ]
        return [part for line in whole for part in _fold(line)]


class Postgresql(_Procedural):
    """The same from a schema file for an engine that we do connect to: it shows that the statements
    are right."""

    dialect, title = "postgres", "PostgreSQL"
    client = "psql -v ON_ERROR_STOP=1 -f FILE DATABASE"

    def literal(self, value: Value) -> str:
        return str(value).upper() if isinstance(value, bool) else super().literal(value)

    def make(self, name: str, columns: Sequence[str], table: str, *, lasting: bool) -> list[str]:
        kind = "TABLE" if lasting else "TEMPORARY TABLE"
        return [f"CREATE {kind} {name} AS SELECT {', '.join(columns)} FROM {table} WHERE 1 = 0;"]

    def raised(self, message: str) -> str:
        return f"RAISE EXCEPTION USING MESSAGE = {self.text(message)};"

    def found(self) -> str:
        return "GET DIAGNOSTICS yeldro_found = ROW_COUNT;"

    def frame(
        self,
        early: Sequence[str],
        lines: Sequence[str],
        late: Sequence[str],
        drop: Sequence[str],
        *,
        dry: bool,
    ) -> list[str]:
        declared = "DECLARE yeldro_wanted bigint; yeldro_found bigint; yeldro_added bigint;"
        ending = "ROLLBACK;" if dry else "COMMIT;"
        tag = find_tag(lines)
        body = [f"DO {tag}", declared, "BEGIN", *lines, f"END {tag};"]
        dropped = [f"DROP TABLE {name};" for name in drop]
        return ["BEGIN ISOLATION LEVEL SERIALIZABLE;", *early, *body, *late, *dropped, ending]


TARGETS: Mapping[str, type[Target]] = {
    "sqlserver": SqlServer,
    "oracle": Oracle,
    "postgresql": Postgresql,
}

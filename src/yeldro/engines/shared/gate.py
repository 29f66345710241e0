"""The one gate through which every statement goes: preview, rehearsal and run alike."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.sent import Kind, Sent
from yeldro.engines.shared.held import HeldTable
from yeldro.engines.shared.writer import Writer
from yeldro.errors import BadStatement, DatabaseFailed, Refused, YeldroError


class Gate:
    """Sends statements over one connection and turns the driver's errors into ours.

    `translate` maps an error of the driver. `is_whole` tells whether the transaction that we opened
    is still open: a trigger or a failed statement may end it, and the next statement would then
    commit by itself. `writer` writes statements for a script; `lift` is what would let the account
    make temporary tables, "" where it may; `count_touched` is how many rows the last one touched;
    `made` are the names of temporary tables.
    """

    def __init__(
        self,
        connection: sa.Connection,
        translate: Callable[[BaseException], YeldroError],
        is_whole: Callable[[], bool],
        writer: Writer,
        count_touched: Callable[[sa.CursorResult[Any]], int] = lambda result: int(result.rowcount),
    ) -> None:
        self.connection = connection
        self.translate = translate
        self.is_whole = is_whole
        self.writer = writer
        self.count_touched = count_touched
        self.in_transaction = False
        self.lift = ""
        self.made: list[str] = []
        self.journal: Callable[[str], None] | None = None
        self.scribe: Callable[[Sent], None] | None = None
        # SQLAlchemy tells of what it really sends, with its values, and not of what was meant.
        sa.event.listen(connection, "before_cursor_execute", self._note)
        self.driver_errors: type[Exception] = connection.dialect.loaded_dbapi.Error

    def _note(self, _: Any, __: Any, statement: str, parameters: Any, ___: Any, many: bool) -> None:
        if self.journal and many:
            self.note(f"-- for {len(parameters):,} rows\n{statement}")
        elif self.journal:
            self.note(f"-- with {parameters!r}\n{statement}" if parameters else statement)

    def note(self, statement: str, kind: Kind = Kind.LOOK) -> None:
        """Tell of a statement that is sent in the driver's own way."""
        if self.journal:
            self.journal(statement)
        self._tell(kind, statement)

    def _tell(self, kind: Kind, text: str, result: sa.CursorResult[Any] | None = None) -> None:
        if self.scribe:
            self.scribe(Sent(kind, text, None if result is None else self.count_touched(result)))

    @contextmanager
    def translated(self) -> Iterator[None]:
        """Turn errors of the driver, wrapped by SQLAlchemy or not, into ours."""
        try:
            yield
        except sa.exc.DBAPIError as error:
            raise self.translate(error.orig or error) from error
        except self.driver_errors as error:
            raise self.translate(error) from error
        except OverflowError as error:
            raise BadStatement("a number is larger than any that the database can hold.") from error
        except (UnicodeEncodeError, UnicodeDecodeError) as error:
            raise BadStatement(
                "a text holds what is not a letter in the encoding of the database."
            ) from error

    def run(self, statement: sa.Executable, kind: Kind | None = None) -> sa.CursorResult[Any]:
        """Send one statement built from Core constructs. `kind` says what it is for where its shape
        does not."""
        # A table that is held in the client cannot be written to by the server.
        if self.lift and isinstance(getattr(statement, "table", None), HeldTable):
            raise self._needs_table()
        with self.translated():
            result = self.connection.execute(
                statement, execution_options={"preserve_rowcount": True}
            )
        if self.scribe:
            self._tell(kind or find_kind(statement), self.writer.write(statement), result)
        self._check()
        return result

    def _needs_table(self) -> Refused:
        return Refused(
            "This needs a temporary table, which this account may not make here.", self.lift
        )

    def make(self, name: str, statement: sa.Executable | str) -> None:
        """Make a temporary table of this name."""
        if self.lift:
            raise self._needs_table()
        # A script makes the table in its own way, so only that it is made is told.
        scribe, self.scribe = self.scribe, None
        try:
            if isinstance(statement, str):
                self.run_text(statement)
            else:
                self.run(statement)
        finally:
            self.scribe = scribe
        self.made.append(name)
        if scribe:
            text = statement if isinstance(statement, str) else self.writer.write(statement)
            scribe(
                Sent(Kind.MAKE, text, name=self.connection.dialect.identifier_preparer.quote(name))
            )

    def run_many(
        self,
        statement: sa.Insert,
        rows: list[dict[str, Any]],
        write: Callable[[dict[str, Any]], Any] = dict,
    ) -> None:
        """Send one statement for each of several rows of values.

        `write` makes the values of the columns from those of the parameters, where these are not
        the same.
        """
        with self.translated():
            self.connection.execute(statement, rows)
        if self.scribe:
            whole = sa.insert(statement.table).values([write(row) for row in rows])
            self.scribe(Sent(Kind.CHANGE, self.writer.write(whole), len(rows)))
        self._check()

    def run_text(self, text: str, kind: Kind = Kind.LOOK) -> sa.CursorResult[Any]:
        """Send one statement that holds no names or values from outside."""
        with self.translated():
            # Without parameters a percent sign is one.
            result = self.connection.exec_driver_sql(
                text, execution_options={"no_parameters": True}
            )
        self._tell(kind, text)
        self._check()
        return result

    def read(self, text: str) -> list[tuple[Any, ...]]:
        """All rows of one such statement, as the driver gives them: for the catalogue, which is
        small."""
        with closing(self.run_text(text)) as result, self.translated():
            rows: list[tuple[Any, ...]] = list(result.cursor.fetchall()) if result.cursor else []
        return rows

    def number(self, statement: sa.Executable) -> int:
        """The single number that a statement returns."""
        return int(self.run(statement).scalar_one())

    def stream(self, statement: sa.Executable, size: int = 1000) -> Iterator[tuple[Any, ...]]:
        """The rows of a statement, `size` at a time."""
        with self.translated():
            result = self.connection.execute(statement, execution_options={"stream_results": True})
            for rows in result.partitions(size):
                for row in rows:
                    yield tuple(row)

    def _check(self) -> None:
        # Asked after every statement: what comes after a lost transaction would commit by itself.
        if self.in_transaction and not self.is_whole():
            self.in_transaction = False
            raise DatabaseFailed(
                "The database ended the transaction by itself.",
                "A trigger or rule with ROLLBACK does that.",
            )


def find_kind(statement: sa.Executable) -> Kind:
    """What a statement that was built is for."""
    if isinstance(statement, sa.Insert | sa.Update | sa.Delete):
        return Kind.CHANGE
    if isinstance(statement, sa.TextClause | sa.CompoundSelect):
        return Kind.LOOK
    if isinstance(statement, sa.Select):
        # A locking read changes nothing and must still be part of a script.
        return Kind.LOCK if statement._for_update_arg is not None else Kind.LOOK
    return Kind.PLAIN

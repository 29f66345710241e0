"""The one gate through which every statement goes: preview, rehearsal and run alike."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager
from typing import Any

import sqlalchemy as sa

from yeldro.errors import DatabaseFailed, YeldroError


class Gate:
    """Sends statements over one connection and turns the driver's errors into ours.

    `translate` maps an error of the driver. `is_whole` tells whether the transaction that we opened is still open:
    a trigger or a failed statement may end it, and the next statement would then commit by itself. `write` puts values
    into a statement in the way of the driver; `count_touched` is how many rows the last one touched.
    """

    def __init__(
        self,
        connection: sa.Connection,
        translate: Callable[[BaseException], YeldroError],
        is_whole: Callable[[], bool],
        write: Callable[[str, Any], str],
        count_touched: Callable[[Any], int] = lambda cursor: int(cursor.rowcount),
    ) -> None:
        self.connection = connection
        self.translate = translate
        self.is_whole = is_whole
        self.write = write
        self.count_touched = count_touched
        self.in_transaction = False
        self.journal: Callable[[str], None] | None = None
        self.scribe: Callable[[str, int | None], None] | None = None
        sa.event.listen(connection, "before_cursor_execute", self._note)
        sa.event.listen(connection, "after_cursor_execute", self._tell)
        self.driver_errors: type[Exception] = connection.dialect.loaded_dbapi.Error

    def _note(self, _: Any, __: Any, statement: str, parameters: Any, ___: Any, many: bool) -> None:
        if self.journal and many:
            self.note(f"-- for {len(parameters):,} rows\n{statement}")
        elif self.journal:
            self.note(f"-- with {parameters!r}\n{statement}" if parameters else statement)

    def note(self, statement: str) -> None:
        """Tell the journal of a statement that is sent in the driver's own way."""
        if self.journal:
            self.journal(statement)
        if self.scribe:
            self.scribe(statement, None)

    def _tell(self, _: Any, cursor: Any, statement: str, parameters: Any, context: Any, many: bool) -> None:
        if not self.scribe:
            return
        compiled = context is not None and context.compiled is not None
        if many:
            self.scribe(_together([self.write(statement, one) for one in parameters]), len(parameters))
        else:
            text = self.write(statement, parameters) if compiled or parameters else statement
            self.scribe(text, self.count_touched(cursor))

    @contextmanager
    def translated(self) -> Iterator[None]:
        """Turn errors of the driver, wrapped by SQLAlchemy or not, into ours."""
        try:
            yield
        except sa.exc.DBAPIError as error:
            raise self.translate(error.orig or error) from error
        except self.driver_errors as error:
            raise self.translate(error) from error

    def run(self, statement: sa.Executable) -> sa.CursorResult[Any]:
        """Send one statement built from Core constructs."""
        with self.translated():
            result = self.connection.execute(statement, execution_options={"preserve_rowcount": True})
        self._check()
        return result

    def run_many(self, statement: sa.Executable, rows: list[dict[str, Any]]) -> None:
        """Send one statement for each of several rows of values."""
        with self.translated():
            self.connection.execute(statement, rows)
        self._check()

    def run_text(self, text: str) -> sa.CursorResult[Any]:
        """Send one statement that holds no names or values from outside."""
        with self.translated():
            result = self.connection.exec_driver_sql(text)
        self._check()
        return result

    def read(self, text: str) -> list[tuple[Any, ...]]:
        """All rows of one such statement, as the driver gives them: for the catalogue, which is small."""
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
        if self.in_transaction and not self.is_whole():
            self.in_transaction = False
            raise DatabaseFailed(
                "The database ended the transaction by itself.", "A trigger or rule with ROLLBACK does that."
            )


def _together(texts: list[str]) -> str:
    """One INSERT for many rows, where they only differ in their values."""
    heads = [text.partition(" VALUES ") for text in texts]
    if any(head != heads[0][0] or not values for head, _, values in heads):
        return ";\n".join(texts)
    return f"{heads[0][0]} VALUES\n" + ",\n".join(values for _, _, values in heads)

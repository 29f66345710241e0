"""What is particular to each engine that a script is written for from a schema file: its names and
values, and the words around the statements. The statements themselves are SQLAlchemy's."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from datetime import date, datetime
from itertools import count
from typing import Any, assert_never

import sqlalchemy as sa

from yeldro.core.model.values import Value
from yeldro.errors import UsageError
from yeldro.offline.script_entries import (
    Change,
    Check,
    Entry,
    Fill,
    Finish,
    Make,
    Repeat,
    Say,
)

Comment = Callable[[str], Iterable[str]]


class Target(ABC):
    """`dialect` is the engine's name for the parser, `client` how its own client runs a file.
    `quoted` are the names that the schema file has in quotes."""

    dialect: str
    title: str
    client: str
    # Where a variable is set from a query, and how it is called.
    wanted = found = added = ""
    # Whether a text without letters is something else than NULL.
    tells_blank = True

    def __init__(self, quoted: frozenset[str] = frozenset()) -> None:
        self.quoted = quoted

    @abstractmethod
    def make_dialect(self) -> sa.Dialect:
        """SQLAlchemy's own, which needs no driver to write."""

    def key_name(self, name: str) -> str:
        return name

    def make_text(self, length: int) -> Any:
        return sa.String(length)

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
                return self.text(value)
            case bytes():
                raise UsageError("Binary values cannot be written into a script.")
            case _:
                return str(value)

    def text(self, message: str) -> str:
        return "'" + message.replace("'", "''") + "'"

    # The words around the statements

    @abstractmethod
    def make(self, entry: Make) -> str:
        """A statement that makes a table."""

    @abstractmethod
    def assign(self, variable: str, query: str) -> str:
        """Set a variable to the number that a query finds."""

    @abstractmethod
    def assign_touched(self, variable: str) -> str:
        """Set a variable to how many rows the statement before it touched."""

    @abstractmethod
    def fail_if(self, condition: str, message: str) -> str: ...

    @abstractmethod
    def repeat(self, lines: Sequence[str]) -> list[str]:
        """Again and again, until nothing is added."""

    @abstractmethod
    def frame(self, script: Parts, *, dry: bool) -> list[str]:
        """The whole script: before the transaction, in it, and after it."""

    def render(self, entries: Sequence[Entry], comment: Comment, *, dry: bool) -> list[str]:
        """The lines of the script."""
        parts = Parts()
        for entry in entries:
            if isinstance(entry, Make):
                parts.early.append(self.make(entry))
                if not entry.lasting:
                    parts.keys.append(entry.name)
            elif isinstance(entry, Finish):
                parts.late.append(f"{entry.statement};")
            else:
                parts.lines += self._render(entry, comment)
        return self.frame(parts, dry=dry)

    def _render(
        self, entry: Say | Fill | Repeat | Change | Check, comment: Comment
    ) -> Iterator[str]:
        match entry:
            case Say(text):
                yield ""
                yield from comment(text)
            case Fill(statement):
                yield f"{statement};"
            case Repeat(fills):
                yield from self.repeat(list(self._render_fills(fills, comment)))
            case Change(statement, wanted, message):
                yield self.assign(self.wanted, wanted)
                yield f"{statement};"
                yield self.assign_touched(self.found)
                yield self.fail_if(f"{self.found} <> {self.wanted}", message)
            case Check(wrong, message):
                yield self.assign(self.found, wrong)
                yield self.fail_if(f"{self.found} > 0", message)
            case _:
                assert_never(entry)

    def _render_fills(self, fills: Sequence[tuple[str, Fill]], comment: Comment) -> Iterator[str]:
        for told, fill in fills:
            yield from comment(told)
            yield f"{fill.statement};"
            yield from self.count_added()

    @abstractmethod
    def count_added(self) -> list[str]:
        """Add the rows of the statement before it to those that came in."""


class Parts:
    """The parts of a script: what comes `early` makes tables, `late` comes last; `keys` are the key
    tables."""

    def __init__(self) -> None:
        self.early: list[str] = []
        self.lines: list[str] = []
        self.late: list[str] = []
        self.keys: list[str] = []


class ProceduralTarget(Target):
    """PL/SQL and PL/pgSQL, which have most of their words in common."""

    wanted, found, added = "yeldro_wanted", "yeldro_found", "yeldro_added"

    @abstractmethod
    def raise_error(self, message: str) -> str: ...

    def fail_if(self, condition: str, message: str) -> str:
        return f"IF {condition} THEN {self.raise_error(message)} END IF;"

    def count_added(self) -> list[str]:
        return [self.assign_touched(self.found), f"{self.added} := {self.added} + {self.found};"]

    def repeat(self, lines: Sequence[str]) -> list[str]:
        start = [f"{self.added} := 1;", f"WHILE {self.added} > 0 LOOP", f"{self.added} := 0;"]
        return [*start, *lines, "END LOOP;"]


def find_tag(texts: Iterable[str]) -> str:
    """What a text in PostgreSQL's dollar quotes begins and ends with: something that none of these
    holds."""
    whole = "\n".join(texts)
    return next(tag for number in count() if (tag := f"$yeldro{number or ''}$") not in whole)

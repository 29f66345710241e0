"""The exact copy of the rows of a run: what it is made of, and what an engine and a file must agree
on."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path
from typing import Protocol

from msgspec import Struct

from yeldro.core.database.row_block import RowBlock
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import KeySet
from yeldro.core.model.schema import Reference, Table, TableName

ELSEWHERE = "--archive DIR keeps it elsewhere."


class Form(Struct, frozen=True):
    """How the values of a column are kept. `fault` says why they cannot be kept exactly, "" where
    they can."""

    name: str
    fault: str = ""


class Portion(Struct, frozen=True, eq=False):
    """The archived rows of one table that one action touched.

    `columns` are the archived ones; `key` those that tell the rows apart for good, () where nothing
    does. `changed` are the columns that rows which stayed got new values in: `reference` is the one
    that was taken away, which set them to NULL, or to their defaults where `to_default`; where rows
    were moved or filled there is none, and what each column was left with is archived too. `waits`
    are those of them that were NULL in the middle of the run. `alike` is how many rows of the table
    looked like an archived one before the run, where there is no key; `orphans` counts, by
    reference, rows that pointed at no row even then. `step` is the step of the run that touched
    them, from 1; `parts` are the numbers of those that were merged into it.
    """

    number: int
    table: Table
    columns: tuple[str, ...]
    rows: int
    key: tuple[str, ...] = ()
    reference: Reference | None = None
    changed: tuple[str, ...] = ()
    to_default: bool = False
    alike: int | None = None
    orphans: Mapping[str, int] | None = None
    action: Action = Action.DELETE
    waits: tuple[str, ...] = ()
    step: int = 1
    parts: tuple[int, ...] = ()

    @property
    def numbers(self) -> tuple[int, ...]:
        """Of the portions in the archive that it stands for, in their order."""
        return self.parts or (self.number,)

    @property
    def keeps_left(self) -> bool:
        """Whether each row's new values are archived too."""
        return bool(self.changed) and self.reference is None

    @property
    def cells(self) -> tuple[tuple[str, str], ...]:
        """The columns of a staged row, each with the column of the table that it has its type
        from.
        """
        left = [(self.left(name), name) for name in self.changed] if self.keeps_left else []
        return (*((name, name) for name in self.columns), *left)

    def left(self, name: str) -> str:
        """The name of what a column was left with."""
        return f"yeldro_left_{self.table.column_names.index(name)}"

    @property
    def left_out(self) -> tuple[str, ...]:
        return tuple(name for name in self.table.column_names if name not in self.columns)


class Sink(Protocol):
    """Where an engine puts the copy of rows: it sends lines, or writes into the file itself."""

    path: Path

    def add(self, portion: Portion, lines: Iterator[bytes]) -> int:
        """Keep rows, each a line in PostgreSQL's text form of COPY, one or several at a time.
        Returns how many."""
        ...

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]:
        """The name of the portion's table in the file, and of its columns."""
        ...

    def tick(self, rows: int) -> None:
        """Told now and then how many rows came since the last time."""
        ...


class Source(Protocol):
    """An archive that is read again."""

    path: Path

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]: ...

    def copy(self, portion: Portion) -> TableName | None:
        """The table of the database itself that holds the rows, None where the file does."""
        ...

    def place(self, portion: Portion) -> tuple[int, int]:
        """The first and last row number of a portion whose rows stand in a table of their own."""
        ...

    def blocks(self, portion: Portion) -> Iterator[RowBlock]:
        """The rows of a portion, many at a time, in the form in which they were kept."""
        ...


class Piece(Struct, frozen=True, eq=False):
    """A portion that is yet to be copied, with the key set that names its rows. Other pieces of its
    table say what the columns `unfilled` were left with. `later`: this transaction may have changed
    what is to be copied."""

    portion: Portion
    keys: KeySet
    unfilled: tuple[str, ...] = ()
    later: bool = False


class Stage(Struct, frozen=True, eq=False):
    """Archived rows beside the table that they came from: a temporary table with its columns and
    types.

    `name` is that of the temporary table. Rows with a key meet those that are there by it; without
    one only whole rows can be compared.
    """

    portion: Portion
    name: str

    @property
    def key(self) -> tuple[str, ...]:
        return self.portion.key

    @property
    def table(self) -> Table:
        return self.portion.table


class Standing(Struct, frozen=True):
    """How the archived rows of a stage stand against the table: `there` is how many keys are taken,
    `same` how many of those by the very row. For a detachment `same` looks at what it changed only,
    `back` counts the rows that wait as the run left them, and `whole` those of both that are as
    archived in everything else."""

    rows: int
    there: int
    same: int
    back: int = 0
    whole: int = 0

    @property
    def absent(self) -> int:
        return self.rows - self.there

    @property
    def differing(self) -> int:
        return self.there - self.same - self.back

"""An archive that is read again, and fitted to the schema as it is now."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterator, Sequence
from pathlib import Path
from typing import Any

from yeldro.core.database.archive_format import Portion
from yeldro.core.database.row_block import RowBlock
from yeldro.core.model.action import Action
from yeldro.core.model.schema import Column, Reference, Schema, Table, TableName
from yeldro.errors import ArchiveFailed, Refused, UsageError
from yeldro.store.archive_catalogue import check_contents, check_tables, translated


class ArchiveReader:
    """Reads an archive. Fulfils `core.archive.Source`. ArchiveFailed where it is damaged."""

    def __init__(self, path: Path, tick: Callable[[int], None] = lambda _: None) -> None:
        self.path = path
        self.tick = tick
        if not path.exists():
            raise ArchiveFailed(f"There is no archive {path}.")
        with translated(path):
            self._file = sqlite3.connect(path, isolation_level=None)
            check_contents(self._file)

    @property
    def is_complete(self) -> bool:
        """Whether it was finished."""
        return self._query("SELECT complete FROM yeldro_archive") == [(1,)]

    def _query(self, text: str, values: Sequence[Any] = ()) -> list[tuple[Any, ...]]:
        with translated(self.path):
            return self._file.execute(text, values).fetchall()

    def find_steps(self) -> set[int]:
        """The steps that it holds anything of."""
        return {int(step) for (step,) in self._query("SELECT DISTINCT step FROM yeldro_portions")}

    def find_unfinished(self) -> set[int]:
        """The steps of which not all was copied when their process died."""
        rows = self._query(
            "SELECT DISTINCT step FROM yeldro_portions AS p WHERE rows > 0 AND last_row IS NULL "
            "AND NOT EXISTS (SELECT 1 FROM yeldro_blocks AS b WHERE b.portion = p.portion)"
        )
        return {int(step) for (step,) in rows}

    def portions(self, schema: Schema, left_out: Sequence[str] = ()) -> list[Portion]:
        """The portions, fitted to the schema as it is now, without the columns `left_out`.
        Refused where it no longer fits, UsageError for a column that is needed."""
        rows = self._query(
            "SELECT portion, source_schema, source_table, shown_as, row_key, reference, changed, "
            "to_default, rows, alike, orphans, action, waits, step FROM yeldro_portions ORDER BY "
            "portion"
        )
        names = [text.strip() for texts in left_out for text in texts.split(",")]
        with translated(self.path):
            self._check_names(names)
            return [self._portion(schema, row, names) for row in rows]

    def _check_names(self, left_out: Sequence[str]) -> None:
        known = {
            str(name).lower() for (name,) in self._query("SELECT source_column FROM yeldro_columns")
        }
        for text in left_out:
            if text.rpartition(".")[2].lower() not in known:
                raise UsageError(f"--leave-out {text}: no archived column is called so.")

    def _portion(self, schema: Schema, row: tuple[Any, ...], left_out: Sequence[str]) -> Portion:
        number, place, name, shown, key_text, reference, changed, to_default, *others = row
        rows, alike, orphans, action, waits, step = others
        table: Table = _find_table(schema, place, name)
        without = self._find_left_out(table, shown, left_out)
        key, altered = tuple(json.loads(key_text)), tuple(json.loads(changed))
        if without and (not key or without & {*key, *altered}):
            raise UsageError(
                f"{', '.join(sorted(without))} of {table.label} cannot be left out: without it a "
                "row could not be found again."
            )
        kept = self._find_kept(table, shown, without)
        if key and key not in table.lasting_keys:
            raise Refused(f"{table.label} ({', '.join(key)}) is not unique any more.")
        return Portion(
            number,
            table,
            kept,
            rows,
            key,
            _find_reference(schema, reference) if reference else None,
            altered,
            bool(to_default),
            alike,
            json.loads(orphans),
            Action(action),
            tuple(json.loads(waits)),
            step,
        )

    def _find_left_out(self, table: Table, shown: str, texts: Sequence[str]) -> set[str]:
        """The archived columns of a table that a person does not want back."""
        listed = self._query(
            "SELECT source_column FROM yeldro_columns WHERE shown_in = ? AND left_out = 0", (shown,)
        )
        names = {str(name) for (name,) in listed}
        found = set()
        for place, _, column in (text.rpartition(".") for text in texts):
            if place.lower() in ("", table.label.lower()):
                found |= {name for name in names if name.lower() == column.lower()}
        return found

    def _find_kept(self, table: Table, shown: str, without: set[str]) -> tuple[str, ...]:
        """The archived columns. Refused where the table has others now."""
        found = self._query(
            "SELECT source_column, type, generated, left_out FROM yeldro_columns WHERE shown_in = "
            "? ORDER BY place",
            (shown,),
        )
        kept = [
            (name, type_, bool(generated))
            for name, type_, generated, out in found
            if not out and name not in without
        ]
        for name, type_, generated in kept:
            hint = f"--leave-out {table.label}.{name} brings back the rest without it."
            if name not in table.column_names:
                raise Refused(
                    f"{table.label} has no column {name} any more.",
                    f"Add it, and restore again; or {hint}",
                )
            now = table.column(name)
            if not _is_same_type(now, type_, generated):
                raise Refused(f"{table.label}.{name} was {type_}, and is {now.type} now.", hint)
        known = {name for name, *_ in found}
        for new in table.columns:
            if new.name not in known and not (new.nullable or new.default or new.generated):
                raise Refused(
                    f"{table.label} has a new column {new.name} that needs a value.",
                    "Give it a default.",
                )
        return tuple(name for name, *_ in kept)

    def shown(self, portion: Portion) -> tuple[str, tuple[str, ...]]:
        found = dict(
            self._query(
                "SELECT c.source_column, c.shown_as FROM yeldro_columns AS c JOIN yeldro_portions "
                "AS p ON c.shown_in = p.shown_as WHERE p.portion = ?",
                (portion.number,),
            )
        )
        table = self._query(
            "SELECT shown_as FROM yeldro_portions WHERE portion = ?", (portion.number,)
        )[0][0]
        with translated(self.path):
            check_tables(self._file, table)
        return table, tuple(found[name] for name in portion.columns)

    def copy(self, portion: Portion) -> TableName | None:
        schema, name = self._query(
            "SELECT copy_schema, copy_table FROM yeldro_portions WHERE portion = ?",
            (portion.number,),
        )[0]
        return TableName(schema, name) if name else None

    def place(self, portion: Portion) -> tuple[int, int]:
        ends = [
            self._query(f"SELECT {end}_row FROM yeldro_portions WHERE portion = ?", (number,))[0][0]
            for end, number in (("first", portion.numbers[0]), ("last", portion.numbers[-1]))
        ]
        return int(ends[0]), int(ends[1])

    def blocks(self, portion: Portion) -> Iterator[RowBlock]:
        with translated(self.path):
            blocks = (
                text
                for number in portion.numbers
                for (text,) in self._file.execute(
                    "SELECT rows FROM yeldro_blocks WHERE portion = ? ORDER BY block", (number,)
                )
            )
            left, places = portion.rows, self._find_places(portion)
            for text in blocks:
                yield RowBlock(_cut(text, places) if places else text, self.path)
                # A value may look like the end of a row too: no more are told than there are.
                rows = min(left, text.count("],[") + 1)
                left -= rows
                self.tick(rows)

    def _find_places(self, portion: Portion) -> list[int]:
        """Where the cells of a portion stand in an archived row, [] where all of them do."""
        found = self._query(
            "SELECT c.source_column FROM yeldro_columns AS c JOIN yeldro_portions AS p ON "
            "c.shown_in = p.shown_as WHERE p.portion = ? AND c.left_out = 0 ORDER BY c.place",
            (portion.number,),
        )
        names = [name for (name,) in found]
        if len(names) == len(portion.columns):
            return []
        wanted = [place for place, name in enumerate(names) if name in portion.columns]
        # Behind them stands what each row was left with.
        more = len(portion.cells) - len(portion.columns)
        return [*wanted, *range(len(names), len(names) + more)]

    def close(self) -> None:
        self._file.close()


def _cut(text: str, places: Sequence[int]) -> str:
    """A block with some of its cells only."""
    rows = [[row[place] for place in places] for row in json.loads(text)]
    return json.dumps(rows, ensure_ascii=False, separators=(",", ":"))


def _is_same_type(column: Column, type_: str, generated: bool) -> bool:
    """Archives of old named types without their schema."""
    return column.generated == generated and (
        column.type == type_ or column.type.endswith(f".{type_}")
    )


def _find_table(schema: Schema, place: str, name: str) -> Any:
    """The table of this name; in another database, the one of this name in its default schema."""
    exact = schema.by_name.get(TableName(place, name))
    alike = [table for table in schema.tables if table.label == name]
    if exact is None and not alike:
        raise Refused(
            f"The table {name} of the run is not in this database.",
            "Rename it back, or make it again.",
        )
    return exact or alike[0]


def _find_reference(schema: Schema, text: str) -> Reference:
    for reference in schema.acting:
        if str(reference) == text:
            return reference
    raise Refused(
        f"The reference {text}, which the run took away from rows, is not declared any more."
    )

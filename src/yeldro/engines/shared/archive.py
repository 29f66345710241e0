"""What all engines do alike when rows are archived and put back."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence

import sqlalchemy as sa

from yeldro.core.database.abilities import Row
from yeldro.core.database.archive_format import Form, Piece, Portion, Sink, Source, Stage, Standing
from yeldro.core.model.key_set import KeySet, StoredKeys, WholeTable
from yeldro.core.model.schema import Column, Reference, Table, TableName
from yeldro.engines.shared.part import SqlPart
from yeldro.engines.shared.statements import Words, find_defaults
from yeldro.errors import ArchiveFailed


class SqlArchive(SqlPart, ABC):
    """The part of a connection that copies rows out and puts them back."""

    # Copying

    @abstractmethod
    def find_form(self, column: Column) -> Form:
        """How the values of a column are kept in an archive."""

    def count_alike(self, keys: KeySet, columns: Sequence[str]) -> int:
        """Of a whole table that nobody else may use no row is like another one elsewhere."""
        rows = (
            self._statements.count(keys.table)
            if isinstance(keys, WholeTable)
            else self._statements.count_alike(keys, columns)
        )
        return self._gate.number(rows)

    def find_images(
        self, keys: KeySet, columns: Sequence[str], *, apart: bool, shown: Sequence[str] = ()
    ) -> Iterator[Row]:
        rows = self._gate.stream(self._statements.select_images(keys, columns, shown, apart=apart))
        return ((_as_text(row[0]), *row[1:]) for row in rows)

    def count_unset(self, keys: KeySet, columns: Sequence[str]) -> int:
        return self._gate.number(self._statements.count_unset(keys, columns))

    @abstractmethod
    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]: ...

    @abstractmethod
    def extract_keys(self, portion: Portion, numbered: StoredKeys, sink: Sink) -> int: ...

    def make_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> None:
        self._gate.run(self._statements.make_copy_table(name, portion, changed))

    def write_copy_table(self, name: TableName, portion: Portion, changed: Sequence[str]) -> str:
        return self._gate.writer.write(self._statements.make_copy_table(name, portion, changed))

    def write_copy(self, name: TableName, piece: Piece) -> str:
        return self._gate.writer.write(self._statements.copy_into(name, piece))

    def drop_copy_table(self, name: TableName) -> None:
        self._gate.run(Words("DROP TABLE", sa.table(name.name, schema=name.schema)))

    def copy_into(self, name: TableName, piece: Piece) -> int:
        return self._gate.run(self._statements.copy_into(name, piece)).rowcount

    # Putting back

    def stage(self, portion: Portion, source: Source) -> Stage:
        stage = Stage(portion, next(self._names))
        # The rows lie in tables of this very database: nothing needs to be sent.
        if copy := source.copy(portion):
            self._gate.run(self._statements.stage_copy(stage, copy))
        else:
            self._fill_stage(stage, source)
        rows = self._gate.number(self._statements.count_staged(stage))
        # Fewer rows would be restored without a word.
        if rows != portion.rows:
            raise ArchiveFailed(
                f"The archive {source.path} is damaged: it should hold {portion.rows:,} rows of "
                f"{portion.table.label}, and holds {rows:,}."
            )
        return stage

    @abstractmethod
    def _fill_stage(self, stage: Stage, source: Source) -> None: ...

    def drop_stage(self, stage: Stage) -> None:
        table = sa.table(stage.name, schema=self._statements.key_schema)
        self._gate.run(Words(self._statements.drop_temporary, table))

    def stand(self, stage: Stage) -> Standing:
        rows = self._gate.number(self._statements.count_staged(stage))
        portion = stage.portion
        if stage.key:
            found = self._gate.run(self._statements.stand(stage, self._left(stage))).one()
            return Standing(rows, *(int(count) for count in found))
        alike = self._gate.number(self._statements.count_staged_alike(stage))
        assert portion.alike is not None
        # Rows that nothing tells apart can only be counted: as many as were like these before the
        # run, less those that are now.
        there = rows - (portion.alike - alike)
        back = rows if portion.changed and there == 0 else 0
        if portion.changed:
            return Standing(rows, rows, rows if there == rows else 0, back)
        return Standing(rows, max(0, there), rows if there == rows else 0)

    def count_beside(self, stage: Stage, earlier: Sequence[Stage]) -> tuple[int, int]:
        lefts = [(one, self._left(one)) for one in earlier]
        found = self._gate.run(self._statements.count_beside(stage, self._left(stage), lefts)).one()
        kept, again = map(int, found)
        return kept, again

    def _left(self, stage: Stage) -> list[str]:
        """What a detachment left in the columns that it changed, as SQL."""
        changed, to_default = stage.portion.changed, stage.portion.to_default
        return find_defaults(stage.table, changed) if to_default else ["NULL"] * len(changed)

    def keep_absent(self, stage: Stage) -> None:
        self._gate.run(self._statements.drop_staged(stage, self._statements.is_there(stage)))

    def make_staged_set(self, stage: Stage) -> StoredKeys:
        columns = dict.fromkeys((*stage.key, *self._database.schema.referred_columns(stage.table)))
        keys = StoredKeys(stage.table, tuple(columns), next(self._names))
        self._database.create_key_table(keys, unique=False)
        return keys

    def pull_staged(
        self, stage: Stage, into: StoredKeys, reference: Reference | None, parents: StoredKeys
    ) -> int:
        return self._database.fill(
            into, self._statements.pull_staged(stage, into, reference, parents)
        )

    def keep_staged(self, stage: Stage, listed: StoredKeys) -> None:
        self._gate.run(
            self._statements.drop_staged(stage, sa.not_(self._statements.is_listed(stage, listed)))
        )

    def count_parentless(self, reference: Reference, stage: Stage, parents: Sequence[Stage]) -> int:
        staged = [self._stage_parents(reference, parent) for parent in parents]
        return self._gate.number(self._statements.count_parentless(reference, stage, staged))

    def _stage_parents(self, reference: Reference, stage: Stage) -> sa.FromClause:
        """The staged rows that a reference may point at, with the types of their table."""
        return self._statements.staged(stage)

    def count_whole(self, stage: Stage) -> int:
        rows = (
            self._statements.count_whole(stage)
            if stage.key
            else self._statements.count_staged_alike(stage)
        )
        return self._gate.number(rows)

    def insert(self, stage: Stage) -> int:
        return self._gate.run(self._statements.insert_staged(stage)).rowcount

    @abstractmethod
    def insert_together(self, stages: Sequence[Stage]) -> list[int]: ...

    def reattach(self, stage: Stage) -> int:
        return self._gate.run(self._statements.reattach(stage, self._left(stage))).rowcount

    def empty_waiting(self, stage: Stage) -> int:
        return self._gate.run(self._statements.empty_waiting(stage)).rowcount

    def find_differing(self, stage: Stage) -> list[str]:
        columns = stage.portion.columns
        if not stage.key:
            return []
        counts = self._gate.run(self._statements.count_differing(stage, columns)).one()
        return [name for name, rows in zip(columns, counts, strict=True) if rows]

    def digest_others(self, table: Table, stages: Sequence[Stage]) -> object:
        return tuple(self._gate.run(self._statements.digest_others(table, stages)).one())

    def find_last_change(self, table: Table) -> int:
        return 0

    def count_touched(self, table: Table, stages: Sequence[Stage], since: int) -> int:
        """Only asked where the database counts changes by table."""
        raise NotImplementedError

    def allow_orphans(self) -> None:
        """Before `begin`: rows that pointed at nothing may be put back so, where the engine can let
        them."""

    def advance_counters(self, stages: Sequence[Stage]) -> None:
        """An engine whose counters follow what is inserted has nothing to do."""


def _as_text(image: str | bytes) -> str:
    return image if isinstance(image, str) else image.decode("utf-8", "backslashreplace")

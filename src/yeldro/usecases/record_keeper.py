"""What of a run is kept: its record, begun before its first change, and its archive, on disk before
its commit."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from contextlib import suppress
from typing import Any

from yeldro.core.database.archive_format import Piece
from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import AlikeRows
from yeldro.core.model.schema import Table, TableName
from yeldro.core.reach.reach import Reach
from yeldro.core.run.archive_pieces import (
    LeftOut,
    find_left,
    find_pieces,
    find_unkept,
    read_left_out,
)
from yeldro.core.run.outcome import StepAccount
from yeldro.core.run.preview import Preview
from yeldro.core.run.tally import Tally
from yeldro.errors import ArchiveFailed, YeldroError
from yeldro.store.archive_writer import ArchiveWriter
from yeldro.store.fingerprints import take_fingerprints
from yeldro.store.run_facts import PartFacts, describe_reach, describe_tally
from yeldro.store.run_record import IN_DOUBT, Keeping, RunRecord, new_record, now, who
from yeldro.usecases.transaction import LifeCycle
from yeldro.words.tell import tell, voice_of

Told = Callable[[int, int], None]


class Keeper:
    """Keeps one run. Without `keeping` it keeps nothing. `tables` are those that its steps choose
    rows of, `life` how far the run has come."""

    def __init__(
        self,
        database: Database,
        keeping: Keeping | None,
        tables: Sequence[Table],
        told: Told,
        life: LifeCycle,
    ) -> None:
        self.database = database
        self.keeping = keeping
        self.tables = tables
        self.told = told
        self.life = life
        self._record: RunRecord | None = None
        self._statements: list[str] = []
        self._made: list[TableName] = []
        self._began = time.monotonic()
        self._seconds: dict[str, float] = {}
        self._left_out: LeftOut = {}
        self._writer: ArchiveWriter | None = None
        self._kept: list[Preview] = []
        if keeping:
            root = tables[0] if len(tables) == 1 else None
            self._left_out = read_left_out(keeping.left_out, database.schema, root)

    @property
    def _copies_inside(self) -> bool:
        return bool(self.keeping and self.keeping.archive and self.keeping.table)

    @property
    def comes_before(self) -> bool:
        """Whether something must be made before the transaction, once the reach is known."""
        return self._copies_inside and self.database.abilities.ddl_commits

    def find_fault(self, reach: Reach) -> str:
        """Why the rows of a reach cannot be archived, "" where they can."""
        if not self.keeping or not self.keeping.archive:
            return ""
        alike = any(isinstance(keys, AlikeRows) for keys, _ in reach.deleted)
        if alike and (self._copies_inside or self._left_out):
            return (
                "Nothing tells these rows apart: they are only kept whole, and in the run record."
            )
        if self._copies_inside:
            return self._find_fault_inside(reach)
        return next(find_unkept(self.database, reach, self._left_out), "")

    def _find_fault_inside(self, reach: Reach) -> str:
        """Why no copy can be kept in the database itself."""
        if reach.selection.truncate and not self.database.abilities.rolls_back_truncate:
            return (
                "--truncate has the table alone here, so --archive-table cannot write another one."
            )
        known = [table.name for table in self.database.schema.tables]
        taken = {name.folded for name in known}
        for name in self._copies(reach).values():
            if name.folded in taken and name not in self._made:
                return f"There is a table {name.name} already; --archive-table makes new ones."
        return ""

    def _copies(self, reach: Reach) -> dict[TableName, TableName]:
        """Where the copies of each table go: NAME for the table that was asked for, NAME_table for
        others."""
        assert self.keeping
        root, start = reach.selection.table, self.keeping.table
        tables = dict.fromkeys(part.table for part in reach.parts if part.rows)
        return {
            table.name: TableName(
                root.name.schema, start if table is root else f"{start}_{table.name.name}"
            )
            for table in tables
        }

    def prepare(self, reach: Reach) -> None:
        if self.comes_before:
            self._make_copies(
                find_pieces(self.database, reach, self._left_out), self._copies(reach)
            )

    def _make_copies(self, pieces: list[Piece], copies: dict[TableName, TableName]) -> None:
        for piece in pieces:
            name = copies[piece.portion.table.name]
            if name not in self._made:
                self.database.archive.make_copy_table(
                    name, piece.portion, find_left(pieces, piece.portion.table)
                )
                self._made.append(name)

    def listen(self) -> None:
        if self.keeping:
            self.database.record(self._note)

    def _note(self, statement: str) -> None:
        if self._record:
            self._record.note(statement)
        else:
            self._statements.append(statement)

    def keep(self, found: Preview) -> None:
        """Begin the record, or go on with it, and archive what a step touches: synced when this
        returns."""
        if not self.keeping:
            return
        self._kept.append(found)
        if self._record:
            self._record.write(**self._describe())
        else:
            self._record = self._begin(self.keeping)
        if self.keeping.archive:
            start = time.monotonic()
            step = len(self._kept)
            self._archive(self._record, found.reach, step, later=step > 1)
            self._seconds["archive"] = round(
                self._seconds.get("archive", 0) + time.monotonic() - start, 3
            )

    def _begin(self, keeping: Keeping) -> RunRecord:
        labels = ", ".join(table.label for table in self.tables)
        record = new_record(keeping.folder, keeping.name or labels)
        record.start(
            {
                **keeping.facts,
                "database": self.database.name,
                "engine": self.database.dialect,
                "cluster": self.database.cluster,
                "by": who(),
                "began": now(),
                "ended": None,
                "table": labels,
                **self._describe(),
                "archive": bool(keeping.archive),
                "archive_table": keeping.table or None,
                "final": False,
                "transaction": "",
                "made_indexes": [],
                "left_out": [
                    f"{table.label}.{name}"
                    for table, names in self._left_out.items()
                    for name in names
                ],
                "tally": [],
                "reason": "",
            }
        )
        for statement in self._statements:
            record.note(statement)
        self._statements.clear()
        return record

    def _describe(self) -> dict[str, Any]:
        """What was found so far, in all steps."""
        parts: list[PartFacts] = []
        for found in self._kept:
            for part in describe_reach(found.reach):
                part["order"] = len(parts) + 1
                if found.step:
                    part["step"], part["surplus"] = found.step, bool(found.duplicates)
                parts.append(part)
        messages = [
            tell(caution.found, voice_of(found))
            for found in self._kept
            for caution in found.cautions
        ]
        return {
            "matched": sum(found.reach.matched for found in self._kept),
            "parameters": {
                name: str(value)
                for found in self._kept
                for name, value in found.selection.values.items()
            },
            "reach": parts,
            "cautions": list(dict.fromkeys(messages)),
        }

    def _archive(self, record: RunRecord, reach: Reach, step: int, *, later: bool = False) -> None:
        if not self._writer:
            self._writer = ArchiveWriter(
                record.archive, self.database.dialect, self.database.encoding
            )
        writer = self._writer
        pieces = find_pieces(
            self.database, reach, self._left_out, step, writer.portions, later=later
        )
        copies = self._copies(reach) if self._copies_inside else {}
        total = sum(piece.portion.rows for piece in pieces)
        done = 0

        def tick(rows: int) -> None:
            nonlocal done
            done += rows
            self.told(done, total)

        writer.tick = tick
        try:
            writer.begin(
                [piece.portion for piece in pieces], self.database.archive.find_form, copies
            )
            if copies:
                self._make_copies(pieces, copies)
                counts = [
                    self.database.archive.copy_into(copies[piece.portion.table.name], piece)
                    for piece in pieces
                ]
            else:
                counts = self.database.archive.extract(pieces, writer)
            writer.finish(
                [(piece.portion, count) for piece, count in zip(pieces, counts, strict=True)]
            )
        finally:
            writer.close()

    def pass_the_point_of_no_return(self) -> None:
        """From here on the record alone cannot say how it ended."""
        if self._writer:
            # Complete and synced before the record says so, and that before the commit is sent.
            self._writer.complete()
        self.life.is_final = True
        if self._record:
            self._record.write(final=True)

    def committing(self, tally: Tally, steps: Sequence[StepAccount]) -> None:
        """Right before the commit, with what each step did where there are several."""
        if self._record:
            self._seconds["run"] = round(time.monotonic() - self._began, 3)
            several = {"steps": [_describe_step(step) for step in steps]} if steps else {}
            transaction = self.database.find_transaction()
            self._record.write(
                tally=describe_tally(tally),
                seconds=self._seconds,
                transaction=transaction,
                **several,
            )
        # TRUNCATE may have passed it already.
        if not self.life.is_final:
            self.pass_the_point_of_no_return()

    def made_unique(self, table: Table, name: str) -> None:
        """Right before a unique index is there for good: a restoration must take it away again."""
        if self._record:
            made = [
                *self._record.facts["made_indexes"],
                {"schema": table.name.schema, "table": table.name.name, "name": name},
            ]
            self._record.write(made_indexes=made)

    def committed(self) -> str:
        """Returns the name of the record. It stays in doubt where it cannot be written: the commit
        counts."""
        if self._record:
            with suppress(ArchiveFailed):
                self._record.write(outcome="committed", ended=now())
        return self.name

    @property
    def name(self) -> str:
        """Of the record, "" where there is none."""
        return self._record.name if self._record else ""

    def rolled_back(self, reason: str, tally: Tally | None = None) -> str:
        """The rows are where they were, so their copy goes. What may have been committed is left in
        doubt."""
        self.database.record(None)
        # It may have been committed: then the copy is all that there is of the rows.
        if self.life.is_final:
            return self.name
        self._drop_copies()
        if self._record:
            try:
                # The order matters: a record that says "rolled back" beside an archive would do no
                # harm, an archive that is believed would.
                self._record.drop_archive()
                tallied = describe_tally(tally) if tally else []
                self._record.write(outcome="rolled-back", ended=now(), reason=reason, tally=tallied)
            except ArchiveFailed:
                # The disk may be full: without an archive, what is left says that nothing was
                # changed.
                return self.name
        return self.name

    def _drop_copies(self) -> None:
        """Where making a table commits, it outlives the transaction."""
        if self.database.abilities.ddl_commits:
            for name in self._made:
                with suppress(YeldroError):
                    self.database.archive.drop_copy_table(name)

    @property
    def size(self) -> int:
        """Bytes of the archive on disk."""
        return self._record.size if self._record else 0

    def drop(self) -> None:
        """Nobody wanted it: nothing is left."""
        self.database.record(None)
        self._drop_copies()
        if self._record:
            self._record.close()
            self._record.drop()
            self._record = None

    def close(self) -> None:
        if self._record:
            with suppress(ArchiveFailed):
                self._record.close()
                if self._record.facts["outcome"] != IN_DOUBT:
                    take_fingerprints(self._record)


def _describe_step(one: StepAccount) -> dict[str, Any]:
    reach = one.preview.reach
    tally = describe_tally(one.tally) if one.tally else []
    return {
        "step": one.preview.step,
        "table": reach.selection.table.label,
        "matched": reach.matched,
        "tally": tally,
    }

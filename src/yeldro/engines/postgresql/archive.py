"""Archiving rows and putting them back, on PostgreSQL."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa

from yeldro.core.database.archive_format import Form, Piece, Portion, Sink, Source, Stage
from yeldro.core.database.row_block import RowBlock
from yeldro.core.database.sent import Kind
from yeldro.core.model.key_set import StoredKeys
from yeldro.core.model.schema import Column, Family, Table
from yeldro.engines.postgresql.part import PostgresqlOwner
from yeldro.engines.postgresql.statements import KEPT_AS, LARGE, Named, PostgresqlStatements
from yeldro.engines.shared.archive import SqlArchive
from yeldro.engines.shared.statements import Rows, Words, bare, in_brackets

# Types whose own input function always fails.
_NOT_READ_BACK = {
    *("pg_node_tree", "pg_ndistinct", "pg_dependencies", "pg_mcv_list"),
    *("pg_brin_bloom_summary", "pg_brin_minmax_multi_summary"),
}
# What has a meaning in the text form of COPY.
_ESCAPED = str.maketrans({"\\": "\\\\", "\t": "\\t", "\n": "\\n", "\r": "\\r"})
# Sequences that belong to a column, and those that its default calls, with the last number that
# they gave.
# The number of the command within its transaction that wrote a row.
_COMMAND: sa.ColumnElement[int] = sa.cast(
    sa.cast(sa.literal_column("cmin"), sa.Text), sa.BigInteger
)
_SEQUENCES = """
SELECT a.attname, format('%I.%I', n.nspname, s.relname), q.seqincrement,
  COALESCE(pg_sequence_last_value(s.oid), q.seqstart - q.seqincrement)
FROM pg_class AS t JOIN pg_namespace AS m ON m.oid = t.relnamespace
JOIN pg_attribute AS a ON a.attrelid = t.oid AND a.attnum > 0
LEFT JOIN pg_attrdef AS e ON e.adrelid = t.oid AND e.adnum = a.attnum
JOIN pg_depend AS d ON d.classid = 'pg_class'::regclass AND d.refobjid = t.oid AND d.refobjsubid =
a.attnum
    AND d.deptype IN ('a', 'i')
  OR d.classid = 'pg_attrdef'::regclass AND d.objid = e.oid
JOIN pg_class AS s ON s.oid = CASE WHEN d.classid = 'pg_class'::regclass THEN d.objid ELSE
d.refobjid END
  AND s.relkind = 'S'
JOIN pg_sequence AS q ON q.seqrelid = s.oid JOIN pg_namespace AS n ON n.oid = s.relnamespace
WHERE m.nspname = :schema AND t.relname = :table
  AND CASE WHEN s.relkind = 'S' THEN has_sequence_privilege(s.oid, 'UPDATE') END"""


class PostgresqlArchive(SqlArchive):
    """The part of a connection."""

    _database: PostgresqlOwner
    _statements: PostgresqlStatements

    def find_form(self, column: Column) -> Form:
        if column.type in _NOT_READ_BACK:
            return Form("text", f"PostgreSQL cannot read a {column.type} back")
        if (
            column.family is Family.TEXT
            and self._database.setting("server_encoding") == "SQL_ASCII"
        ):
            return Form("text", "the database does not know the encoding of its texts")
        return Form(KEPT_AS.get(column.type, "text"))

    def extract(self, pieces: Sequence[Piece], sink: Sink) -> list[int]:
        return [sink.add(piece.portion, self._lines(piece)) for piece in pieces]

    def extract_keys(self, portion: Portion, numbered: StoredKeys, sink: Sink) -> int:
        cells = self._keep_all(self._statements.copied_keys(numbered))
        rows = sa.select(*cells).select_from(self._statements.key_table(numbered))
        return sink.add(portion, self._copy_out(rows))

    def _lines(self, piece: Piece) -> Iterator[bytes]:
        cells = self._keep_all(self._statements.copied(piece.portion, piece.keys))
        return self._copy_out(self._statements.select_copied(piece.portion, piece.keys, cells))

    def _keep_all(
        self, cells: Sequence[tuple[Column, sa.ColumnElement[Any]]]
    ) -> list[sa.ColumnElement[Any]]:
        return [self._statements.kept(cell, column) for column, cell in cells]

    def _copy_out(self, rows: Rows) -> Iterator[bytes]:
        query = f"COPY ({self._database.sent.write(rows)}) TO STDOUT"
        self._gate.note(query)
        with (
            self._gate.translated(),
            self._database.raw.cursor() as cursor,
            cursor.copy(query.encode()),
        ):
            yield from self._database.raw.read_copy()

    def _fill_stage(self, stage: Stage, source: Source) -> None:
        """The server reads the texts itself. What a type's own text would not hold comes by another
        type."""
        clause, cells = self._statements.table(stage.table), dict(stage.portion.cells)
        columns = list(cells)
        table = sa.table(stage.name, schema="pg_temp")
        empty = sa.select(*(clause.c[own].label(name) for name, own in cells.items())).where(
            sa.false()
        )
        self._gate.run(Words("CREATE TEMPORARY TABLE", table, "AS", bare(empty)))
        types = {name: stage.table.column(own).type for name, own in cells.items()}
        loaded = table
        if others := {name: type_ for name, type_ in types.items() if type_ in KEPT_AS}:
            loaded = sa.table(next(self._names), schema="pg_temp")
            ways = [
                sa.cast(clause.c[cells[name]], Named(KEPT_AS[types[name]])).label(name)
                for name in others
            ]
            same = [clause.c[own].label(name) for name, own in cells.items() if name not in others]
            self._gate.run(
                Words(
                    "CREATE TEMPORARY TABLE",
                    loaded,
                    "AS",
                    bare(sa.select(*same, *ways).where(sa.false())),
                )
            )
        names = in_brackets([sa.column(name) for name in columns])
        self._copy_rows(Words("COPY", loaded, names, "FROM STDIN"), source.blocks(stage.portion))
        if loaded is not table:
            read = [
                sa.cast(sa.column(name), Named(types[name])) if name in others else sa.column(name)
                for name in columns
            ]
            self._gate.run(
                Words("INSERT INTO", table, names, bare(sa.select(*read).select_from(loaded)))
            )
            self._gate.run(Words("DROP TABLE", loaded))
        self._analyze(stage, table)

    def _copy_rows(self, into: Words, blocks: Iterator[RowBlock]) -> None:
        copy = self._database.sent.write(into)
        self._gate.note(copy)
        with (
            self._gate.translated(),
            self._database.raw.cursor() as cursor,
            cursor.copy(copy.encode()) as writing,
        ):
            for block in blocks:
                writing.write(make_lines(block))

    def _analyze(self, stage: Stage, table: sa.TableClause) -> None:
        """Without figures the planner would take the staged rows for a handful. It joins them by
        some columns only. Where others look for their parents among them, it may still expect few
        that do, and look one by one."""
        own = {column: name for name, column in stage.portion.cells}
        sought = {one.referred for one in self._database.schema.incoming(stage.table)}
        for columns in sorted(sought) if stage.portion.rows > LARGE else ():
            if set(columns) <= set(own):
                names = in_brackets([sa.column(own[name]) for name in columns])
                self._gate.run(Words("CREATE INDEX ON", table, names))
        met = {*stage.key, *self._database.schema.referring_columns(stage.table)}
        looked_up: list[sa.ColumnClause[Any]] = [
            sa.column(name) for name, own in stage.portion.cells if own in met
        ]
        self._gate.run(Words("ANALYZE", table, *([in_brackets(looked_up)] if looked_up else [])))

    def insert(self, stage: Stage) -> int:
        """With memory for the comparison that comes after it."""
        self._gate.run_text("SET LOCAL work_mem = '256MB'", Kind.PLAIN)
        return super().insert(stage)

    def insert_together(self, stages: Sequence[Stage]) -> list[int]:
        """All in one statement: references are checked when it is done."""
        parts: list[str | sa.ClauseElement] = ["WITH"]
        for place, stage in enumerate(stages):
            parts += [
                f"{', ' if place else ''}yeldro_{place} AS (",
                self._statements.insert_staged(stage),
            ]
            # Only a RETURNING makes the rows of such a part countable.
            parts.append("RETURNING 1)")
        counts = [
            f"(SELECT pg_catalog.count(*) FROM yeldro_{place})" for place in range(len(stages))
        ]
        return [
            int(count) for count in self._gate.run(Words(*parts, "SELECT", ", ".join(counts))).one()
        ]

    def find_last_change(self, table: Table) -> int:
        """A row knows which of the commands of a transaction wrote it."""
        command = sa.func.coalesce(sa.func.max(_COMMAND), sa.literal_column("-1"))
        rows = sa.select(command + sa.literal_column("1")).select_from(
            self._statements.table(table)
        )
        return self._gate.number(rows.where(self._is_own()))

    def count_touched(self, table: Table, stages: Sequence[Stage], since: int) -> int:
        rows = self._statements.count(table).where(*self._statements.is_other(table, stages))
        return self._gate.number(
            rows.where(self._is_own(), sa.literal_column(str(int(since))) <= _COMMAND)
        )

    def _is_own(self) -> sa.ColumnElement[bool]:
        """Whether a row was written by this transaction. With one snapshot no other one that it
        sees has a number as high as its own."""
        number = sa.cast(sa.func.txid_current() % sa.literal_column("4294967296"), sa.Text)
        own = sa.func.age(sa.cast(number, Named("xid")))
        written: sa.ColumnElement[bool] = sa.func.age(sa.literal_column("xmin")) <= own
        return written

    def advance_counters(self, stages: Sequence[Stage]) -> None:
        """Sequences do not follow values that were given. They are moved forward only, which no
        rollback undoes."""
        for stage in stages:
            name = stage.table.name
            with self._database.own_path():
                found = self._gate.run(
                    sa.text(_SEQUENCES).bindparams(schema=name.schema, table=name.name)
                ).all()
            for column, sequence, step, last in map(tuple, found):
                if column in stage.portion.columns:
                    staged = self._statements.staged(stage).c[column]
                    end = self._gate.run(
                        sa.select(sa.func.max(staged) if step > 0 else sa.func.min(staged))
                    ).scalar()
                    # Forward only: a number that was given out since must not be given out again.
                    if end is not None and (end - last) * step > 0:
                        moved = sa.func.setval(
                            sa.cast(sa.cast(sequence, sa.Text), Named("regclass")), int(end)
                        )
                        self._gate.run(sa.select(moved))


def make_lines(block: RowBlock) -> str:
    """Rows in the text form of COPY, which escapes as JSON does."""
    if (lines := block.rewrite(_turn, quote="", escaped_quote='"')) is not None:
        return lines
    rows = [
        [cell if cell is None else cell.translate(_ESCAPED) for cell in row] for row in block.read()
    ]
    return "".join(
        ["\t".join(["\\N" if cell is None else cell for cell in row]) + "\n" for row in rows]
    )


def _turn(between: str) -> str:
    """What stands between two texts of an array of rows, as it stands in lines of COPY."""
    text = between.removeprefix("[[")
    text = text.replace("]]", "\n").replace("],[", "\n").replace(",", "\t")
    return text.replace("null", "\\N")

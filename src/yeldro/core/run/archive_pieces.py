"""What of a reach is copied into the archive."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace

from yeldro.core.database.archive_format import Piece, Portion
from yeldro.core.database.connection import Database, KeySet
from yeldro.core.model.schema import Schema, Table
from yeldro.core.reach.reach import Reach
from yeldro.errors import UsageError

LeftOut = Mapping[Table, frozenset[str]]


def read_left_out(texts: Sequence[str], schema: Schema, root: Table | None) -> LeftOut:
    """Read `--leave-out COLS`: columns of the table itself, if there is only one, or TABLE.COLUMN.

    UsageError for what cannot be left out.
    """
    found: dict[Table, set[str]] = {}
    for text in (part.strip() for whole in texts for part in whole.split(",") if part.strip()):
        place, dot, name = text.rpartition(".")
        if not (dot or root):
            raise UsageError(
                f"--leave-out {text}: the steps are of several tables.", "Write TABLE.COLUMN."
            )
        table = root if root and not dot else schema.find_table(place)
        column = table.find_column(name).name
        keys = {part for key in table.lasting_keys for part in key}
        linking = {name for reference in schema.outgoing(table) for name in reference.columns}
        if not keys or column in keys | linking or column in schema.referred_columns(table):
            raise UsageError(
                f"{table.label}.{column} cannot be left out: without it a row could not be found "
                "again, or be linked."
            )
        found.setdefault(table, set()).add(column)
    return {table: frozenset(names) for table, names in found.items()}


def find_unkept(database: Database, reach: Reach, left_out: LeftOut) -> Iterator[str]:
    """The columns of the reach whose values cannot be kept exactly, each with the reason."""
    for table in dict.fromkeys(part.table for part in reach.parts if part.rows):
        for column in table.columns:
            form = database.find_form(column)
            if form.fault and column.name not in left_out.get(table, ()):
                yield f"{table.label}.{column.name} cannot be kept exactly: {form.fault}."
    changed = [
        *(one.reference.child for one in reach.detached),
        *(one.table for one in reach.changes),
    ]
    detached = Counter(table for table in changed if not table.lasting_keys)
    for change in reach.changes:
        lasting = [key for key in change.table.lasting_keys if not set(key) & set(change.columns)]
        if change.waiting and not lasting:
            yield (
                f"{change.table.label} has no key, so its rows that wait for --fill could not be "
                "brought back."
            )
    for table, references in detached.items():
        if references > 1:
            yield (
                f"{table.label} has no key, and {references} changes touch it: nobody could tell "
                "which was whose."
            )


def find_pieces(
    database: Database, reach: Reach, left_out: LeftOut, step: int = 1, earlier: int = 0
) -> list[Piece]:
    """A piece for each table that loses rows, one for each reference that is taken away, and one
    for each table whose rows get new values. They are those of a `step`; there are `earlier` ones.
    """
    pieces: list[Piece] = []
    for keys, rows in reach.deleted:
        if rows:
            columns, key = _kept(keys.table, left_out), find_lasting_key(database, keys)
            portion = Portion(
                earlier + len(pieces) + 1,
                keys.table,
                columns,
                rows,
                key,
                alike=None if key else database.count_alike(keys, columns),
                orphans=_count_orphans(database, reach, keys),
                step=step,
            )
            pieces.append(Piece(portion, keys))
    for detachment in reach.detached:
        table, treatment = detachment.reference.child, detachment.treatment
        columns = _kept(table, left_out)
        key = find_lasting_key(database, detachment.keys, treatment.columns)
        portion = Portion(
            earlier + len(pieces) + 1,
            table,
            columns,
            detachment.rows,
            key,
            detachment.reference,
            treatment.columns,
            treatment.to_default,
            None if key else database.count_alike(detachment.keys, columns),
            action="detach",
            step=step,
        )
        pieces.append(Piece(portion, detachment.keys))
    for change in reach.changes:
        columns, key = (
            _kept(change.table, left_out),
            find_lasting_key(database, change.keys, change.columns),
        )
        alike = None if key else database.count_alike(change.keys, columns)
        number = earlier + len(pieces) + 1
        portion = Portion(
            number,
            change.table,
            columns,
            change.rows,
            key,
            changed=change.columns,
            alike=alike,
            action=change.action,
            waits=change.waits,
            step=step,
        )
        pieces.append(Piece(portion, change.keys))
    return [replace(piece, unfilled=_find_unfilled(pieces, piece)) for piece in pieces]


def find_left(pieces: Sequence[Piece], table: Table) -> tuple[str, ...]:
    """The columns of which a copy of rows of a table says what they were left with."""
    kept = [one.portion for one in pieces if one.portion.table is table and one.portion.keeps_left]
    return tuple(dict.fromkeys(column for one in kept for column in one.changed))


def _find_unfilled(pieces: Sequence[Piece], piece: Piece) -> tuple[str, ...]:
    own = piece.portion.changed if piece.portion.keeps_left else ()
    return tuple(name for name in find_left(pieces, piece.portion.table) if name not in own)


def _kept(table: Table, left_out: LeftOut) -> tuple[str, ...]:
    return tuple(name for name in table.column_names if name not in left_out.get(table, ()))


def find_lasting_key(
    database: Database, keys: KeySet, changed: Sequence[str] = ()
) -> tuple[str, ...]:
    """The first unique columns that hold no NULL in any of the rows and keep their values; () where
    there are none."""
    for names in () if keys.alike else keys.table.lasting_keys:
        if set(names) & set(changed):
            continue
        columns = [keys.table.column(name) for name in names]
        if not any(column.nullable for column in columns) or not database.count_unset(keys, names):
            return names
    return ()


def _count_orphans(database: Database, reach: Reach, keys: KeySet) -> dict[str, int]:
    """Rows that point at nothing already: of the references that an engine did not keep, or kept
    only lately.

    Rows that came in through their only way in have a parent there.
    """
    found: dict[str, int] = {}
    if keys.whole and not database.abilities.rolls_back_truncate:
        return found  # no other table may be looked at meanwhile
    for reference in database.schema.outgoing(keys.table):
        trusted = reference.declared and reference.enforced and database.abilities.keeps_references
        came_by_it = keys.table is not reach.selection.table and _is_only_way(
            reach, keys, str(reference)
        )
        if not (reference.broken or trusted or came_by_it) and (
            rows := database.count_dangling(reference, keys)
        ):
            found[str(reference)] = rows
    return found


def _is_only_way(reach: Reach, keys: KeySet, reference: str) -> bool:
    ways = next(
        (part.via for part in reach.parts if part.table is keys.table and part.action == "delete"),
        (),
    )
    return list(map(str, ways)) == [reference]

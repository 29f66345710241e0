"""What of a reach is copied into the archive."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Iterator, Mapping, Sequence
from typing import Any

from msgspec.structs import replace

from yeldro.core.database.archive_format import Piece, Portion
from yeldro.core.database.connection import Database
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import AlikeRows, KeySet, WholeTable
from yeldro.core.model.schema import Schema, Table
from yeldro.core.reach.reach import Reach
from yeldro.errors import UsageError

LeftOut = Mapping[Table, frozenset[str]]


def read_left_out(texts: Sequence[str], schema: Schema, root: Table | None) -> LeftOut:
    """Read `--leave-out COLS`: columns of the table itself, if there is only one, or TABLE.COLUMN.

    UsageError for what cannot be left out.
    """
    found: dict[Table, set[str]] = {}
    names = [part.strip() for whole in texts for part in whole.split(",")]
    for text in filter(None, names):
        place, dot, name = text.rpartition(".")
        if not (dot or root):
            hint = "Write TABLE.COLUMN."
            raise UsageError(f"--leave-out {text}: the steps are of several tables.", hint)
        table = root if root and not dot else schema.find_table(place)
        column = table.find_column(name).name
        if not _can_be_left_out(table, column, schema):
            raise UsageError(
                f"{table.label}.{column} cannot be left out: without it a row could not be found "
                "again, or be linked."
            )
        found.setdefault(table, set()).add(column)
    return {table: frozenset(columns) for table, columns in found.items()}


def _can_be_left_out(table: Table, column: str, schema: Schema) -> bool:
    keys = {name for key in table.lasting_keys for name in key}
    linking = {name for reference in schema.outgoing(table) for name in reference.columns}
    needed = keys | linking | set(schema.referred_columns(table))
    return bool(keys) and column not in needed


def find_unkept(database: Database, reach: Reach, left_out: LeftOut) -> Iterator[str]:
    """What of the reach cannot be kept exactly, or could not be brought back, with the reason."""
    for table in dict.fromkeys(part.table for part in reach.parts if part.rows):
        for column in table.columns:
            form = database.archive.find_form(column)
            if form.fault and column.name not in left_out.get(table, ()):
                yield f"{table.label}.{column.name} cannot be kept exactly: {form.fault}."
    for change in reach.changes:
        lasting = [key for key in change.table.lasting_keys if not set(key) & set(change.columns)]
        if change.waiting and not lasting:
            yield (
                f"{change.table.label} has no key, so its rows that wait for --fill could not be "
                "brought back."
            )
    for change in reach.changes:
        for name in sorted(left_out.get(change.table, frozenset()) & set(change.columns)):
            yield f"{change.table.label}.{name} gets other values, so the copy needs it."
    yield from _find_entangled(reach)


def _find_entangled(reach: Reach) -> Iterator[str]:
    """Tables of which nobody could bring rows back, because each may be one of several."""
    altered = _find_altered(reach)
    for table, changes in _count_changes(reach).items():
        if changes > 1 and not any(
            set(key).isdisjoint(altered[table]) for key in table.lasting_keys
        ):
            yield (
                f"{table.label} has no key, and {changes} changes touch it: nobody could tell "
                "which was whose."
            )


def _find_altered(reach: Reach) -> defaultdict[Table, set[str]]:
    """The columns of rows that stay in which any change of a run leaves other values."""
    altered = defaultdict[Table, set[str]](set)
    for detachment in reach.detached:
        altered[detachment.reference.child].update(detachment.treatment.columns)
    for change in reach.changes:
        altered[change.table].update(change.columns)
    return altered


def _count_changes(reach: Reach) -> Counter[Table]:
    """How many kinds of change there are to rows that stay, by table."""
    detached = [detachment.reference.child for detachment in reach.detached]
    return Counter([*detached, *(change.table for change in reach.changes)])


def find_pieces(
    database: Database,
    reach: Reach,
    left_out: LeftOut,
    step: int = 1,
    earlier: int = 0,
    *,
    later: bool = False,
) -> list[Piece]:
    """A piece for each table that loses rows, one for each reference that is taken away, and one
    for each table whose rows get new values. They are those of a `step`; there are `earlier` ones.
    `later`: this transaction has changed rows before.
    """
    pieces: list[Piece] = []

    altered = _find_altered(reach)

    def add(keys: KeySet, rows: int, changed: tuple[str, ...], **more: Any) -> None:
        columns = _find_kept(keys.table, left_out)
        # Of a row that stays, another change may take what it would be told by.
        key = find_lasting_key(database, keys, (*changed, *altered[keys.table]) if changed else ())
        number = earlier + len(pieces) + 1
        alike = None if key else database.archive.count_alike(keys, columns)
        portion = Portion(
            number,
            keys.table,
            columns,
            rows,
            key,
            changed=changed,
            alike=alike,
            step=step,
            **more,
        )
        pieces.append(Piece(portion, keys, later=later))

    for keys, rows in reach.deleted:
        if rows:
            add(keys, rows, (), orphans=_count_orphans(database, reach, keys))
    for detachment in reach.detached:
        treatment = detachment.treatment
        add(
            detachment.keys,
            detachment.rows,
            treatment.columns,
            reference=detachment.reference,
            to_default=treatment.to_default,
            action=Action.DETACH,
        )
    for change in reach.changes:
        add(
            change.keys,
            change.rows,
            change.columns,
            action=change.action,
            waits=change.waits,
        )
    return [replace(piece, unfilled=_find_unfilled(pieces, piece)) for piece in pieces]


def find_left(pieces: Sequence[Piece], table: Table) -> tuple[str, ...]:
    """The columns of which a copy of rows of a table says what they were left with."""
    kept = [
        piece.portion
        for piece in pieces
        if piece.portion.table is table and piece.portion.keeps_left
    ]
    return tuple(dict.fromkeys(column for one in kept for column in one.changed))


def _find_unfilled(pieces: Sequence[Piece], piece: Piece) -> tuple[str, ...]:
    own = piece.portion.changed if piece.portion.keeps_left else ()
    return tuple(name for name in find_left(pieces, piece.portion.table) if name not in own)


def _find_kept(table: Table, left_out: LeftOut) -> tuple[str, ...]:
    return tuple(name for name in table.column_names if name not in left_out.get(table, ()))


def find_lasting_key(
    database: Database, keys: KeySet, changed: Sequence[str] = ()
) -> tuple[str, ...]:
    """The first unique columns that hold no NULL in any of the rows and keep their values; () where
    there are none."""
    for names in () if isinstance(keys, AlikeRows) else keys.table.lasting_keys:
        if set(names) & set(changed):
            continue
        columns = [keys.table.column(name) for name in names]
        if not any(column.nullable for column in columns) or not database.archive.count_unset(
            keys, names
        ):
            return names
    return ()


def _count_orphans(database: Database, reach: Reach, keys: KeySet) -> dict[str, int]:
    """Rows that point at nothing already: of the references that an engine did not keep, or kept
    only lately.

    Rows that came in through their only way in have a parent there.
    """
    found: dict[str, int] = {}
    if isinstance(keys, WholeTable) and not database.abilities.rolls_back_truncate:
        return found  # no other table may be looked at meanwhile
    for reference in database.schema.outgoing(keys.table):
        is_kept = reference.declared and reference.enforced and database.abilities.keeps_references
        if reference.broken or is_kept or _is_only_way(reach, keys, str(reference)):
            continue
        if rows := database.count_dangling(reference, keys):
            found[str(reference)] = rows
    return found


def _is_only_way(reach: Reach, keys: KeySet, reference: str) -> bool:
    """Whether the rows that go all came in through this reference."""
    if keys.table is reach.selection.table:
        return False
    for part in reach.parts:
        if part.table is keys.table and part.action is Action.DELETE:
            return [str(way) for way in part.via] == [reference]
    return False

"""The use case that writes a cleanup down: it is rehearsed, and every statement that matters is
kept.

A script holds the statements of a run, with the counts that they had: it does the same on the same
data, and undoes itself on other data.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any, cast

from yeldro.core.database.abilities import Mode
from yeldro.core.database.connection import Database
from yeldro.core.database.sent import Kind, Sent
from yeldro.core.model.key_set import WholeTable
from yeldro.core.model.schema import Family, Reference, Table, TableName
from yeldro.core.reach.reach import Reach, root_keys
from yeldro.core.run.archive_pieces import find_left, find_pieces
from yeldro.core.run.execute import run_plan
from yeldro.core.run.plan import make_plan
from yeldro.core.run.preview import Preview
from yeldro.core.run.written import Entry, Role, Writing, WrittenStep
from yeldro.core.selection.guards import Guards
from yeldro.errors import Refused
from yeldro.usecases.judge import Compare, judge
from yeldro.usecases.run import look_ahead
from yeldro.usecases.steps import Job
from yeldro.usecases.transaction import undo
from yeldro.words.tell import tell, voice_of

# Counts that a run compares with what they should be: in a script each is a check.
_PROOFS = {
    "count_present",
    "count_left",
    "count_lost",
    "count_detached",
    "count_dangling",
    "count_left_groups",
    "count_cleared",
}
# What a script shows and does not compare.
_LOOKS = {"sample", "ranked_rows"}
# What tells, on other data, that the rows picked are not the same ones.
_KNOWN = {"sum_keys", "count_ends"}
_COMMENTS = {
    "sum_keys": "The picked rows of {table} are the same ones: a sum over their keys",
    "count_ends": "The picked rows of {table} are the same ones: the lowest and the highest key",
    "match": "The rows of {table} that the selection picks",
    "pull": "The rows of {child} that depend on them through {reference}",
    "close_over": "The rows of {child} that depend on them through {reference}, at any depth",
    "merge": "Those of {table} in one place",
    "rank": "The rows of {table} that are the same, by group, the one that stays first",
    "lock_ranked": "Nobody else may change them from now on",
    "pair": "The surplus rows of {table}, each beside the row that takes its place",
    "find_cleared": "Those of {table} that hold anything else, each beside what it will hold",
    "count_cleared": "They are cleared: {table}",
    "fill_kept": "The values that rows of {table} that stay are filled with",
    "delete": "Delete rows of {table}",
    "delete_together": "Delete rows that reference each other in a cycle",
    "truncate": "Empty {table}",
    "detach": "Take the reference {reference} away from rows that stay",
    "unlink": "Take the reference {reference} away from rows that go, so that their order is free",
    "change": "Give rows of {table} their new values",
    "count_present": "None of them is left in {table}",
    "count_left": "No row references what is gone, through {reference}",
    "count_lost": "No row references what was replaced, through {reference}",
    "count_detached": "They are detached: {reference}",
    "count_dangling": "None of them points at nothing: {reference}",
    "count_left_groups": "No group of {table} holds several rows any more",
    "force_checks": "Check now what would be checked at the commit",
    "add_unique": "Keep such duplicates out from now on",
    "load_keys": "The keys that were listed",
}


_PARTS = ("ranking", "replacing", "archive")


class Scribe:
    """Stands in for a database while a cleanup is rehearsed, and keeps what is sent."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self.entries: list[Entry] = []
        self.proves = False
        self._told = ""

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._database, name)
        if name in _PARTS:
            return _PartOfScribe(self, found)
        return self.record_calls(name, found)

    def record_calls(self, name: str, found: Any) -> Any:
        """What keeps the statements of each call of `found`; itself where it is no method."""
        if not callable(found):
            return found

        def call(*arguments: Any, **options: Any) -> Any:
            sent: list[Sent] = []
            self._database.transcribe(sent.append)
            try:
                result = found(*arguments, **options)
                if name in _LOOKS:
                    result = iter(list(result))
            finally:
                self._database.transcribe(None)
            self._keep(name, arguments, result, sent)
            return result

        return call

    def take(self) -> list[Entry]:
        """What was kept since the last time."""
        taken, self.entries = self.entries, []
        return taken

    def _keep(self, name: str, arguments: Sequence[Any], result: Any, sent: Sequence[Sent]) -> None:
        comment = _describe(name, arguments)
        for one in sent:
            if name in _LOOKS:
                self.entries.append(Entry(Role.SELECT, one.text))
            elif name in _KNOWN:
                if one is sent[-1]:
                    self.entries.append(Entry(Role.CHECK, one.text, comment, rows=int(result)))
            elif name in _PROOFS:
                if self.proves:
                    self.entries.append(Entry(Role.CHECK, one.text, comment, rows=int(result)))
            elif one.kind is Kind.MAKE:
                self.entries.append(Entry(Role.MAKE, one.text, name=one.name))
            elif one.kind is not Kind.LOOK:
                role = Role.CHANGE if one.kind is Kind.CHANGE else Role.PLAIN
                counted = one.rows if role is Role.CHANGE and name != "unlink" else None
                self.entries.append(Entry(role, one.text, comment, comment != self._told, counted))
                self._told = comment


class _PartOfScribe:
    """The same for a part of the database."""

    def __init__(self, scribe: Scribe, part: object) -> None:
        self._scribe, self._part = scribe, part

    def __getattr__(self, name: str) -> Any:
        return self._scribe.record_calls(name, getattr(self._part, name))


def _describe(name: str, arguments: Sequence[Any]) -> str:
    reference = next((one for one in arguments if isinstance(one, Reference)), None)
    tables = [one.table for one in arguments if hasattr(one, "table")]
    tables += [one for one in arguments if isinstance(one, Table)]
    words = {
        "table": tables[0].label if tables else "",
        "reference": str(reference or ""),
        "child": reference.child.label if reference else "",
    }
    return _COMMENTS.get(name, "").format(**words)


def write_down(
    database: Database,
    make_jobs: Callable[[Database], Sequence[Job]],
    limits: Guards,
    compare: Compare,
    archive: str,
) -> Writing:
    """Rehearse, and keep the statements. Refused where the run would be. `archive` names the tables
    for the copies of rows, "" where none are kept."""
    database.write_for_people()
    scribe = Scribe(database)
    jobs = make_jobs(cast(Database, scribe))
    emptied = [job.selection.table for job in jobs if job.selection.truncate]
    if emptied and not database.abilities.rolls_back_truncate:
        raise Refused(database.abilities.truncates, "So a script cannot check it; use DELETE.")
    if any(job.seal for job in jobs):
        for found in list(look_ahead(database, make_jobs(database), limits, compare)):
            if found.difference:
                raise Refused(tell(found.refusals[0], voice_of(found)))
    done: list[WrittenStep] = []
    loaded = scribe.take()
    scribe.begin(Mode.WRITE, emptied)
    start = scribe.take()
    scribe.entries += loaded
    try:
        for number, job in enumerate(jobs, 1):
            name = f"{archive}_{number}" if archive and len(jobs) > 1 else archive
            earlier = [account.preview.reach for account in done]
            is_last = number == len(jobs)
            done.append(_write_step(scribe, job, limits, earlier, name, is_last))
    finally:
        undo(database)
    after = [text for job in jobs for text in job.write_follow_up()]
    return Writing(database.dialect, database.name, database.write_settings(), start, done, after)


def _write_step(
    scribe: Scribe, job: Job, limits: Guards, earlier: Sequence[Reach], archive: str, last: bool
) -> WrittenStep:
    database = cast(Database, scribe)
    scribe.proves = False
    found = judge(database, job, job.look(store=False), limits, earlier, last=last)
    if found.refusals:
        raise Refused(
            f"Step {job.name}: {tell(found.refusals[0], voice_of(found))}",
            "A script is only written of what would be run.",
        )
    if not found.reach.touched:
        return WrittenStep(found, scribe.take())
    _look_at_keys(database, found.reach)
    scribe.entries += _write_copies(scribe, found, archive) if archive else []
    scribe.proves = True
    # On other data the database may prove less.
    tally = run_plan(database, make_plan(found.reach), recount=True)
    fault = tally.fault or job.find_fault(found)
    if fault:
        raise Refused(f"Step {job.name}: the tally does not balance: {fault}.")
    return WrittenStep(found, scribe.take())


def _look_at_keys(database: Database, reach: Reach) -> None:
    """As many rows as before may be other ones, such as the next ones in an order."""
    keys = root_keys(reach)
    if isinstance(keys, WholeTable) or keys.table.shares_identity:
        return
    table, first = keys.table, keys.table.identity[0]
    is_column = first in table.column_names
    # A row number stands alone.
    if table.column(first).family is Family.INTEGER if is_column else len(table.identity) == 1:
        database.sum_keys(keys)
    if is_column:
        database.count_ends(keys)


def _write_copies(scribe: Scribe, found: Preview, archive: str) -> list[Entry]:
    database = cast(Database, scribe)
    reach, root = found.reach, found.selection.table
    pieces = find_pieces(database, reach, {})
    entries: list[Entry] = []
    for table in dict.fromkeys(piece.portion.table for piece in pieces):
        name = TableName(
            root.name.schema, archive if table is root else f"{archive}_{table.name.name}"
        )
        if name.folded in {known.name.folded for known in database.schema.tables}:
            raise Refused(
                f"There is a table {name.name} already.", "--archive-table NAME names other ones."
            )
        mine = [piece for piece in pieces if piece.portion.table is table]
        making = database.archive.write_copy_table(name, mine[0].portion, find_left(pieces, table))
        entries.append(
            Entry(Role.MAKE, making, f"Where the rows of {table.label} are kept", lasting=True)
        )
        for piece in mine:
            text = database.archive.write_copy(name, piece)
            entries.append(
                Entry(
                    Role.CHANGE, text, f"A copy of rows of {table.label}", rows=piece.portion.rows
                )
            )
    return entries

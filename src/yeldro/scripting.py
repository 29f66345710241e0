"""The use case that writes a cleanup down: it is rehearsed, and every statement that matters is kept.

A script holds the statements of a run, with the counts that they had: it does the same on the same data, and undoes
itself on other data.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import Any, cast

from yeldro.core.copying import find_left, find_pieces
from yeldro.core.database import Database, KeySet, Mode
from yeldro.core.guards import Guards
from yeldro.core.plan import make_plan
from yeldro.core.preview import Preview
from yeldro.core.reach import Reach, root_keys
from yeldro.core.run import run_plan
from yeldro.core.schema import Family, Reference, Table, TableName
from yeldro.core.writing import Entry, Role, Writing, WrittenStep
from yeldro.errors import Refused
from yeldro.jobs import Job
from yeldro.running import Compare, judge, look_ahead, undo

_CHANGES = re.compile(
    r"\s*(INSERT|UPDATE|DELETE|TRUNCATE|CREATE|DROP|ALTER|ANALYZE|SET|PRAGMA|LOCK|WITH\b.*\b(?:DELETE|UPDATE|INSERT)\b)",
    re.IGNORECASE | re.DOTALL,
)
_COUNTED = re.compile(r"\s*(INSERT|UPDATE|DELETE|WITH\b.*?\bINSERT)\b", re.IGNORECASE | re.DOTALL)
_LOCKS = re.compile(r"\bFOR (UPDATE|SHARE|NO KEY UPDATE)\b")
_PLANNER = re.compile(r"SET LOCAL enable_\w+ = ")
_TEMPORARY = re.compile(r"\s*CREATE (TEMP|TEMPORARY) TABLE", re.IGNORECASE)
_TIDY = {"\n)": ")", '"temp".': "temp."}
_NAME = re.compile(r"\byeldro_[0-9a-f]{6}_(\d+)\b")
_PROOFS = {"count_present", "count_left", "count_lost", "count_detached", "count_dangling"}
_LOOKS = {"sample", "ranked_rows"}
_KNOWN = {"sum_keys", "count_ends"}
_COMMENTS = {
    "sum_keys": "The picked rows of {table} are the same ones: a sum over their keys",
    "count_ends": "The picked rows of {table} are the same ones: the lowest and the highest key",
    "match": "The rows of {table} that the selection picks",
    "pull": "The rows of {child} that hang on them through {reference}",
    "close_over": "The rows of {child} that hang on them through {reference}, at any depth",
    "merge": "Those of {table} in one place",
    "rank": "The rows of {table} that are the same, by group, the one that stays first",
    "lock_ranked": "Nobody else may change them from now on",
    "pair": "The surplus rows of {table}, each beside the row that takes its place",
    "fill_kept": "The values that rows of {table} that stay are filled with",
    "delete": "Delete rows of {table}",
    "delete_together": "Delete rows that reference each other in a circle",
    "truncate": "Empty {table}",
    "detach": "Take the reference {reference} away from rows that stay",
    "unlink": "Take the reference {reference} away from rows that go, so that their order is free",
    "change": "Give rows of {table} their new values",
    "count_present": "None of them is left in {table}",
    "count_left": "No row references what is gone, through {reference}",
    "count_lost": "No row references what is gone, through {reference}",
    "count_detached": "They are detached: {reference}",
    "count_dangling": "None of them points at nothing: {reference}",
    "force_checks": "Check now what would be checked at the commit",
    "add_unique": "Keep such duplicates out from now on",
    "load_keys": "The keys that were listed",
}


class Scribe:
    """Stands in for a database while a cleanup is rehearsed, and keeps what is sent."""

    def __init__(self, database: Database) -> None:
        self._database = database
        self.entries: list[Entry] = []
        self.proves = False
        self._tables: dict[str, str] = {}
        self._told = ""
        self._usual = True

    def __getattr__(self, name: str) -> Any:
        found = getattr(self._database, name)
        if not callable(found):
            return found

        def call(*arguments: Any, **options: Any) -> Any:
            sent: list[tuple[str, int | None]] = []
            self._database.transcribe(lambda text, rows: sent.append((text, rows)))
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

    def name_tables(self, writing: Writing) -> Writing:
        """With names for the temporary tables that a person can read."""
        prefix = self._database.abilities.needless_prefix
        if any(table.name.name.lower() == prefix.lower() for table in self._database.schema.tables):
            prefix = ""  # where it stands in a condition, it may be the table's

        def rename(found: re.Match[str]) -> str:
            return f"yeldro_{found[1]}{self._tables.get(found[0], '')}"

        def plain(entry: Entry) -> Entry:
            text = _tidy(_NAME.sub(rename, _leave_out(entry.text, prefix)))
            return replace(entry, text="\n".join(line.rstrip() for line in text.splitlines()))

        start = [plain(entry) for entry in writing.start]
        steps = [replace(step, entries=[plain(entry) for entry in step.entries]) for step in writing.steps]
        return replace(writing, start=start, steps=steps)

    def _is_usual(self, text: str) -> bool:
        """Whether a setting for the planner is as it is anyway."""
        was, self._usual = self._usual, text.endswith("on")
        return was and self._usual

    def _keep(self, name: str, arguments: Sequence[Any], result: Any, sent: Sequence[tuple[str, int | None]]) -> None:
        if isinstance(result, KeySet):
            self._tables[result.name] = "_" + re.sub(r"\W+", "_", result.table.name.name)[:30]
        comment = _describe(name, arguments)
        for text, rows in sent:
            if name in _LOOKS:
                self.entries.append(Entry(Role.SELECT, text))
            elif name in _KNOWN:
                if text == sent[-1][0]:
                    self.entries.append(Entry(Role.CHECK, text, comment, rows=int(result)))
            elif name in _PROOFS:
                if self.proves:
                    self.entries.append(Entry(Role.CHECK, text, comment, rows=int(result)))
            elif _TEMPORARY.match(text):
                self.entries.append(Entry(Role.MAKE, text))
            elif _PLANNER.match(text) and self._is_usual(text):
                continue
            elif (name == "begin" and not text.startswith("SELECT")) or _LOCKS.search(text) or _CHANGES.match(text):
                counted = rows if _COUNTED.match(text) and name != "unlink" else None
                role = Role.CHANGE if _COUNTED.match(text) else Role.PLAIN
                self.entries.append(Entry(role, text, comment, comment != self._told, counted))
                self._told = comment


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
    """Rehearse, and keep the statements. Refused where the run would be. `archive` names the tables for the copies of
    rows, "" where none are kept."""
    scribe = Scribe(database)
    jobs = make_jobs(cast(Database, scribe))
    if any(job.selection.truncate for job in jobs) and not database.abilities.rolls_back_truncate:
        raise Refused(database.abilities.truncates, "So a script cannot check it; use DELETE.")
    if any(job.seal for job in jobs):
        for found in list(look_ahead(database, make_jobs(database), limits, compare)):
            if found.difference:
                raise Refused(found.refusals[0])
    done: list[WrittenStep] = []
    loaded = scribe.take()
    scribe.begin(Mode.WRITE, [job.selection.table for job in jobs if job.selection.truncate])
    start = scribe.take()
    scribe.entries += loaded
    try:
        for number, job in enumerate(jobs, 1):
            name = archive and f"{archive}_{number}" if len(jobs) > 1 else archive
            done.append(
                _write_step(scribe, job, limits, [one.preview.reach for one in done], name, number == len(jobs))
            )
    finally:
        undo(database)
    after = [text for job in jobs for text in job.write_follow_up()]
    return scribe.name_tables(Writing(database.dialect, database.name, database.write_settings(), start, done, after))


def _write_step(
    scribe: Scribe, job: Job, limits: Guards, earlier: Sequence[Reach], archive: str, last: bool
) -> WrittenStep:
    database = cast(Database, scribe)
    scribe.proves = False
    found = judge(database, job, job.look(store=False), limits, earlier, last=last)
    if found.refusals:
        raise Refused(f"Step {job.name}: {found.refusals[0]}", "A script is only written of what would be run.")
    if not found.reach.matched:
        return WrittenStep(found, scribe.take())
    _look_at_keys(database, found.reach)
    scribe.entries += _write_copies(scribe, found, archive) if archive else []
    scribe.proves = True
    tally = run_plan(database, make_plan(found.reach))
    fault = tally.fault or job.find_fault(found)
    if fault:
        raise Refused(f"Step {job.name}: the tally does not balance: {fault}.")
    return WrittenStep(found, scribe.take())


def _look_at_keys(database: Database, reach: Reach) -> None:
    """As many rows as before may be other ones, such as the next ones in an order."""
    keys = root_keys(reach)
    if keys.whole or keys.alike:
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
        name = TableName(root.name.schema, archive if table is root else f"{archive}_{table.name.name}")
        known = {(one.name.schema.lower(), one.name.name.lower()) for one in database.schema.tables}
        if (name.schema.lower(), name.name.lower()) in known:
            raise Refused(f"There is a table {name} already.", "--archive-table NAME names other ones.")
        mine = [piece for piece in pieces if piece.portion.table is table]
        making = database.write_copy_table(name, mine[0].portion, find_left(pieces, table))
        entries.append(Entry(Role.MAKE, making, f"Where the rows of {table.label} are kept", lasting=True))
        for piece in mine:
            text = database.write_copy(name, piece)
            entries.append(Entry(Role.CHANGE, text, f"A copy of rows of {table.label}", rows=piece.portion.rows))
    return entries


def _tidy(text: str) -> str:
    """Without what only keeps a comment in a condition from hiding what follows, where there is no comment."""
    if "--" in text or "#" in text:
        return text
    return re.sub(r"""'(?:[^'\\]|''|\\.)*'|\n\)|"temp"\.""", lambda found: _TIDY.get(found[0], found[0]), text)


def _leave_out(text: str, prefix: str) -> str:
    """A statement without the schema that a name has anyway, but for what stands in quotes."""
    if not prefix:
        return text
    pattern = rf"""'(?:[^'\\]|''|\\.)*'|(?<![\w.`"]){re.escape(prefix)}\.|(?<![\w.])[`"]{re.escape(prefix)}[`"]\."""
    return re.sub(pattern, lambda found: found[0] if found[0].startswith("'") else "", text)

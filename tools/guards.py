"""Takes each guard out, one at a time, in a copy of the project, and expects its test to fail.

Usage: ./dev guards [WORD...]; only guards whose name holds one of the words.
"""

import shutil
import subprocess
import sys
import tempfile
from dataclasses import dataclass
from pathlib import Path

ROOT = Path(__file__).parent.parent


@dataclass(frozen=True)
class Guard:
    """`code` in `file` is the guard, `without` the same without it; `test` must fail then."""

    name: str
    file: str
    code: str
    without: str
    test: str


CORE, SQLITE = "src/yeldro/core", "src/yeldro/engines/sqlite.py"
SQLITE_COPIES, SQLITE_STATEMENTS = (f"src/yeldro/engines/sqlite_{part}.py" for part in ("copies", "statements"))
DOORS, DELETIONS, REFUSALS = "tests/test_side_doors.py", "tests/test_deletions.py", "tests/test_refusals.py"
MY_VALUES, MY_STATEMENTS = "src/yeldro/engines/mariadb_values.py", "src/yeldro/engines/mariadb_statements.py"
PG_STATEMENTS = "src/yeldro/engines/postgresql_statements.py"
PG, MY = "src/yeldro/engines/postgresql.py", "src/yeldro/engines/mariadb.py"
SERVERS, OTHERS = "tests/engines/test_side_doors.py", "tests/engines/test_others_at_work.py"
SETTINGS = "tests/engines/test_settings.py"
RESTORE, EXACT = "tests/engines/test_restore.py", "tests/engines/test_exact.py"
CRASH = "tests/engines/test_crash.py"
LAW = "tests/property/test_laws.py"
RANKING, IMAGES, MERGING = "src/yeldro/engines/ranking.py", "src/yeldro/engines/images.py", f"{CORE}/merging.py"
DEDUPE, MERGED = "tests/engines/test_dedupe.py", "tests/property/test_merging.py"
RANKED = "tests/property/test_duplicates.py"
CLEANUPS, STEPS = "tests/test_cleanups.py", "tests/property/test_steps.py"
RUNNING = "src/yeldro/running.py"
UNSEEN, PG_CATALOGUE = "tests/engines/test_unseen.py", "src/yeldro/engines/postgresql_catalogue.py"
HOSTILE = "engines/test_hostile.py"
GUARDS = [
    Guard(
        "the database's own count is explained",
        f"{CORE}/tally.py",
        "if not fault and self.changed != self.explained:",
        "if False:",
        f"{DOORS}::test_a_trigger",
    ),
    Guard(
        "deleted keys are absent",
        f"{CORE}/run.py",
        "left = 0 if is_gone else dangling if keys.hangs else database.count_present(keys)",
        "left = 0",
        f"{DOORS}::test_a_trigger",
    ),
    Guard(
        "a step that does less than expected ends the run",
        f"{CORE}/run.py",
        "if step.rows is not None and done != step.rows:",
        "if False:",
        f"{DOORS}::test_a_trigger",
    ),
    Guard(
        "the transaction is still ours after each statement",
        "src/yeldro/engines/gate.py",
        "if self.in_transaction and not self.is_whole():",
        "if False:",
        f"{DOORS}::test_a_transaction_that_ended_behind_our_back_is_noticed",
    ),
    Guard(
        "the reach is compared with the preview",
        "src/yeldro/running.py",
        "if (came or went) and not self._changed:",
        "if False:",
        f"{DOORS}::test_what_others_did_since_the_preview",
    ),
    Guard(
        "a preview is kept from writing",
        SQLITE,
        "self._raw.set_authorizer(deny_changes)",
        "pass",
        f"{DOORS}::test_a_preview_cannot_write_even_where_the_connection_could",
    ),
    Guard(
        "links within a table are cleared first",
        f"{CORE}/order.py",
        "        if reference.on_delete not in abilities.tree_rules\n        and (",
        "        if False\n        and (",
        f"{DOORS}::test_a_deep_tree_of_cascades_goes_whole",
    ),
    Guard(
        "references compare with the collation of the referred column",
        SQLITE_STATEMENTS,
        'sa.collate(cell, there.collation or "BINARY") if affinity(',
        "cell if affinity(",
        f"{DOORS}::test_a_reference_meets_the_rows_that_sqlite_says",
    ),
    Guard(
        "an interrupt rolls back",
        "src/yeldro/running.py",
        "    undo(database)\n    return failed(error)",
        "    database.commit()\n    return failed(error)",
        f"{DELETIONS}::test_a_fault_at_any_statement_changes_nothing",
    ),
    Guard(
        "a path that is mistyped makes no file",
        SQLITE,
        "    if not path.exists():",
        "    if False:",
        f"{REFUSALS}::test_a_refusal_is_clear_and_changes_nothing",
    ),
    Guard(
        "a whole table needs --all-rows",
        f"{CORE}/preview.py",
        "return reach.matched == reach.table_rows > 1 and not reach.selection.all_rows",
        "return False",
        f"{REFUSALS}::test_a_refusal_is_clear_and_changes_nothing",
    ),
    Guard(
        "rows that go anyway stop nothing",
        f"{CORE}/reach.py",
        "rows = self.database.count_referencing(reference, parents, self.sets.get(reference.child.name))",
        "rows = self.database.count_referencing(reference, parents, None)",
        f"{LAW} -k sqlite",
    ),
    Guard(
        "circles are followed to the end",
        f"{CORE}/reach.py",
        "            if not added or not others:\n                return",
        "            return",
        f"{DOORS}::test_a_circle_is_followed_round_after_round",
    ),
    Guard(
        "foreign keys are switched on (SQLite)",
        SQLITE,
        'self._gate.run_text("PRAGMA foreign_keys = ON")',
        "pass",
        f"{SETTINGS}::test_settings_are_pinned_whatever_the_server_says",
    ),
    Guard(
        "settings are pinned (PostgreSQL)",
        PG,
        "if self._setting(name) != value:\n                try:",
        "if False:\n                try:",
        f"{SETTINGS}::test_settings_are_pinned_whatever_the_server_says",
    ),
    Guard(
        "settings are pinned (MariaDB)",
        MY,
        'self._gate.run_text(f"SET SESSION {name} = {written}")',
        "pass",
        f"{SETTINGS}::test_settings_are_pinned_whatever_the_server_says",
    ),
    Guard(
        "row security turns into an error",
        PG,
        '    "row_security": "off",\n',
        "",
        f"{SERVERS}::test_row_security_and_schemas_that_the_role_cannot_read_fail_the_run",
    ),
    Guard(
        "anti-joins on every incoming reference",
        f"{CORE}/run.py",
        "    dangling = _find_dangling(database, reach)",
        "    dangling: dict[Table, int] = {}",
        f"{SERVERS}::test_a_side_door",
    ),
    Guard(
        "references to columns that are not unique stop",
        f"{CORE}/reach.py",
        "        yield from self._ambiguous()\n",
        "",
        f"{SERVERS}::test_a_reference_to_columns_that_are_not_unique_stops",
    ),
    Guard(
        "storage engines that cannot roll back are refused",
        "src/yeldro/engines/mariadb_catalogue.py",
        "if not is_view and engine not in TRANSACTIONAL:",
        "if False:",
        f"{SERVERS}::test_a_table_that_cannot_be_trusted_is_refused",
    ),
    Guard(
        "circles without NULLs go in one statement (PostgreSQL)",
        f"{CORE}/run.py",
        "together = [step.keys for step in plan.steps if step.verb is Verb.DELETE] if plan.reach.late else []",
        "together: list[KeySet] = []",
        f"{SERVERS}::test_a_circle_without_a_column_that_may_be_null",
    ),
    Guard(
        "recursion is not cut short (MariaDB)",
        MY,
        '    "max_recursive_iterations": 4294967295,\n',
        "",
        f"{SERVERS}::test_a_tree_of_many_levels",
    ),
    Guard(
        "COMMIT is believed only when it happened (PostgreSQL)",
        PG,
        "        if self._raw.info.transaction_status != psycopg.pq.TransactionStatus.INTRANS:\n"
        "            raise did_not_commit()\n"
        "        try:\n"
        '            word = self._control("COMMIT")\n',
        '        try:\n            self._control("COMMIT")\n            word = "COMMIT"\n',
        f"{SETTINGS}::test_a_commit_that_the_server_turned_into_a_rollback_is_noticed",
    ),
    Guard(
        "COMMIT is believed only when it happened (MariaDB)",
        MY,
        "        if not self._is_whole():\n            raise did_not_commit()\n",
        "",
        f"{SETTINGS}::test_a_commit_that_the_server_turned_into_a_rollback_is_noticed",
    ),
    Guard(
        "one snapshot for the whole run (PostgreSQL)",
        PG,
        "BEGIN ISOLATION LEVEL REPEATABLE READ {access}",
        "BEGIN ISOLATION LEVEL READ COMMITTED {access}",
        f"{OTHERS}::test_inside_the_run",
    ),
    Guard(
        "the extended protocol takes one statement only (PostgreSQL)",
        PG,
        "prepare_threshold=0, ",
        "",
        f"{OTHERS}::test_several_statements_in_one_are_refused_by_the_server_itself",
    ),
    Guard(
        "a preview is read-only (MariaDB)",
        MY,
        "{'READ ONLY' if mode is Mode.READ else 'READ WRITE'}",
        "READ WRITE",
        f"{SETTINGS}::test_a_preview_cannot_write",
    ),
    Guard(
        "a condition that writes ends the run",
        "src/yeldro/engines/base.py",
        "if self._count_written() != before + own:",
        "if False:",
        "tests/engines/test_fuzz.py -k postgresql",
    ),
    Guard(
        "an unparsed condition stays in its brackets",
        f"{CORE}/condition.py",
        "if not (unparsed and text.strip() and _is_closed(text)):",
        "if not unparsed:",
        "tests/test_selections.py",
    ),
    Guard(
        "conditions are sent as they were written",
        "src/yeldro/engines/fragment.py",
        "    def self_group(self",
        "    def other_group(self",
        "tests/engines/test_cautions.py::test_a_condition_is_sent_as_it_was_written",
    ),
    Guard(
        "a table is locked whole before it is truncated (PostgreSQL)",
        PG,
        "for table in alone:",
        "for table in ():",
        f"{OTHERS}::test_a_truncate_waits_for_others",
    ),
    Guard(
        "a transaction is really open (SQLite)",
        SQLITE,
        '        else:\n            self._gate.run_text("BEGIN IMMEDIATE", Kind.PLAIN)',
        '        else:\n            self._gate.run_text("SELECT 1", Kind.PLAIN)',
        f"{REFUSALS}::test_a_command_that_promises_to_change_nothing_keeps_the_file",
    ),
    Guard(
        "children go by statements of ours, not by cascades",
        f"{CORE}/plan.py",
        "        for keys, rows in reach.deleted\n",
        "        for keys, rows in reach.deleted[-1:]\n",
        f"{LAW} -k sqlite",
    ),
    Guard(
        "NOT NULL trees go deepest first (MariaDB)",
        MY,
        "if len(rigid) == 1:",
        "if False:",
        f"{SERVERS}::test_a_tree_of_many_levels",
    ),
    Guard(
        "tables are named with their schema",
        "src/yeldro/engines/statements.py",
        "*columns, schema=table.name.schema)",
        "*columns)",
        f"{OTHERS}::test_a_temporary_table_of_the_same_name_is_not_meant",
    ),
    Guard(
        "a preview is read-only (PostgreSQL)",
        PG,
        'access = "READ ONLY" if mode is Mode.READ else "READ WRITE"',
        'access = "READ WRITE"',
        f"{SETTINGS}::test_a_preview_cannot_write",
    ),
    Guard(
        "what is archived is what is deleted, to the last count",
        "src/yeldro/store/archive.py",
        "            if rows != portion.rows:",
        "            if False:",
        f"{RESTORE}::test_an_archive_that_is_not_whole_forbids_the_run",
    ),
    Guard(
        "the archive holds the latest values (MariaDB)",
        MY_STATEMENTS,
        'return self.met(rows.prefix_with("STRAIGHT_JOIN"))',
        'return rows.prefix_with("STRAIGHT_JOIN")',
        f"{RESTORE}::test_the_archive_holds_the_latest_values",
    ),
    Guard(
        "a commit whose answer is lost leaves a run in doubt",
        "src/yeldro/keeper.py",
        "        self.is_final = True\n",
        "",
        f"{RESTORE}::test_a_commit_whose_answer_is_lost",
    ),
    Guard(
        "the archive is there before the first change",
        "src/yeldro/keeper.py",
        "            self._archive(self._record, found.reach)\n",
        "            pass\n",
        CRASH,
    ),
    Guard("FLOAT is kept as a DOUBLE", MY_VALUES, 'return Way("double")', 'return Way("plain")', EXACT),
    Guard("bytes are kept in hexadecimal", MY_VALUES, 'return Way("hexadecimal")', 'return Way("plain")', EXACT),
    Guard(
        "texts of some character sets are kept as bytes",
        MY_VALUES,
        '"text" if column.collation.partition("_")[0] in _LIKE_UNICODE else "bytes"',
        '"text"',
        EXACT,
    ),
    Guard("the error value of an ENUM comes back", MY, "_LOADING if enums else f", "f", EXACT),
    Guard("a function is kept by its number, not its name", PG_STATEMENTS, '("regproc",', '("none",', EXACT),
    Guard("identities come back as they were", PG_STATEMENTS, '"OVERRIDING SYSTEM VALUE", rows', "rows", EXACT),
    Guard(
        "sequences are moved forward",
        PG,
        "if end is not None and (end - last) * step > 0:",
        "if False:",
        f"{RESTORE}::test_into_another_database",
    ),
    Guard(
        "keys travel with their types (SQLite)",
        SQLITE_COPIES,
        "CAST(?{2 * place + 1} AS TEXT)",
        "?{2 * place + 1}",
        EXACT,
    ),
    Guard(
        "a table's own REPLACE is not obeyed (SQLite)",
        SQLITE_STATEMENTS,
        'return statement.prefix_with("OR ABORT")',
        "return statement",
        f"{RESTORE}::test_nothing_else_is_overwritten_or_touched",
    ),
    Guard(
        "a detachment touches no other column (MariaDB)",
        "src/yeldro/engines/statements.py",
        ".values({**self.untouched(keys.table), **new})",
        ".values(new)",
        f"{RESTORE}::test_nothing_else_is_overwritten_or_touched",
    ),
    Guard(
        "what a trigger alters is no restored row",
        "src/yeldro/core/restore.py",
        "    inserted = sum(_count_whole(database, part) for part in mine)",
        "    inserted = sum(part.to_do for part in mine)",
        f"{RESTORE}::test_a_restoration",
    ),
    Guard(
        "records are for their owner only",
        "src/yeldro/store/disk.py",
        'os.O_EXCL | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0), 0o600',
        'os.O_EXCL | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0), 0o644',
        f"{RESTORE}::test_what_a_record_holds_and_who_may_read_it",
    ),
    Guard(
        "a NULL equals nothing among duplicates",
        RANKING,
        "if grouping.nulls_differ else []",
        "if False else []",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "a NULL loses, whichever way an engine sorts it",
        RANKING,
        "return [sa.case((value.is_(None), 1), else_=0), value.desc()]",
        "return [value.desc()]",
        RANKED,
    ),
    Guard(
        "ties fall to the lowest key",
        RANKING,
        "order_by=[*order, *identity]).label",
        "order_by=[*order, identity[0].desc()]).label",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "every reference into surplus rows is moved",
        MERGING,
        "            found.setdefault(child.name, []).append(reference)\n",
        "            found.setdefault(child.name, [reference])\n",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "moved rows that collide with each other are found",
        IMAGES,
        "every = sa.union_all(moved, there)",
        "every = sa.union_all(moved.where(sa.false()), there)",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "a kept row never points at itself",
        IMAGES,
        "sa.case((itself, sa.null()), else_=value) if name in free else value",
        "value",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "rows never come to hang on themselves",
        MERGING,
        "(rows := looped or self.database.count_loops(reference, [images]))",
        "(rows := looped)",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "ranked rows are locked",
        PG,
        "            self._gate.run(self._statements.lock(ranked, among))\n",
        "            pass\n",
        f"{DEDUPE}::test_nobody_takes_the_kept_row",
    ),
    Guard(
        "a kept row that hangs on a surplus one stops a run that deletes dependents",
        MERGING,
        "else [*_kept_stops(search, ranking)]",
        "else []",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "case is folded beyond ASCII",
        "src/yeldro/core/spelling.py",
        ".casefold()",
        "",
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "as many rows that are alike go as are surplus",
        MY,
        'f"LIMIT {int(rows)}"',
        '""',
        f"{DEDUPE}::test_a_run",
    ),
    Guard(
        "what rows were left with is compared before they get their old values back",
        "src/yeldro/engines/staging.py",
        "same = self.is_same(stage.table, changed, clause, self._as_left(stage)) if changed else sa.true()",
        "same = sa.true()",
        f"{DEDUPE}::test_what_was_changed_since_is_left_alone",
    ),
    Guard(
        "rows that an earlier step brings are asked for",
        RUNNING,
        "if came and self.manner.ask_first:",
        "if False:",
        f"{CLEANUPS}::test_rows_that_an_earlier_step_brings_are_asked_for",
    ),
    Guard(
        "a sealed step finds only what is under its seal",
        RUNNING,
        "if came and job.seal:",
        "if False:",
        f"{CLEANUPS}::test_a_sealed_cleanup_runs_only_on_what_was_sealed",
    ),
    Guard(
        "a seal is compared before anything is done",
        RUNNING,
        "if seal == job.seal:",
        "if True:",
        f"{CLEANUPS}::test_a_sealed_cleanup_runs_only_on_what_was_sealed",
    ),
    Guard(
        "guards hold for all steps together",
        f"{CORE}/preview.py",
        "rows = reach.rows + sum(one.rows for one in earlier)",
        "rows = reach.rows",
        f"{CLEANUPS}::test_each_step_sees_what_those_before_it_did",
    ),
    Guard(
        "an archive is complete only before the commit",
        "src/yeldro/keeper.py",
        "self._writer.complete()",
        "pass",
        f"{CLEANUPS}::test_each_step_sees_what_those_before_it_did",
    ),
    Guard(
        "SQLite's later steps are copied as earlier ones left them",
        SQLITE_COPIES,
        "return portion.step > 1",
        "return False",
        f"{STEPS}::test_steps_together_do_what_they_do_one_by_one[sqlite]",
    ),
    Guard(
        "steps are undone backwards",
        f"{CORE}/restore.py",
        "for step in sorted({stage.portion.step for stage in stages}, reverse=True):",
        "for step in sorted({stage.portion.step for stage in stages}):",
        f"{STEPS}::test_steps_together_do_what_they_do_one_by_one[sqlite]",
    ),
    Guard(
        "a run of entangled steps is restored once",
        "src/yeldro/restoring.py",
        "if label := find_entangled(portions):",
        "if False:",
        f"{STEPS}::test_steps_together_do_what_they_do_one_by_one[sqlite]",
    ),
    Guard(
        "two runs of a cleanup exclude each other",
        "src/yeldro/cli/cleanups.py",
        'database.exclude(f"yeldro run {path.name}")',
        "pass",
        f"{CLEANUPS}::test_two_runs_at_once_exclude_each_other",
    ),
    Guard(
        "a script compares what its changes touch",
        "src/yeldro/scripting.py",
        'counted = one.rows if role is Role.CHANGE and name != "unlink" else None',
        "counted = None",
        f"{STEPS}::test_a_script_does_what_a_run_does",
    ),
    Guard(
        "a script knows its rows",
        "src/yeldro/scripting.py",
        "    if keys.whole or keys.table.shares_identity:\n",
        "    if True:\n",
        f"{CLEANUPS}::test_a_script_knows_its_rows",
    ),
    Guard(
        "a script from a schema file stops where a run does",
        f"{CORE}/blueprint.py",
        "if rules.treatment(one).action is Action.STOP:",
        "if False:",
        f"{STEPS}::test_a_script_from_a_schema_file_does_what_a_run_does",
    ),
    Guard(
        "a reference in a schema file is read, or it is an error",
        f"{CORE}/ddl.py",
        "if len(table.links) - before != statement.references:",
        "if False:",
        "tests/core/test_blueprint.py::test_a_schema_file_that_is_none",
    ),
    Guard(
        "a seal tells matched rows from those that hang on them",
        f"{CORE}/seal.py",
        "apart = keys is root and not (keys.new or keys.alike)",
        "apart = False",
        f"{CLEANUPS}::test_a_seal_tells_matched_rows_from_those_that_hang_on_them",
    ),
    Guard(
        "a condition says only parameters that there are",
        f"{CORE}/cleanup_reading.py",
        "if name not in params:",
        "if False:",
        f"{CLEANUPS}::test_a_fault_is_told_with_its_line",
    ),
    Guard(
        "a file is only written where it can be read back",
        "src/yeldro/store/cleanup_file.py",
        "        if faults:\n            told = ",
        "        if False:\n            told = ",
        f"{CLEANUPS}::test_paths_in_a_file_count_from_its_folder",
    ),
    Guard(
        "no value ends a script's own quotes",
        f"{CORE}/targets.py",
        "not in whole)",
        ")",
        f"{CLEANUPS}::test_a_script_takes_any_text",
    ),
    Guard(
        "a script that was undone does nothing more (SQLite)",
        SQLITE,
        "            delete = delete.where(any_number)\n",
        "",
        "tests/engines/test_scripts.py::test_a_script_that_fails_changes_nothing",
    ),
    Guard(
        "a script is UTF-8 whatever its client thinks (MariaDB)",
        MY,
        '"SET NAMES utf8mb4", ',
        "",
        f"{CLEANUPS}::test_a_script_takes_any_text",
    ),
    Guard(
        "copies of a reference for partitions are none of its own",
        PG_CATALOGUE,
        "WHERE k.contype = 'f' AND k.conparentid = 0\n",
        "WHERE k.contype = 'f'\n",
        f"{UNSEEN}::test_a_reference_to_a_partitioned_table_is_one_reference",
    ),
    Guard(
        "a reference compares by its own operator",
        PG_STATEMENTS,
        "        if not reference.operators:\n            return super().meets",
        "        if True:\n            return super().meets",
        f"{UNSEEN}::test_a_reference_compares_by_its_own_operator_and_collation",
    ),
    Guard(
        "what an account cannot see stops a run",
        f"{CORE}/preview.py",
        "if rows and (hidden := database.schema.hidden.get(keys.table.name)):",
        'if hidden := "":',
        f"{UNSEEN}::test_what_an_account_cannot_see_stops_a_run",
    ),
    Guard(
        "triggers that write to what cannot roll back stop a run",
        f"{CORE}/preview.py",
        "    if not guards.no_rollback:\n        for reason",
        "    if False:\n        for reason",
        f"{UNSEEN}::test_a_trigger_that_writes_to_what_cannot_roll_back",
    ),
    Guard(
        "tables that were emptied as a whole are noticed",
        f"{CORE}/tally.py",
        "if not fault and self.replaced:",
        "if False:",
        f"{UNSEEN}::test_what_a_trigger_does_to_whole_tables_is_noticed",
    ),
    Guard(
        "blank texts equal nothing",
        RANKING,
        "is_text = family in (Family.TEXT, Family.OTHER)",
        "is_text = False",
        f"{UNSEEN}::test_blank_texts_are_the_same_as_none",
    ),
    Guard(
        "spellings are told apart by their bytes",
        "src/yeldro/engines/spelling.py",
        ".group_by(self._mark(cell))",
        ".group_by(cell)",
        f"{UNSEEN}::test_ignoring_more_never_finds_less",
    ),
    Guard(
        "texts are compared to their end (MariaDB)",
        MY,
        "if column and column.type in _LONG else cell",
        "if False else cell",
        f"{UNSEEN}::test_long_texts_are_compared_to_their_end",
    ),
    Guard(
        "a run is settled by all of its rows",
        "src/yeldro/restoring.py",
        "if ending is None and 0 < gone < rows:",
        "if False:",
        f"{UNSEEN}::test_a_run_in_doubt",
    ),
    Guard(
        "a run that never came near its commit was rolled back",
        "src/yeldro/restoring.py",
        'record.facts.get("final") is False:',
        'record.facts.get("final") is None:',
        f"{UNSEEN}::test_a_run_in_doubt",
    ),
    Guard(
        "an error that the server sends for a commit is an answer (PostgreSQL)",
        PG,
        "if state and not state.startswith(_OF_CONNECTIONS):",
        "if False:",
        f"{UNSEEN}::test_an_error_for_a_commit_is_an_answer",
    ),
    Guard(
        "an error that the server sends for a commit is an answer (MariaDB)",
        MY,
        "if code not in _LOST and (_FIRST <= code < _OF_DRIVER[0] or code > _OF_DRIVER[1]):",
        "if False:",
        f"{UNSEEN}::test_an_error_for_a_commit_is_an_answer",
    ),
    Guard(
        "an archive that was never finished is damaged",
        "src/yeldro/restoring.py",
        "    if not source.is_complete:\n",
        "    if False:\n",
        f"{UNSEEN}::test_a_damaged_archive_is_no_empty_one",
    ),
    Guard(
        "special unique indexes are looked at before a merge",
        f"{CORE}/schema.py",
        "for columns in known), *self.specials)",
        "for columns in known),)",
        f"{UNSEEN}::test_a_special_unique_index_is_looked_at_before_a_merge",
    ),
    Guard(
        "links that a constraint needs stay",
        f"{CORE}/order.py",
        "        and reference.is_clearable\n",
        "",
        f"{UNSEEN}::test_links_that_cannot_be_cleared",
    ),
    Guard(
        "literals: control characters (SQLite)",
        "src/yeldro/engines/literals.py",
        "    if text.isprintable():\n        return _quoted(text)\n    pieces",
        "    if True:\n        return _quoted(text)\n    pieces",
        "tests/property/test_literals.py",
    ),
    Guard(
        "literals: bytes (MariaDB)",
        "src/yeldro/engines/literals.py",
        'if text.isascii() and text.isprintable() and "\\\\" not in text:',
        "if True:",
        "tests/property/test_literals.py",
    ),
    Guard(
        "a run is settled in its own database only",
        "src/yeldro/cli/records.py",
        'if full_address(place.address) != record.facts["address"]:',
        "if False:",
        f"{UNSEEN}::test_a_run_in_doubt",
    ),
    Guard(
        "rows that are alike are not counted apart",
        f"{CORE}/selection.py",
        "if asked.limit is not None and table.shares_identity:",
        "if False:",
        f"{UNSEEN}::test_what_cannot_be_done_without_a_key",
    ),
    Guard(
        "a restore drops the index that its run added",
        "src/yeldro/restoring.py",
        'made = self.record.facts.get("made_indexes", ())',
        "made = ()",
        f"{UNSEEN}::test_a_restore_drops_the_unique_index_that_the_run_added",
    ),
    Guard(
        "SQLite looks for a parent with the affinity of its column",
        SQLITE_STATEMENTS,
        'if kind in ("TEXT", "BLOB") and affinity(',
        "if kind in () and affinity(",
        f"{UNSEEN}::test_a_reference_between_types",
    ),
    Guard(
        "what a column holds beside its type is a caution (SQLite)",
        f"{CORE}/doubts.py",
        "        if rows := look.count(odd):\n            matching",
        "        if rows := 0:\n            matching",
        f"{UNSEEN}::test_columns_that_hold_other_things_than_they_say",
    ),
    Guard(
        "what a trigger's insertion replaces is looked at (SQLite)",
        SQLITE,
        'if verb == "insert" and {name.lower(), trigger.lower()} & replacing:',
        "if False:",
        f"{UNSEEN}::test_a_harmless_trigger_hides_no_other_one",
    ),
    Guard(
        "what a trigger's insertion writes over is looked at (MariaDB)",
        "src/yeldro/engines/mariadb_triggers.py",
        'if word.keyword == "INSERT" and _has_update(words, place):',
        "if False:",
        f"{UNSEEN}::test_a_harmless_trigger_hides_no_other_one",
    ),
    Guard(
        "tables that the server opens and the account cannot see",
        "src/yeldro/engines/mariadb_catalogue.py",
        "    if _count_opening(gate, tables) == ",
        "    if True or _count_opening(gate, tables) == ",
        f"{UNSEEN}::test_what_an_account_cannot_see_stops_a_run",
    ),
    Guard(
        "a trigger that writes through a view is a stop (MariaDB)",
        MY,
        'if known and known.kind != "table":',
        "if False:",
        f"{UNSEEN}::test_a_trigger_that_writes_to_what_cannot_roll_back",
    ),
    Guard(
        "rows with NULLs in the key are watched by a restore",
        "src/yeldro/engines/staging.py",
        "wanted.append(sa.or_(*(cell.is_(None) for cell in own), others))",
        "wanted.append(others)",
        f"{UNSEEN}::test_rows_with_nulls_in_the_key_are_other_rows_too",
    ),
    *(
        Guard(name, file, code, without, f"tests/{test}")
        for name, file, code, without, test in (
            (
                "our statements name everything in full",
                PG,
                "    engine.dialect.statement_compiler = FullCompiler\n",
                "",
                f"{HOSTILE}::test_nobody_elses_function_or_operator_is_called",
            ),
            (
                "the catalogue is read with nothing but what comes with the server",
                PG,
                "search_path = pg_catalog, pg_temp",
                "search_path = public, works, pg_temp",
                f"{HOSTILE}::test_nobody_elses_function_or_operator_is_called",
            ),
            (
                "what a condition calls is judged",
                "src/yeldro/engines/statements.py",
                "        self.judge(condition.text)\n",
                "",
                f"{HOSTILE}::test_a_condition_only_looks",
            ),
            (
                "a look on PostgreSQL is rolled back",
                PG,
                "            self.rollback()\n            for keys, spooled in waiting:",
                "            self.commit()\n            for keys, spooled in waiting:",
                f"{HOSTILE}::test_a_preview_leaves_nothing_behind",
            ),
            (
                "a password does not go out in clear",
                "src/yeldro/engines/mariadb_link.py",
                "if plugin_name in _IN_THE_CLEAR and",
                "if False and",
                f"{HOSTILE}::test_a_server_gets_neither_files_nor_a_password_in_clear",
            ),
            (
                "logging in ends in time",
                "src/yeldro/engines/mariadb_link.py",
                "    watch.start()\n",
                "    watch.cancel()\n",
                f"{HOSTILE}::test_logging_in_ends_in_time",
            ),
            (
                "an interrupt is seen while a server talks",
                "src/yeldro/engines/postgresql_link.py",
                "self.pgconn.notice_handler = None",
                "pass",
                f"{HOSTILE}::test_an_interrupt_ends_everything_at_once",
            ),
            (
                "a pooler is noticed",
                PG,
                "if row is None or row[0] != raw.info.backend_pid:",
                "if row is None:",
                "engines/test_links.py::test_a_pooler_between_us_and_the_server",
            ),
            (
                "the name in a certificate counts",
                "src/yeldro/engines/mariadb_link.py",
                '        if tls != "verify":\n',
                "        if True:\n",
                "engines/test_links.py::test_tls",
            ),
            (
                "an address that only a file names is asked about",
                "src/yeldro/cli/place.py",
                "    if not place.source or place.address.is_file:",
                "    if True:",
                "test_hostile.py::test_an_address_never_shows_its_password",
            ),
            (
                "a message hides what may be a password",
                "src/yeldro/cli/screen.py",
                "        message, hint = hide_passwords(message), hide_passwords(hint)\n",
                "",
                "test_hostile.py::test_an_address_never_shows_its_password",
            ),
            (
                "what others could have written is not used",
                "src/yeldro/store/disk.py",
                "    if found.st_mode & stat.S_IWOTH and not",
                "    if False and not",
                "test_hostile.py::test_what_others_could_have_written_is_not_used",
            ),
            (
                "nothing steers the terminal",
                "src/yeldro/cli/screen.py",
                "Segment(make_visible(segment.text), segment.style)",
                "segment",
                "test_hostile.py::test_nothing_steers_the_terminal",
            ),
            (
                "a log follows no link",
                "src/yeldro/store/disk.py",
                'flags = os.O_CREAT | os.O_APPEND | os.O_WRONLY | getattr(os, "O_NOFOLLOW", 0)',
                "flags = os.O_CREAT | os.O_APPEND | os.O_WRONLY",
                "test_hostile.py::test_what_is_written_is_private_and_follows_no_link",
            ),
            (
                "a view is no table of an archive",
                "src/yeldro/store/archive.py",
                "            check_tables(self._file, *_TABLES)\n",
                "",
                "test_hostile.py::test_an_archive_of_somebody_else",
            ),
            (
                "a session that only looks stays one",
                "src/yeldro/engines/base.py",
                "        if mode is Mode.WRITE and self._only_looks:",
                "        if False:",
                "engines/test_accounts.py::test_a_session_that_is_read_only_by_default",
            ),
        )
    ),
    *(
        Guard(
            f"a script proves: {kind}",
            "src/yeldro/scripting.py",
            "            elif name in _PROOFS:\n",
            f"            elif name in _PROOFS - {{'{kind}'}}:\n",
            "tests/engines/test_scripts.py::test_each_check_of_a_script_stops_it",
        )
        for kind in (
            "count_present",
            "count_left",
            "count_lost",
            "count_detached",
            "count_dangling",
            "count_left_groups",
        )
    ),
]


def fails_without(guard: Guard) -> bool:
    """Whether the guard's test fails in a copy of the project without the guard."""
    with tempfile.TemporaryDirectory() as folder:
        copy = Path(folder) / "project"
        shutil.copytree(
            ROOT, copy, ignore=shutil.ignore_patterns(".git", "docs", "__pycache__", ".*_cache", ".hypothesis")
        )
        path = copy / guard.file
        text = path.read_text(encoding="utf-8")
        if text.count(guard.code) != 1:
            sys.stdout.write(f"its code stands {text.count(guard.code)} times in {guard.file}: ")
            return False
        path.write_text(text.replace(guard.code, guard.without), encoding="utf-8")
        command = [sys.executable, "-m", "pytest", "-x", "-q", "-n", "0", "-p", "no:cacheprovider", *guard.test.split()]
        environment = {"PYTHONPATH": str(copy / "src"), "PATH": "/usr/bin:/bin", "YELDRO_NO_SHRINK": "1", "CI": "1"}
        run = subprocess.run(command, cwd=copy, env=environment, capture_output=True, text=True)
        return run.returncode == 1


def main() -> None:
    chosen = [guard for guard in GUARDS if not sys.argv[1:] or any(word in guard.name for word in sys.argv[1:])]
    missed = 0
    for guard in chosen:
        failed = fails_without(guard)
        missed += not failed
        sys.stdout.write(f"{'fails without' if failed else 'PASSES WITHOUT'}: {guard.name} ({guard.test})\n")
        sys.stdout.flush()
    if missed:
        sys.exit(1)


if __name__ == "__main__":
    main()

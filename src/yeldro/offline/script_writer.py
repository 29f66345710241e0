"""A cleanup as a script for an engine that nobody connects to, from its schema alone.

Nothing is known of the rows, so the script finds the reach itself: key tables are filled until
nothing more comes in, and each change is compared with the rows that it should touch.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from msgspec import Struct
from msgspec.structs import replace

from yeldro.core.clearing.request import ClearRequest, Emptiness, read_columns
from yeldro.core.clearing.rules import make_rules
from yeldro.core.database.abilities import Abilities
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import StoredKeys, find_carried
from yeldro.core.model.schema import Reference, ReferentialAction, Schema, Table
from yeldro.core.reach.order import find_order, reachable
from yeldro.core.reach.request import Request
from yeldro.core.reach.rules import Rules
from yeldro.core.selection.guards import Guards, check_enforced
from yeldro.core.selection.selection import Selection, read_selection
from yeldro.engines.shared.statements import Words
from yeldro.engines.shared.writer import Writer
from yeldro.errors import Refused
from yeldro.offline.script_entries import (
    Change,
    Check,
    Entry,
    Fill,
    Finish,
    Make,
    Repeat,
    Say,
)
from yeldro.offline.statements import NEVER, OfflineStatements
from yeldro.offline.target import Target

_ACTION = "yeldro_action"


class Task(Struct, frozen=True):
    """One step: its name, and what it asks for."""

    name: str
    request: Request | DuplicatesRequest


def write_entries(
    schema: Schema, target: Target, tasks: Sequence[Task], limits: Guards, archive: str
) -> list[Entry]:
    """What the script does. Refused for what can only be done where the rows can be seen."""
    writer = _Writer(schema, target, limits, archive)
    for number, task in enumerate(tasks, 1):
        writer.step(number, task, alone=len(tasks) == 1, last=number == len(tasks))
    return writer.entries


class _Writer:
    """Writes the steps one after the other. `sets` are the key tables of the current one, `reached`
    those of all so far, each with whether it holds the rows that were asked for. `cleared` are the
    columns that the current one clears, () where its rows go."""

    def __init__(self, schema: Schema, target: Target, limits: Guards, archive: str) -> None:
        self.schema = schema
        self.target = target
        self.limits = limits
        self.archive = archive
        self.entries: list[Entry] = []
        self.cleared: tuple[str, ...] = ()
        self.reached: list[tuple[StoredKeys, bool]] = []
        self.statements = OfflineStatements(target.quoted)
        self.statements.avoid(table.name.name for table in schema.tables)
        self.text = Writer(target.make_dialect(), target.dialect, target.literal)

    def step(self, number: int, task: Task, *, alone: bool, last: bool) -> None:
        self.number = number
        self.suffix = "" if alone else f"_{number}"
        self.sets: dict[Table, StoredKeys] = {}
        self.copies: dict[Table, sa.TableClause] = {}
        self.entries.append(Say(f"Step {number}, {task.name}", step=True))
        request = task.request
        self.cleared = ()
        if isinstance(request, Request):
            root, rules = self.find_selected(request)
        else:
            root, rules = self.find_surplus(request)
        self.follow(rules)
        mine = [(keys, table is root) for table, keys in self.sets.items()]
        self.reached += mine
        self.limit(request.guards, mine, root.label, expects=True)
        self.limit(self.limits, self.reached, "all steps", expects=last)
        self.stop(rules)
        if self.archive:
            self.keep(rules)
        if isinstance(request, DuplicatesRequest):
            self.move(request)
        self.detach(rules)
        if isinstance(request, ClearRequest):
            self.clear(request, self.sets[root])
        else:
            self.delete()
        self.prove()
        if isinstance(request, DuplicatesRequest):
            self.prove_groups(request)

    def name(self, what: str) -> str:
        """A name for a key table. Oracle had no longer ones for a long time."""
        made = [entry for entry in self.entries if isinstance(entry, Make) and not entry.lasting]
        return self.target.key_name(f"yeldro_{self.number}_{len(made)}_{what}"[:30])

    def say(self, text: str) -> None:
        self.entries.append(Say(text))

    def fail(self, condition: sa.ColumnElement[bool], message: str) -> None:
        """Stop where this is so."""
        wrong = self.statements.is_wrong(condition)
        self.entries.append(Check(self.text.write(wrong), message))

    def fail_at(self, rows: Any, message: str) -> None:
        """Stop where a query counts any rows."""
        self.entries.append(Check(self.text.write(self.statements.has_some(rows)), message))

    def change(self, statement: Any, wanted: Any, message: str) -> None:
        entry = Change(self.text.write(statement), self.text.write(wanted), message)
        self.entries.append(entry)

    # Finding the reach

    def find_selected(self, request: Request) -> tuple[Table, Rules]:
        """The rows that a deletion picks."""
        selection = read_selection(request.asked, self.schema, self.target.dialect)
        if request.rules.breaks_cycles:
            raise Refused("break_cycles belongs to MariaDB.")
        if selection.view or selection.truncate:
            raise Refused("A script from a schema file goes without views and without truncate.")
        root, rules = selection.table, request.rules
        if isinstance(request, ClearRequest):
            names = read_columns(request.columns, root, request.to, self.target.dialect)
            self.cleared, rules = names, make_rules(replace(request, columns=names))
        self.make_sets(root, rules)
        self.say(f"The rows of {root.label} that the selection picks")
        self.fill(self.statements.match(selection, self.sets[root]))
        if not selection.all_rows:
            self.fail_at_whole_table(selection)
        return root, rules

    def fail_at_whole_table(self, selection: Selection) -> None:
        matched = self.statements.count_keys([self.sets[selection.table]])
        there = self.statements.count(selection.table).scalar_subquery()
        whole = sa.and_(matched == there, there > sa.literal_column("1"))
        self.fail(whole, f"all rows of {selection.table.label} match")

    def find_surplus(self, request: DuplicatesRequest) -> tuple[Table, Rules]:
        """The surplus rows of duplicates."""
        grouping = request.grouping
        texts = any(part.expression for part in grouping.same)
        if request.filling or grouping.loose or grouping.is_whole or texts:
            raise Refused(
                "A script from a schema file goes without --fill, --ignore, expressions and --same "
                "all.",
                "yeldro script for a database that it can reach knows them.",
            )
        root = grouping.table
        self.make_sets(root, request.dependents, paired=True)
        self.say(f"The surplus rows of {root.label}, each beside the row that stays")
        self.fill(self.statements.pair(grouping, self.sets[root]))
        return root, request.dependents

    def make_sets(self, root: Table, rules: Rules, *, paired: bool = False) -> None:
        """A key table for each table that may lose rows. With `paired`, that of the root has room
        for the row that stays, beside each that goes."""
        actions = {
            reference: rules.treatment(reference).action for reference in self.schema.references
        }
        deleting = [one for one, action in actions.items() if action is Action.DELETE]
        edges = [(one.parent.name, one.child.name) for one in deleting]
        for name in reachable(root.name, edges):
            table = self.schema.by_name[name]
            if not table.identity:
                raise Refused(
                    f"{table.label} has no key without NULLs, so a script cannot name its rows."
                )
            columns = find_carried(self.schema, table)
            plain = "_".join(re.findall(r"\w+", table.name.name))
            own = self.name(plain)
            keys = StoredKeys(table, columns, own, columns if paired and table is root else ())
            self.sets[table] = keys
            names = tuple(column.name for column in self.statements.key_table(keys).c)
            query = self.text.write(self.statements.make_empty(keys))
            self.entries.append(Make(own, query, names, lasting=False))

    def fill(self, statement: sa.Insert) -> None:
        self.entries.append(Fill(self.text.write(statement)))

    def follow(self, rules: Rules) -> None:
        """Rows that depend on those in the key tables come in, until nothing more does."""
        fills = []
        for one in self.schema.references:
            inside = one.parent in self.sets and one.child in self.sets
            if inside and rules.treatment(one).action is Action.DELETE:
                keys = self.sets[one.child]
                pull = self.statements.pull(one, self.sets[one.parent], keys, 0, None, [keys])
                fills.append((str(one), Fill(self.text.write(pull))))
        if fills:
            self.say("What depends on them and goes too, until nothing more comes in")
            self.entries.append(Repeat(fills))

    # Judging

    def limit(
        self, guards: Guards, sets: Sequence[tuple[StoredKeys, bool]], what: str, *, expects: bool
    ) -> None:
        """Guards on rows that are about to go, with those that went in earlier steps."""
        check_enforced(guards, ("expect", "max_rows", "max_share", "strict", "no_rollback"))
        count = self.statements.count_keys
        if guards.expect and expects:
            matched = count([keys for keys, is_root in sets if is_root])
            low, high = guards.expect.low, guards.expect.high
            wrong = [] if low is None else [matched < sa.literal(low)]
            wrong += [] if high is None else [matched > sa.literal(high)]
            self.fail(sa.or_(*wrong), f"{guards.expect} rows were expected of {what}")
        if guards.max_rows is not None:
            rows = count([keys for keys, _ in sets])
            message = f"more than {guards.max_rows} rows in {what}"
            self.fail(rows > sa.literal(guards.max_rows), message)
        if guards.max_share is not None:
            for table in self.sets:
                self.limit_share([keys for keys, _ in sets if keys.table is table], guards)

    def limit_share(self, key_sets: Sequence[StoredKeys], guards: Guards) -> None:
        """The last of the key sets is that of this step; the rows of the others are gone."""
        table = key_sets[-1].table
        there: Any = self.statements.count(table).scalar_subquery()
        if key_sets[:-1]:
            there = there + self.statements.count_keys(key_sets[:-1])
        share: sa.ColumnElement[Any] = sa.literal_column(f"{guards.max_share:g}")
        gone = self.statements.count_keys(key_sets)
        too_many = gone * sa.literal_column("100.0") > share * there
        self.fail(too_many, f"more than {guards.max_share:g} percent of {table.label}")

    def stop(self, rules: Rules) -> None:
        for one in self.incoming():
            action = rules.treatment(one).action
            keys = self.sets[one.parent]
            if one.is_self and set(one.columns) & set(self.cleared):
                action = Action.STOP
            if action is Action.STOP:
                rows = self.count_staying(one)
                self.fail_at(rows, f"rows of {one.child.label} block the {self.verb} through {one}")
            elif action is Action.MOVE:
                rows = self.statements.count(one.child)
                rows = rows.where(self.statements.lacks_value(one, keys), *self.stays(one.child))
                message = f"rows of {one.child.label} would point at nothing through {one}"
                self.fail_at(rows, message)

    def incoming(self) -> list[Reference]:
        found = [reference for table in self.sets for reference in self.schema.incoming(table)]
        return [one for one in found if not self.cleared or set(one.referred) & set(self.cleared)]

    def find_gone(self, table: Table) -> StoredKeys | None:
        return None if self.cleared else self.sets.get(table)

    def stays(self, table: Table) -> list[sa.ColumnElement[bool]]:
        """Whether a row is not one of those that go."""
        keys = self.find_gone(table)
        return [self.statements.lacks_identity(keys)] if keys else []

    def count_staying(self, reference: Reference) -> Any:
        """The rows that point at what goes, and stay."""
        gone = self.find_gone(reference.child)
        return self.statements.count_referencing(reference, self.sets[reference.parent], gone)

    # Changing

    def keep(self, rules: Rules) -> None:
        """Copies of all rows that go or change, with what happens to them."""
        for table, keys in self.sets.items():
            self.copy(table, self.verb, [self.statements.has_identity(keys)])
        for one in self.incoming():
            action = rules.treatment(one).action
            if action in (Action.DETACH, Action.MOVE):
                parents, pointing = self.sets[one.parent], self.statements.pointing(one)
                points = self.statements.points_into(one, pointing, parents)
                self.copy(one.child, f"{action} {one}", [points, *self.stays(one.child)])

    def copy(self, table: Table, action: str, where: list[sa.ColumnElement[bool]]) -> None:
        clause = self.statements.table(table)
        cells = [clause.c[column.name] for column in table.columns if not column.generated]
        if table not in self.copies:
            self.make_copy(table, cells)
        self.say(f"A copy of rows of {table.label} ({action})")
        told: sa.ColumnElement[str] = sa.literal_column(self.target.text(action))
        rows = sa.select(*cells, told).select_from(clause).where(*where)
        names = [*(cell.name for cell in cells), _ACTION]
        copying = sa.insert(self.copies[table]).from_select(names, rows)
        wanted = self.statements.count(table).where(*where)
        self.change(copying, wanted, f"the copy of {table.label} is not whole")

    def make_copy(self, table: Table, cells: Sequence[sa.ColumnElement[Any]]) -> None:
        plain = "_".join(re.findall(r"\w+", table.name.name))
        bare = sa.sql.quoted_name(f"{self.archive}{self.suffix}_{plain}", False)
        schema = self.statements.name(table.name.schema) if table.name.schema else None
        columns: list[sa.ColumnClause[Any]] = [sa.column(cell.name) for cell in cells]
        names = tuple(self.text.write(column) for column in columns)
        blank: sa.ColumnElement[str] = sa.literal_column("''")
        told = sa.cast(blank, self.target.make_text(400)).label(_ACTION)
        empty = sa.select(*cells, told).select_from(self.statements.table(table)).where(NEVER)
        self.copies[table] = sa.table(bare, *columns, sa.column(_ACTION), schema=schema)
        name = self.text.write(Words("", self.copies[table])).strip()
        self.entries.append(Make(name, self.text.write(empty), (*names, _ACTION), lasting=True))

    def move(self, request: DuplicatesRequest) -> None:
        rules, root = request.dependents, request.table
        keys = self.sets[root]
        for one in self.schema.incoming(root):
            if rules.treatment(one).action is not Action.MOVE:
                continue
            if rules.drops(one.child):
                raise Refused(
                    "A script from a schema file does not drop rows that collide.",
                    "A unique key stops it.",
                )
            moved = self.note_moved(one, keys) if one.is_self else None
            self.say(f"What depends on them moves to the row that stays ({one})")
            moving = self.statements.move(one, keys, self.sets.get(one.child))
            message = f"rows of {one.child.label} are not moved"
            self.change(moving, self.count_staying(one), message)
            if moved:
                self.fail_at_loops(one, moved)

    def note_moved(self, reference: Reference, keys: StoredKeys) -> StoredKeys:
        """Keep the keys of the rows that will point at another row of their own table."""
        self.take_off_itself(reference, keys)
        table = reference.child
        name = self.name("moved")
        moved = StoredKeys(table, find_carried(self.schema, table), name)
        names = tuple(column.name for column in self.statements.key_table(moved).c)
        query = self.text.write(self.statements.make_empty(moved))
        self.entries.append(Make(name, query, names, lasting=False))
        self.fill(self.statements.pull(reference, keys, moved, 0, None, [keys]))
        return moved

    def fail_at_loops(self, reference: Reference, moved: StoredKeys) -> None:
        """Rows that stay may reference each other in a loop once they are moved."""
        name = self.name("walk")
        walk = self.statements.make_walk(reference, name)
        names = tuple(column.name for column in walk.c)
        query = self.text.write(self.statements.make_empty_walk(reference))
        self.entries.append(Make(name, query, names, lasting=False))
        self.say("None of these rows leads back to itself")
        self.fill(self.statements.start_walk(reference, walk, moved))
        further = Fill(self.text.write(self.statements.go_on(reference, walk)))
        self.entries.append(Repeat([(str(reference), further)]))
        rows = self.statements.count_returns(reference, walk)
        self.fail_at(rows, f"moved, rows of {reference.child.label} would make a loop")

    def take_off_itself(self, reference: Reference, keys: StoredKeys) -> None:
        self.say(
            f"Rows that stay and would point at themselves no longer point anywhere ({reference})"
        )
        clause = self.statements.table(reference.child)
        where = self.statements.points_at_itself(reference, keys)
        columns = reference.nullable_columns or reference.columns
        empty = {clause.c[name]: sa.null() for name in columns}
        wanted = self.statements.count(reference.child).where(where)
        message = f"rows of {reference.child.label} are not detached"
        self.change(sa.update(clause).where(where).values(empty), wanted, message)

    def detach(self, rules: Rules) -> None:
        for one in self.incoming():
            treatment = rules.treatment(one)
            if treatment.action is not Action.DETACH:
                continue
            self.say(f"Take the reference {one} away from rows that stay")
            clause, pointing = self.statements.table(one.child), self.statements.pointing(one)
            points = self.statements.points_into(one, pointing, self.sets[one.parent])
            value = sa.literal_column("DEFAULT") if treatment.to_default else sa.null()
            new = {clause.c[name]: value for name in treatment.columns}
            clearing = sa.update(clause).where(points, *self.stays(one.child)).values(new)
            message = f"rows of {one.child.label} are not detached"
            self.change(clearing, self.count_staying(one), message)

    def delete(self) -> None:
        """Children first. A statement checks its references when it is done, so a tree goes in
        one."""
        sets = {table.name: keys for table, keys in self.sets.items()}
        order = find_order(sets, self.schema, Abilities(frozenset(ReferentialAction), frozenset()))
        for knot in order.knots:
            raise Refused(
                f"The tables of a cycle reference each other through {knot}, where no column may "
                "be NULL."
            )
        for link in order.links:
            self.unlink(link)
        for name in order.tables:
            table, keys = self.schema.by_name[name], sets[name]
            self.say(f"Delete rows of {table.label}")
            wanted = sa.select(self.statements.count_keys([keys]))
            message = f"not exactly the rows of {table.label} were deleted"
            self.change(self.statements.delete(keys), wanted, message)

    @property
    def verb(self) -> Action:
        """What happens to the rows that the current step picks."""
        return Action.CLEAR if self.cleared else Action.DELETE

    def clear(self, request: ClearRequest, keys: StoredKeys) -> None:
        """What holds nothing already is left alone."""
        if request.to is Emptiness.BLANK and not self.target.tells_blank:
            raise Refused(f"{self.target.title} takes a blank text for NULL: clear it to null.")
        table = keys.table
        clause, where = self.statements.table(table), [self.statements.has_identity(keys)]
        words = {Emptiness.NULL: "NULL", Emptiness.BLANK: "''", Emptiness.DEFAULT: "DEFAULT"}
        emptied: sa.ColumnElement[Any] = sa.literal_column(words[request.to])
        new = {clause.c[name]: emptied for name in self.cleared}
        held = sa.or_(*(clause.c[name].is_not(None) for name in self.cleared))
        where += [held] if request.to is Emptiness.NULL else []
        self.say(f"Remove what rows of {table.label} hold in {', '.join(self.cleared)}")
        clearing = sa.update(clause).where(*where).values(new)
        wanted = self.statements.count(table).where(*where)
        self.change(clearing, wanted, f"not exactly the rows of {table.label} were cleared")

    def unlink(self, link: Reference) -> None:
        self.say(f"Take the reference {link} away from rows that go, so that their order is free")
        keys = self.sets[link.child]
        clearing = self.statements.detach(link.nullable_columns, keys, None)
        wanted = self.statements.count_present(keys)
        self.change(clearing, wanted, f"rows of {link.child.label} are not unlinked")

    def prove(self) -> None:
        none = "" if self.cleared else "None of them is left, and "
        self.say(f"{none}no row points at what is gone".capitalize())
        for table, keys in () if self.cleared else self.sets.items():
            self.fail_at(self.statements.count_present(keys), f"rows of {table.label} are left")
        for one in self.incoming():
            rows = self.statements.count_referencing(one, self.sets[one.parent], None)
            self.fail_at(rows, f"rows of {one.child.label} reference what is gone")

    def prove_groups(self, request: DuplicatesRequest) -> None:
        grouping = request.grouping
        self.say("Each group holds one row now")
        message = f"groups of {grouping.table.label} still hold several rows"
        self.fail_at(self.statements.count_groups(grouping), message)
        if request.unique_name:
            self.say("Keep such duplicates out from now on")
            index = sa.table(self.statements.name(request.unique_name))
            clause = self.statements.table(grouping.table)
            cells = [clause.c[part.column] for part in grouping.same]
            adding = self.statements.build_index(index, grouping.table, cells, unique=True)
            self.entries.append(Finish(self.text.write(adding)))

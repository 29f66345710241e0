"""A cleanup as a script for an engine that nobody connects to, from its schema alone.

Nothing is known of the rows, so the script finds the reach itself: key tables are filled until
nothing more comes in, and each change is compared with the rows that it should touch. The
statements are plain SQL; what differs between the engines is in one class each.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

from yeldro.core.database.abilities import Abilities
from yeldro.core.duplicates.request import DuplicatesRequest
from yeldro.core.model.action import Action
from yeldro.core.model.key_set import StoredKeys, find_carried
from yeldro.core.model.schema import Family, OnDelete, Reference, Schema, Table
from yeldro.core.model.values import Value
from yeldro.core.reach.order import find_order, reachable
from yeldro.core.reach.rules import Rules
from yeldro.core.run.request import Request
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.grouping import Grouping, RuleKind
from yeldro.core.selection.guards import Guards
from yeldro.core.selection.parameters import Bound
from yeldro.core.selection.selection import Selection, read_selection
from yeldro.errors import Refused
from yeldro.offline.target import Target

_PLAIN = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


@dataclass(frozen=True, slots=True)
class Task:
    """One step: its name, and what it asks for."""

    name: str
    request: Request | DuplicatesRequest


def write_blueprint(
    schema: Schema,
    target: Target,
    tasks: Sequence[Task],
    limits: Guards,
    archive: str,
    *,
    dry: bool,
    comment: Callable[[str], Iterable[str]],
) -> list[str]:
    """The lines of the script. Refused for what can only be done where the rows can be seen."""
    writer = _Writer(schema, target, limits, archive, comment)
    for number, task in enumerate(tasks, 1):
        writer.step(number, task, alone=len(tasks) == 1, last=number == len(tasks))
    return target.frame(writer.early, writer.lines, writer.late, writer.keys, dry=dry)


class _Writer:
    """Writes the steps one after the other."""

    def __init__(
        self,
        schema: Schema,
        target: Target,
        limits: Guards,
        archive: str,
        comment: Callable[[str], Iterable[str]],
    ) -> None:
        self.schema = schema
        self.target = target
        self.limits = limits
        self.archive = archive
        self.comment = comment
        self.early: list[str] = []
        self.lines: list[str] = []
        self.late: list[str] = []
        self.keys: list[str] = []
        self.reached: list[tuple[Table, str, bool]] = []

    def step(self, number: int, task: Task, *, alone: bool, last: bool) -> None:
        self.number = number
        self.suffix = "" if alone else f"_{number}"
        self.sets: dict[Table, str] = {}
        self.copies: dict[Table, str] = {}
        request = task.request
        self.lines += ["", *self.comment(f"Step {number}, {task.name}")]
        if isinstance(request, Request):
            selection = read_selection(request.asked, self.schema, self.target.dialect)
            root, rules = selection.table, request.rules
            if rules.breaks_cycles:
                raise Refused("break_cycles belongs to MariaDB.")
            self.make_sets(root, rules)
            self.say(f"The rows of {root.label} that the selection picks")
            self.lines.append(f"{self.fill(root, self.select(selection))};")
            if not selection.all_rows:
                matched, there = (
                    f"(SELECT COUNT(*) FROM {name})"
                    for name in (self.sets[root], self.target.table(root))
                )
                wrong = f"FROM {self.sets[root]} WHERE {matched} = {there} AND {there} > 1"
                self.lines += self.target.none(wrong, f"all rows of {root.label} match")
        else:
            root, rules = request.table, request.dependents
            self.make_sets(root, rules, moved=True)
            self.pair(request)
        self.follow(root, rules)
        mine = [(table, name, table is root) for table, name in self.sets.items()]
        self.reached += mine
        self.limit(request.guards, mine, root.label, expects=True)
        self.limit(self.limits, self.reached, "all steps", expects=last)
        self.stop(rules)
        if self.archive:
            self.keep(rules)
        if isinstance(request, DuplicatesRequest):
            self.move(request)
        self.detach(rules)
        self.delete()
        self.prove(rules)
        if isinstance(request, DuplicatesRequest):
            self.prove_groups(request)

    def say(self, text: str) -> None:
        self.lines += ["", *self.comment(text)]

    # Names

    def key(self, table: Table) -> str:
        return self.sets[table]

    def at(self, table: Table, column: str) -> str:
        """Where a key table holds a column."""
        return f"c{find_carried(self.schema, table).index(column)}"

    def meets(
        self, keys: str, table: Table, alias: str, columns: Sequence[str], referred: Sequence[str]
    ) -> str:
        """Whether a row's columns are those of a row in a key table."""
        pairs = zip(columns, referred, strict=True)
        same = " AND ".join(
            f"k.{self.at(table, there)} = {alias}.{self.target.name(own)}" for own, there in pairs
        )
        return f"EXISTS (SELECT 1 FROM {keys} k WHERE {same})"

    def goes(self, table: Table, alias: str) -> str:
        """Whether a row is one of those that go."""
        return self.meets(self.sets[table], table, alias, table.identity, table.identity)

    def points(self, reference: Reference, alias: str) -> str:
        """Whether a row depends on one of those that go."""
        parent = reference.parent
        return self.meets(self.sets[parent], parent, alias, reference.columns, reference.referred)

    # Finding the reach

    def make_sets(self, root: Table, rules: Rules, *, moved: bool = False) -> None:
        treatments = [(one, rules.treatment(one).action) for one in self.schema.references]
        edges = [
            (one.parent.name, one.child.name)
            for one, action in treatments
            if action is Action.DELETE
        ]
        for name in reachable(root.name, edges):
            table = self.schema.by_name[name]
            if not table.identity:
                raise Refused(
                    f"{table.label} has no key without NULLs, so a script cannot name its rows."
                )
            columns = find_carried(self.schema, table)
            plain = "_".join(re.findall(r"\w+", table.name.name))
            self.sets[table] = self.target.key_name(
                f"yeldro_{self.number}_{len(self.sets)}_{plain}"[:30]
            )
            cells = [
                f"{self.target.name(column)} AS c{place}" for place, column in enumerate(columns)
            ]
            if moved and table is root:
                cells += [
                    f"{self.target.name(column)} AS n{place}"
                    for place, column in enumerate(columns)
                ]
            self.early += self.target.make(
                self.sets[table], cells, self.target.table(table), lasting=False
            )
            self.keys.append(self.sets[table])

    def fill(self, table: Table, where: str, alias: str = "t") -> str:
        """Put the rows of a table that are not there yet into its key table."""
        columns = find_carried(self.schema, table)
        names = ", ".join(f"c{place}" for place in range(len(columns)))
        cells = ", ".join(f"{alias}.{self.target.name(column)}" for column in columns)
        rows = f"SELECT {cells} FROM {self.target.table(table)} {alias} WHERE {where}"
        return f"INSERT INTO {self.sets[table]} ({names}) {rows}"

    def select(self, selection: Selection) -> str:
        table, name = selection.table, self.target.name
        if selection.view or selection.truncate:
            raise Refused("A script from a schema file goes without views and without truncate.")
        parts = [f"({self.condition(one, table, 't')})" for one in selection.conditions]
        for match in selection.matches:
            pairs = " AND ".join(f"o.{name(there)} = t.{name(own)}" for own, there in match.pairs)
            found = f"EXISTS (SELECT 1 FROM {self.target.table(match.other)} o WHERE {pairs})"
            parts.append(found if match.found else f"NOT {found}")
        if selection.orphans:
            parts.append(f"({' OR '.join(self.orphaned(one) for one in selection.orphans)})")
        if selection.keys is not None:
            values = [self.same_key(table, key) for key in selection.keys]
            parts.append(f"({' OR '.join(values)})")
        where = " AND ".join(parts) or "1 = 1"
        if selection.limit is None:
            return where
        orders = []
        for order in selection.order:
            column = f"t.{name(order.column)}"
            orders += [
                f"CASE WHEN {column} IS NULL THEN 1 ELSE 0 END",
                f"{column} DESC" if order.descending else column,
            ]
        orders += [f"t.{name(column)}" for column in table.identity]
        cells = ", ".join(
            f"t.{name(column)} AS i{place}" for place, column in enumerate(table.identity)
        )
        query = (
            f"SELECT {cells} FROM {self.target.table(table)} t WHERE {where} ORDER BY "
            f"{', '.join(orders)}"
        )
        same = " AND ".join(
            f"f.i{place} = t.{name(column)}" for place, column in enumerate(table.identity)
        )
        return (
            f"EXISTS (SELECT 1 FROM ({self.target.first(query, selection.limit)}) f WHERE {same})"
        )

    def orphaned(self, reference: Reference) -> str:
        name = self.target.name
        whole = " AND ".join(f"t.{name(column)} IS NOT NULL" for column in reference.columns)
        pairs = zip(reference.columns, reference.referred, strict=True)
        same = " AND ".join(f"p.{name(there)} = t.{name(own)}" for own, there in pairs)
        parent = self.target.table(reference.parent)
        return f"{whole} AND NOT EXISTS (SELECT 1 FROM {parent} p WHERE {same})"

    def same_key(self, table: Table, key: Sequence[Value]) -> str:
        pairs = zip(table.key, key, strict=True)
        return " AND ".join(
            f"t.{self.target.name(column)} = {self.target.literal(value)}"
            for column, value in pairs
        )

    def condition(self, condition: Condition, table: Table, alias: str) -> str:
        """The condition as it was written, with its values; it knows the table by its own name."""
        text = "".join(
            self.target.literal(piece.value) if isinstance(piece, Bound) else piece
            for piece in condition.pieces
        )
        name = self.target.name
        inner = " AND ".join(
            f"{self.target.table(table)}.{name(one)} = {alias}.{name(one)}"
            for one in table.identity
        )
        return f"EXISTS (SELECT 1 FROM {self.target.table(table)} WHERE {inner} AND ({text}))"

    def follow(self, root: Table, rules: Rules) -> None:
        """Rows that depend on those in the key tables come in, until nothing more does."""
        deleting = [
            one
            for one in self.schema.references
            if one.parent in self.sets
            and one.child in self.sets
            and rules.treatment(one).action is Action.DELETE
        ]
        if not deleting:
            return
        self.say("What depends on them and goes too, until nothing more comes in")
        lines: list[str] = []
        for one in deleting:
            where = f"{self.points(one, 't')} AND NOT {self.goes(one.child, 't')}"
            lines += [*self.comment(str(one)), *self.target.grow(self.fill(one.child, where))]
        self.lines += self.target.loop(lines)

    def pair(self, request: DuplicatesRequest) -> None:
        grouping = request.grouping
        table, name = grouping.table, self.target.name
        if (
            request.filling
            or grouping.loose
            or grouping.is_whole
            or any(one.expression for one in grouping.same)
        ):
            raise Refused(
                "A script from a schema file goes without --fill, --ignore, expressions and --same "
                "all.",
                "yeldro script for a database that it can reach knows them.",
            )
        columns = find_carried(self.schema, table)
        same = ", ".join(f"t.{name(one.column)}" for one in grouping.same)
        order = ", ".join(
            [*self.rank(grouping), *(f"t.{name(column)}" for column in table.identity)]
        )
        window = f"OVER (PARTITION BY {same} ORDER BY {order})"
        cells = [f"t.{name(column)} AS c{place}" for place, column in enumerate(columns)]
        cells += [
            f"FIRST_VALUE(t.{name(column)}) {window} AS n{place}"
            for place, column in enumerate(columns)
        ]
        where = [self.grouped(grouping)]
        rows = (
            f"SELECT {', '.join(cells)}, ROW_NUMBER() {window} AS place FROM "
            f"{self.target.table(table)} t"
        )
        names = ", ".join(f"{side}{place}" for side in "cn" for place in range(len(columns)))
        self.say(f"The surplus rows of {table.label}, each beside the row that stays")
        inner = f"{rows} WHERE {' AND '.join(where)}"
        self.lines.append(
            f"INSERT INTO {self.sets[table]} ({names}) SELECT {names} FROM ({inner}) r WHERE "
            "r.place > 1;"
        )

    def grouped(self, grouping: Grouping) -> str:
        """Which rows are looked at: a NULL is the same as nothing, unless it was said that it
        is.
        """
        selection, name = grouping.selection, self.target.name
        parts = [f"({self.condition(one, grouping.table, 't')})" for one in selection.conditions]
        if grouping.nulls_differ:
            parts += [f"t.{name(one.column)} IS NOT NULL" for one in grouping.same]
        return " AND ".join(parts) or "1 = 1"

    def rank(self, grouping: Grouping) -> Iterator[str]:
        table, name = grouping.table, self.target.name
        for rule in grouping.rules:
            column = f"t.{name(rule.column)}"
            match rule.kind:
                case RuleKind.WHERE:
                    assert rule.condition
                    yield (
                        f"CASE WHEN {self.condition(rule.condition, table, 't')} THEN 0 ELSE 1 END"
                    )
                case RuleKind.FULLEST:
                    yield " + ".join(self.empty(one.name, one.family) for one in table.columns)
                case _:
                    yield f"CASE WHEN {column} IS NULL THEN 1 ELSE 0 END"
                    yield (
                        f"{column} DESC"
                        if rule.kind in (RuleKind.NEWEST, RuleKind.HIGHEST)
                        else column
                    )

    def empty(self, column: str, family: Family) -> str:
        cell = f"t.{self.target.name(column)}"
        blank = f" OR {self.target.is_blank(cell)}" if family is Family.TEXT else ""
        return f"CASE WHEN {cell} IS NULL{blank} THEN 1 ELSE 0 END"

    # Judging

    def limit(
        self, guards: Guards, sets: Sequence[tuple[Table, str, bool]], what: str, *, expects: bool
    ) -> None:
        """Guards on rows that are about to go, with those that went in earlier steps."""

        def total(names: Sequence[str]) -> str:
            counts = " UNION ALL ".join(f"SELECT COUNT(*) AS n FROM {name}" for name in names)
            return f"(SELECT SUM(n) AS n FROM ({counts}) a)"

        none = self.target.none
        if guards.expect and expects:
            low, high = guards.expect.low, guards.expect.high
            ends = [f"n < {low}"] * (low is not None) + [f"n > {high}"] * (high is not None)
            wrong = (
                f"FROM {total([name for _, name, is_root in sets if is_root])} b WHERE "
                f"{' OR '.join(ends)}"
            )
            self.lines += none(wrong, f"{guards.expect} rows were expected of {what}")
        if guards.max_rows is not None:
            wrong = f"FROM {total([name for _, name, _ in sets])} b WHERE n > {guards.max_rows}"
            self.lines += none(wrong, f"more than {guards.max_rows} rows in {what}")
        for table in self.sets if guards.max_share is not None else ():
            mine = [name for one, name, _ in sets if one is table]
            earlier = f"{total(mine[:-1])} + " if mine[1:] else ""
            there = f"({earlier}(SELECT COUNT(*) FROM {self.target.table(table)}))"
            wrong = (
                f"FROM {self.sets[table]} WHERE {total(mine)} * 100.0 > {guards.max_share:g} * "
                f"{there}"
            )
            self.lines += none(wrong, f"more than {guards.max_share:g} percent of {table.label}")

    def stop(self, rules: Rules) -> None:
        for one in self.incoming():
            if rules.treatment(one).action is Action.STOP:
                rows = (
                    f"FROM {self.target.table(one.child)} t WHERE "
                    f"{self.points(one, 't')}{self.staying(one.child)}"
                )
                self.lines += self.target.none(
                    rows, f"rows of {one.child.label} block the delete through {one}"
                )

            elif rules.treatment(one).action is Action.MOVE:
                root = one.parent
                columns = find_carried(self.schema, root)
                unset = " OR ".join(f"k.n{columns.index(there)} IS NULL" for there in one.referred)
                pairs = zip(one.columns, one.referred, strict=True)
                same = " AND ".join(
                    f"k.{self.at(root, to)} = t.{self.target.name(own)}" for own, to in pairs
                )
                rows = f"FROM {self.target.table(one.child)} t WHERE EXISTS"
                rows += (
                    f" (SELECT 1 FROM {self.sets[root]} k WHERE {same} AND "
                    f"({unset})){self.staying(one.child)}"
                )
                self.lines += self.target.none(
                    rows, f"rows of {one.child.label} would point at nothing through {one}"
                )

    def incoming(self) -> list[Reference]:
        return [one for table in self.sets for one in self.schema.incoming(table)]

    def staying(self, table: Table) -> str:
        return f" AND NOT {self.goes(table, 't')}" if table in self.sets else ""

    # Changing

    def keep(self, rules: Rules) -> None:
        """Copies of all rows that go or change, with what happens to them."""
        for table in self.sets:
            self.copy(table, "delete", self.goes(table, "t"))
        for one in self.incoming():
            action = rules.treatment(one).action
            if action in (Action.DETACH, Action.MOVE):
                self.copy(
                    one.child,
                    f"{action} {one}",
                    f"{self.points(one, 't')}{self.staying(one.child)}",
                )

    def copy(self, table: Table, action: str, where: str) -> None:
        columns = [
            self.target.name(column.name) for column in table.columns if not column.generated
        ]
        if table not in self.copies:
            plain = "_".join(re.findall(r"\w+", table.name.name))
            name = f"{self.archive}{self.suffix}_{plain}"
            self.copies[table] = (
                f"{self.target.name(table.name.schema)}.{name}" if table.name.schema else name
            )
            told = f"CAST('' AS {self.target.words}(400)) AS yeldro_action"
            made = self.target.make(
                self.copies[table], [*columns, told], self.target.table(table), lasting=True
            )
            self.early += made
        rows = f"FROM {self.target.table(table)} t WHERE {where}"
        cells = ", ".join(f"t.{column}" for column in columns)
        names = ", ".join([*columns, "yeldro_action"])
        self.say(f"A copy of rows of {table.label} ({action})")
        text = self.target.text(action)
        statement = f"INSERT INTO {self.copies[table]} ({names}) SELECT {cells}, {text} {rows}"
        self.lines += self.target.change(statement, rows, f"the copy of {table.label} is not whole")

    def move(self, request: DuplicatesRequest) -> None:
        rules, root, name = request.dependents, request.table, self.target.name
        for one in self.schema.incoming(root):
            if rules.treatment(one).action is not Action.MOVE:
                continue
            if rules.drops(one.child):
                raise Refused(
                    "A script from a schema file does not drop rows that collide.",
                    "A unique key stops it.",
                )
            child = self.target.table(one.child)
            pairs = list(zip(one.columns, one.referred, strict=True))
            same = " AND ".join(f"k.{self.at(root, there)} = t.{name(own)}" for own, there in pairs)
            if one.is_self:
                own_key = " AND ".join(
                    f"k.n{find_carried(self.schema, root).index(column)} = t.{name(column)}"
                    for column in root.identity
                )
                where = (
                    f"WHERE EXISTS (SELECT 1 FROM {self.sets[root]} k WHERE {same} AND {own_key})"
                )
                self.say(
                    f"Rows that stay and would point at themselves no longer point anywhere ({one})"
                )
                empty = ", ".join(
                    f"{name(column)} = NULL" for column in one.nullable_columns or one.columns
                )
                self.update(child, empty, where, f"rows of {one.child.label} are not detached")
            values = ", ".join(
                f"{name(own)} = (SELECT k.n{find_carried(self.schema, root).index(there)} FROM "
                f"{self.sets[root]} k WHERE {self.aliased(same, child)})"
                for own, there in pairs
            )
            self.say(f"What depends on them moves to the row that stays ({one})")
            where = f"WHERE {self.points(one, 't')}{self.staying(one.child)}"
            self.update(child, values, where, f"rows of {one.child.label} are not moved")

    def aliased(self, text: str, table: str) -> str:
        """In an UPDATE and a DELETE the table has no other name."""
        return re.sub(r"\bt\.", lambda _: f"{table}.", text)

    def update(self, table: str, values: str, where: str, message: str) -> None:
        statement = f"UPDATE {table} SET {values} {self.aliased(where, table)}"
        self.lines += self.target.change(statement, f"FROM {table} t {where}", message)

    def detach(self, rules: Rules) -> None:
        for one in self.incoming():
            treatment = rules.treatment(one)
            if treatment.action is Action.DETACH:
                word = "DEFAULT" if treatment.to_default else "NULL"
                self.say(f"Take the reference {one} away from rows that stay")
                values = ", ".join(
                    f"{self.target.name(column)} = {word}" for column in treatment.columns
                )
                where = f"WHERE {self.points(one, 't')}{self.staying(one.child)}"
                self.update(
                    self.target.table(one.child),
                    values,
                    where,
                    f"rows of {one.child.label} are not detached",
                )

    def delete(self) -> None:
        """Children first. A statement checks its references when it is done, so a tree goes in
        one.
        """
        sets = {
            table.name: StoredKeys(table, table.identity, name) for table, name in self.sets.items()
        }
        order = find_order(sets, self.schema, Abilities(frozenset(OnDelete), frozenset()))
        for knot in order.knots:
            raise Refused(
                f"The tables of a cycle reference each other through {knot}, where no column may "
                "be NULL."
            )
        for link in order.links:
            self.say(
                f"Take the reference {link} away from rows that go, so that their order is free"
            )
            child = self.target.table(link.child)
            empty = ", ".join(
                f"{self.target.name(column)} = NULL" for column in link.nullable_columns
            )
            where = f"WHERE {self.goes(link.child, 't')}"
            self.update(child, empty, where, f"rows of {link.child.label} are not unlinked")
        for name in order.tables:
            table = self.schema.by_name[name]
            self.say(f"Delete rows of {table.label}")
            clause = self.target.table(table)
            statement = f"DELETE FROM {clause} WHERE {self.aliased(self.goes(table, 't'), clause)}"
            self.lines += self.target.change(
                statement,
                f"FROM {self.sets[table]}",
                f"not exactly the rows of {table.label} were deleted",
            )

    def prove(self, rules: Rules) -> None:
        self.say("None of them is left, and no row points at what is gone")
        for table in self.sets:
            rows = f"FROM {self.target.table(table)} t WHERE {self.goes(table, 't')}"
            self.lines += self.target.none(rows, f"rows of {table.label} are left")
        for one in self.incoming():
            rows = f"FROM {self.target.table(one.child)} t WHERE {self.points(one, 't')}"
            self.lines += self.target.none(
                rows, f"rows of {one.child.label} reference what is gone"
            )

    def prove_groups(self, request: DuplicatesRequest) -> None:
        grouping, name = request.grouping, self.target.name
        same = ", ".join(f"t.{name(one.column)}" for one in grouping.same)
        rows = (
            f"SELECT COUNT(*) AS n FROM {self.target.table(grouping.table)} t WHERE "
            f"{self.grouped(grouping)}"
        )
        several = f"FROM ({rows} GROUP BY {same} HAVING COUNT(*) > 1) g"
        self.say("Each group holds one row now")
        self.lines += self.target.none(
            several, f"groups of {grouping.table.label} still hold several rows"
        )
        if request.unique_name:
            columns = ", ".join(name(one.column) for one in grouping.same)
            index = (
                f"CREATE UNIQUE INDEX {name(request.unique_name)} ON "
                f"{self.target.table(grouping.table)} ({columns});"
            )
            self.late += [*self.comment("Keep such duplicates out from now on"), index]

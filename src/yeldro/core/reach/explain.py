"""Why the database cannot run a condition, with the column and the value."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from yeldro.core.database.abilities import Mode, Quirk
from yeldro.core.database.connection import Database
from yeldro.core.model.grammar import exp
from yeldro.core.model.lookup import nearest
from yeldro.core.model.schema import Column, Family, Table
from yeldro.core.model.values import EXAMPLES, MOVING, read_value
from yeldro.core.selection.column_scope import Scopes
from yeldro.core.selection.condition import Condition, pointed
from yeldro.core.selection.selection import Selection
from yeldro.errors import BadStatement, UsageError


def _values() -> tuple[type[exp.Expr], ...]:
    return (exp.Literal, exp.Placeholder)


def _comparisons() -> tuple[type[exp.Expr], ...]:
    return (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.In, exp.Between)


@contextmanager
def explaining(database: Database, selection: Selection) -> Iterator[None]:
    """Looks for the reason where the database cannot run the conditions of a selection. That ends
    the transaction, so it is for those who would go no further."""
    try:
        yield
    except UsageError as error:
        if isinstance(error.__cause__, BadStatement):
            raise _explain(database, selection, error) from error
        raise


def _explain(database: Database, selection: Selection, error: UsageError) -> UsageError:
    """A better error where the reason is found, else the same."""
    database.rollback()
    database.begin(Mode.READ)
    table = selection.view.table if selection.view else selection.table
    scopes = Scopes(table, database.schema)
    try:
        for condition in selection.conditions:
            if condition.tree is not None:
                for found in _find_reasons(database, scopes, condition, condition.tree):
                    return found
    finally:
        database.rollback()
    return error


def _find_reasons(
    database: Database, scopes: Scopes, condition: Condition, tree: exp.Expr
) -> Iterator[UsageError]:
    for node in tree.find_all(exp.Column):
        yield from _find_name_fault(database, scopes, condition, node)
    for comparison in tree.find_all(*_comparisons()):
        yield from _find_value_fault(database, scopes, condition, comparison)


def _find_name_fault(
    database: Database, scopes: Scopes, condition: Condition, node: exp.Column
) -> Iterator[UsageError]:
    found = scopes.find(node)
    place = pointed(condition.text, node.this.meta.get("start", 0))
    if found is None:
        query = node.find_ancestor(exp.Select)
        tables = [table for _, table in scopes.sources(query) if table] if query else []
        names = [name for table in tables for name in table.column_names]
        where = " and ".join(table.label for table in tables) or "the tables there"
        yield UsageError(
            f"There is no column {node.name!r} in {where}.",
            f"{place}\n{nearest(node.name, names, 'columns')}",
        )
    elif found.column and Quirk.FOLDED_NAMES in database.abilities.quirks:
        name = found.column.name
        if name != name.lower() and not node.this.args.get("quoted"):
            quoted = database.write_name(name)
            yield UsageError(
                f"The column {name} needs quotes here: {quoted}.",
                f"{place}\nWrite {quoted}, and the condition in single quotes for the shell.",
            )


def _find_value_fault(
    database: Database, scopes: Scopes, condition: Condition, comparison: exp.Expr
) -> Iterator[UsageError]:
    """The value that cannot be compared with its column: each one is tried by itself."""
    columns = list(comparison.find_all(exp.Column))
    found = scopes.find(columns[0]) if len(columns) == 1 else None
    if found is None or found.column is None or found.table is None or found.levels:
        return
    name = database.write_name(found.column.name)
    for node in filter(lambda one: isinstance(one, _values()), comparison.iter_expressions()):
        text = f":{node.name}" if isinstance(node, exp.Placeholder) else node.sql(condition.dialect)
        shown = str(condition.values.get(node.name, "") if text[0] == ":" else node.name)
        rows = database.try_count(found.table, condition.derive(f"{name} = {text}"))
        # MariaDB takes such a value where it only looks, and refuses it where it writes.
        if rows is None or not _is_valid(shown, found.column):
            yield _name_value(database, found.table, found.column, shown)


def _is_valid(text: str, column: Column) -> bool:
    try:
        read_value(text, column.family, column.name)
    except UsageError:
        return False
    return True


def _name_value(database: Database, table: Table, column: Column, value: str) -> UsageError:
    labels = database.find_labels(table, column)
    values = f"The values are: {', '.join(labels)}." if labels else ""
    return UsageError(
        f"{value!r} cannot be compared with {table.label}.{column.name}, which is {column.type}.",
        values or _give_example(column.family),
    )


def _give_example(family: Family) -> str:
    if family is Family.TEXT:
        return "Put texts into single quotes."
    quoted = ", in single quotes" if family in MOVING else ""
    return f"Give {EXAMPLES[family]}{quoted}." if family in EXAMPLES else ""

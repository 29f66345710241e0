"""What a selection looks at beside the rows themselves."""

from __future__ import annotations

from collections.abc import Iterator

from yeldro.core.model.schema import Schema, Table
from yeldro.core.selection.condition import Condition
from yeldro.core.selection.selection import Selection


def find_other_tables(selection: Selection, schema: Schema) -> list[Table]:
    """The tables whose rows decide, too, whether a row is selected; all of them where that cannot
    be read."""
    if selection.view:
        return list(schema.tables)
    found = [match.other for match in selection.matches]
    found += [reference.parent for reference in selection.orphans]
    for condition in selection.conditions:
        if condition.tree is None:
            return list(schema.tables)
        found += _find_in_queries(condition, schema)
    return list(dict.fromkeys(found))


def _find_in_queries(condition: Condition, schema: Schema) -> Iterator[Table]:
    from yeldro.core.model.grammar import exp

    assert condition.tree is not None
    for named in condition.tree.find_all(exp.Table):
        name = named.name.lower()
        known = [table for table in schema.tables if table.name.name.lower() == name]
        # A view, or what a function gives, may look at anything.
        yield from known or schema.tables

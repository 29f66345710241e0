"""What a condition may mean other than what was meant: known mistakes, with figures from the
database."""

from __future__ import annotations

from yeldro.core.cautions.caution import Caution, caution
from yeldro.core.cautions.checks_of_names import (
    check_always_true,
    check_mixed_and_or,
    check_outer_columns,
    check_quoted_words,
)
from yeldro.core.cautions.checks_of_nulls import (
    check_never_true,
    check_nulls_in_lists,
    check_nulls_left_out,
)
from yeldro.core.cautions.checks_of_texts_and_days import (
    check_case,
    check_changing,
    check_ends_of_days,
    check_wildcards,
)
from yeldro.core.cautions.checks_of_types import (
    check_approximate,
    check_conversions,
    check_mixed_types,
)
from yeldro.core.cautions.examination import Look
from yeldro.core.database.connection import Database
from yeldro.core.model.key_set import KeySet
from yeldro.core.selection.column_scope import Scopes
from yeldro.core.selection.parts import pins_a_row
from yeldro.core.selection.selection import Selection


def find_doubts(
    database: Database, selection: Selection, keys: KeySet, expects_one: bool
) -> list[Caution]:
    """Everything that is doubtful about the conditions of a selection whose matched rows stand in
    `keys`."""
    found: dict[tuple[str, str], Caution] = {}
    table = selection.view.table if selection.view else selection.table
    for condition in selection.conditions:
        if condition.tree is None:
            found["unparsed", condition.text] = caution("unparsed", condition.text)
            continue
        look = Look(condition, Scopes(table, database.schema), database, keys)
        for check in _CHECKS:
            for one in check(look, condition.tree):
                found.setdefault((one.name, one.subject), one)
    if expects_one and selection.conditions and not pins_a_row(selection):
        found["not-unique", table.label] = caution("not-unique", table.label, table=table)
    return list(found.values())


_CHECKS = (
    check_always_true,
    check_never_true,
    check_nulls_in_lists,
    check_nulls_left_out,
    check_outer_columns,
    check_quoted_words,
    check_mixed_and_or,
    check_conversions,
    check_mixed_types,
    check_case,
    check_wildcards,
    check_ends_of_days,
    check_approximate,
    check_changing,
)

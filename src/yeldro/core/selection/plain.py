"""Conditions that look at nothing but columns of the row itself."""

from __future__ import annotations

from yeldro.core.selection.selection import Selection


def is_plain(selection: Selection) -> bool:
    """Whether a selection by a list compares columns of its table with constants, and no more: no
    function, no query, no other table."""
    if selection.view or selection.matches or selection.orphans:
        return False
    if not selection.conditions:
        return True
    from yeldro.core.model.grammar import exp

    plain = {
        *(exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.Is, exp.In, exp.Between),
        *(exp.And, exp.Or, exp.Not, exp.Paren, exp.Neg, exp.Like),
        *(exp.Column, exp.Identifier, exp.Literal, exp.Boolean, exp.Null, exp.Placeholder),
    }
    trees = [condition.tree for condition in selection.conditions]
    return all(tree and all(type(node) in plain for node in tree.walk()) for tree in trees)

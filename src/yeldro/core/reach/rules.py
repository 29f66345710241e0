"""What is to happen to rows that depend on others: the rules of a person, and what each means for a
reference."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from enum import StrEnum

from msgspec import Struct, field

from yeldro.core.model.action import Action
from yeldro.core.model.fact import Fact, fact
from yeldro.core.model.schema import Reference, ReferentialAction, Schema, Table, TableName
from yeldro.errors import UsageError


class Rule(StrEnum):
    """What a person wants to happen to dependents."""

    DECLARED = "declared"
    DELETE = "delete"
    DETACH = "detach"
    MOVE = "move"
    STOP = "stop"


class Rules(Struct, frozen=True):
    """The rule for dependents in general, and those for some tables.

    `breaks_cycles`: cycles may be deleted with the engine's own checks off, where it cannot
    otherwise.
    """

    default: Rule = Rule.DECLARED
    tables: Mapping[TableName, Rule] = field(default_factory=dict)
    breaks_cycles: bool = False

    def treatment(self, reference: Reference) -> Treatment:
        """What this reference means for its rows when what they point at goes."""
        rule = self.tables.get(reference.child.name, self.default)
        if rule is Rule.MOVE or self.drops(reference.child):
            return Treatment(Action.MOVE)
        if rule is Rule.DECLARED:
            return _declared(reference)
        if rule is Rule.DELETE:
            return Treatment(Action.DELETE)
        if rule is Rule.STOP:
            return Treatment(Action.STOP, reason=fact("reason.asked"))
        if reference.on_delete is ReferentialAction.SET_DEFAULT:
            return _declared(reference)
        if not reference.nullable_columns:
            return Treatment(Action.STOP, reason=fact("reason.not-null"))
        return Treatment(Action.DETACH, reference.nullable_columns)

    def drops(self, table: Table) -> bool:
        """Whether rows that cannot be moved to a kept row, because they would be duplicates there,
        are dropped."""
        return self.default is Rule.MOVE and self.tables.get(table.name) is Rule.DELETE


# Of duplicates: what depends on a row moves to the one that stays.
MOVING = Rules(Rule.MOVE)


def known_rules(usual: Rule) -> list[Rule]:
    """The rules that there are where `usual` is the rule if none is given."""
    return [rule for rule in Rule if rule not in (Rule.DECLARED, Rule.MOVE) or rule is usual]


def read_rules(
    texts: Sequence[str],
    schema: Schema,
    usual: Rule = Rule.DECLARED,
    *,
    breaks_cycles: bool = False,
    known: Sequence[Rule] = (),
) -> Rules:
    """Read `--dependents RULE` and `--dependents TABLE=RULE`. UsageError for an unknown rule or
    table.

    `usual` is the rule where none is given: rows are moved where there are kept rows to move them
    to, and only there. `known` are the rules that there are, where these are not the usual ones.
    """
    default: Rule | None = None
    tables: dict[TableName, Rule] = {}
    known = known or known_rules(usual)
    for text in texts:
        name, equals, word = text.rpartition("=")
        if word not in known:
            raise UsageError(
                f"--dependents {text!r} has no known rule.",
                f"The rules are: {', '.join(known)}; or TABLE=RULE.",
            )
        if equals:
            tables[schema.find_table(name).name] = Rule(word)
        elif default not in (None, Rule(word)):
            raise UsageError(f"--dependents was given both as {default} and as {word}.")
        else:
            default = Rule(word)
    if usual is Rule.MOVE and default not in (None, usual) and usual in tables.values():
        raise UsageError(f"--dependents TABLE=move does not go with --dependents {default}.")
    return Rules(default or usual, tables, breaks_cycles)


class Treatment(Struct, frozen=True):
    """An action with the columns that a detach sets, or the reason of a stop."""

    action: Action
    columns: tuple[str, ...] = ()
    to_default: bool = False
    reason: Fact | None = None


def _declared(reference: Reference) -> Treatment:
    match reference.on_delete:
        case ReferentialAction.CASCADE:
            return Treatment(Action.DELETE)
        case ReferentialAction.SET_NULL | ReferentialAction.SET_DEFAULT as rule:
            to_default = rule is ReferentialAction.SET_DEFAULT
            columns = [reference.child.column(name) for name in reference.set_columns]
            if any(
                not column.nullable and not (to_default and column.default) for column in columns
            ):
                return Treatment(Action.STOP, reason=fact("reason.declared-not-null", rule=rule))
            if (
                reference.match_full
                and not to_default
                and set(reference.set_columns) != set(reference.columns)
            ):
                return Treatment(
                    Action.STOP,
                    reason=fact("reason.match-full", rule=rule),
                )
            return Treatment(Action.DETACH, reference.set_columns, to_default)
        case declared:
            return Treatment(Action.STOP, reason=fact("reason.declared", rule=declared))

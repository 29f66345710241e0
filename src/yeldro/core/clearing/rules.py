"""What happens to rows that point at a value which is cleared: as the schema says for an update, or
as a person does."""

from __future__ import annotations

from collections.abc import Collection

from yeldro.core.clearing.request import ClearRequest, Emptiness
from yeldro.core.model.action import Action
from yeldro.core.model.fact import fact
from yeldro.core.model.schema import Reference, ReferentialAction
from yeldro.core.reach.rules import Rule, Rules, Treatment

# What a person may say of rows that point at a cleared value.
CLEARING = (Rule.DECLARED, Rule.DETACH, Rule.STOP)


class ClearingRules(Rules, frozen=True):
    """The rules of a person, for rows that point at `columns`, which are cleared."""

    columns: Collection[str] = ()
    to: Emptiness = Emptiness.NULL

    def treatment(self, reference: Reference) -> Treatment:
        """What this reference means for its rows when what they point at is cleared."""
        match self.tables.get(reference.child.name, self.default):
            case Rule.STOP:
                return Treatment(Action.STOP, reason=fact("reason.asked"))
            case Rule.DETACH if reference.nullable_columns:
                return Treatment(Action.DETACH, reference.nullable_columns)
            case Rule.DETACH:
                return Treatment(Action.STOP, reason=fact("reason.not-null"))
            case _:
                return self._follow_schema(reference)

    def _follow_schema(self, reference: Reference) -> Treatment:
        rule = f"ON UPDATE {reference.on_update}"
        match reference.on_update:
            case ReferentialAction.CASCADE if self.to is not Emptiness.NULL:
                return Treatment(Action.STOP, reason=fact("reason.takes-value-too", rule=rule))
            case ReferentialAction.CASCADE:
                columns = self._pointing(reference)
            case ReferentialAction.SET_NULL | ReferentialAction.SET_DEFAULT:
                columns = reference.columns
            case _:
                return Treatment(Action.STOP, reason=fact("reason.declared", rule=rule))
        to_default = reference.on_update is ReferentialAction.SET_DEFAULT
        cells = [reference.child.column(name) for name in columns]
        if any(not column.nullable and not (to_default and column.default) for column in cells):
            return Treatment(Action.STOP, reason=fact("reason.declared-not-null", rule=rule))
        if reference.match_full and set(columns) != set(reference.columns):
            return Treatment(Action.STOP, reason=fact("reason.match-full", rule=rule))
        return Treatment(Action.DETACH, columns, to_default)

    def _pointing(self, reference: Reference) -> tuple[str, ...]:
        """The columns of a reference that point at what is cleared."""
        pairs = zip(reference.columns, reference.referred, strict=True)
        return tuple(own for own, there in pairs if there in self.columns)


def make_rules(request: ClearRequest) -> ClearingRules:
    rules = request.rules
    return ClearingRules(rules.default, rules.tables, columns=request.columns, to=request.to)

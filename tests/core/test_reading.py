"""Values, parameters and ranges as a person types them."""

from __future__ import annotations

import datetime
from decimal import Decimal

import pytest

from yeldro.core.model.schema import Family
from yeldro.core.model.values import Value, read_parameter, read_value
from yeldro.core.selection.guards import read_expected
from yeldro.errors import UsageError

VALUES = [
    ("12", Family.INTEGER, 12), ("1.25", Family.NUMBER, Decimal("1.25")),
    ("2024-02-29", Family.DATE, datetime.date(2024, 2, 29)),
    ("2024-02-29 06:00", Family.TIMESTAMP, datetime.datetime(2024, 2, 29, 6)),
    ("2024-02-29", Family.TIMESTAMP, datetime.date(2024, 2, 29)), ("Yes", Family.BOOLEAN, True),
    ("0", Family.BOOLEAN, False), (" as it is ", Family.TEXT, " as it is "), ("", Family.TEXT, ""),
    ("1.5", Family.INTEGER, None), ("1e400000", Family.INTEGER, None), ("NaN", Family.NUMBER, None),
    ("2023-02-29", Family.DATE, None), ("5/1/2024", Family.DATE, None), ("maybe", Family.BOOLEAN, None),
    ("", Family.NUMBER, None),
]  # fmt: skip


@pytest.mark.parametrize(("text", "family", "value"), VALUES, ids=str)
def test_a_value_is_read_by_its_family_or_refused_without_repeating_it(
    text: str, family: Family, value: Value
) -> None:
    if value is not None:
        assert (read_value(text, family, "x"), type(read_value(text, family, "x"))) == (
            value,
            type(value),
        )
        return
    with pytest.raises(UsageError) as raised:
        read_value(text, family, "x")
    assert not text or text not in raised.value.message


def test_a_parameter_takes_its_own_type_before_that_of_the_column() -> None:
    assert read_parameter("n=7").value(Family.INTEGER) == 7
    assert read_parameter("n=7").value(None) == "7"
    assert read_parameter("n:text=7").value(Family.INTEGER) == "7"
    assert read_parameter("n:null=").value(Family.INTEGER) is None
    assert read_parameter("n=a=b:c").value(None) == "a=b:c"


RANGES = [("3", [3]), ("2..4", [2, 3, 4]), ("4..", [4, 5]), ("..1", [0, 1]), ("0", [0])]


@pytest.mark.parametrize(("text", "held"), RANGES)
def test_a_range_holds_its_ends(text: str, held: list[int]) -> None:
    expected = read_expected(text)
    assert [count for count in range(6) if expected.holds(count)] == held
    assert str(expected) == text

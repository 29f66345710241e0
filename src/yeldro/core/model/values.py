"""Values from the command line: read once, by the family of the column they meet, then bound, never
pasted."""

from __future__ import annotations

import csv
import datetime
from decimal import Decimal, InvalidOperation

from msgspec import Struct

from yeldro.core.model.relative_days import find_today, is_relative, resolve
from yeldro.core.model.schema import Family, Table
from yeldro.errors import UsageError

Value = str | int | Decimal | bool | datetime.date | datetime.datetime | None

# As PostgreSQL reads a boolean, in the short forms that people type.
_TRUE = {"true", "t", "yes", "1"}
_FALSE = {"false", "f", "no", "0"}
# One for each kind, because an example says more than a rule.
EXAMPLES = {
    Family.INTEGER: "a whole number such as 12",
    Family.NUMBER: "a number such as 1.25",
    Family.DATE: "a day such as 2024-01-31",
    Family.TIMESTAMP: "a moment such as 2024-01-31 06:00:00",
    Family.BOOLEAN: "true or false",
}

# The types whose values may be written by their distance from today.
MOVING = (Family.DATE, Family.TIMESTAMP)


class Parameter(Struct, frozen=True):
    """One `-p name=value` or `-p name:type=value`. `family` is None where no type was given."""

    name: str
    text: str
    family: Family | None
    is_null: bool = False

    def value(self, family: Family | None) -> Value:
        """The value in its own type, else in that of the column it is compared with, else as
        text. UsageError for what reads as a day where nothing says that it is one, or is none: as a
        text it would be compared with days, and match other rows."""
        if self.is_null:
            return None
        wanted = self.family or family
        if self.family is None and wanted not in MOVING and is_relative(self.text):
            raise UsageError(
                f"-p {self.name}={self.text} reads as a day, and :{self.name} is not compared with "
                "a column of days alone.",
                f"Say what it is: -p {self.name}:date={self.text}, or {self.name}:timestamp=, or "
                f"{self.name}:text= for these very letters.",
            )
        return read_given(self.text, wanted or Family.TEXT, self.name)


def read_parameter(text: str) -> Parameter:
    """Read `name=value` or `name:type=value`. UsageError that says what is missing."""
    head, equals, value = text.partition("=")
    name, colon, type_name = head.partition(":")
    if not equals or not name.isidentifier():
        raise UsageError(
            f"-p {text!r} is not name=value.", "Write -p name=value or -p name:type=value."
        )
    if not colon:
        return Parameter(name, value, None)
    if type_name == "null":
        return Parameter(name, "", None, is_null=True)
    known = [family.value for family in Family if family is not Family.OTHER]
    if type_name not in known:
        raise UsageError(
            f"-p {name} has an unknown type {type_name!r}.",
            f"The types are: {', '.join(known)}, null.",
        )
    return Parameter(name, value, Family(type_name))


class WrittenFloat(float):
    """A number that keeps the text which the database sent for it."""

    def __new__(cls, text: str) -> WrittenFloat:
        made = super().__new__(cls, text)
        made.text = text
        return made

    text: str

    def __str__(self) -> str:
        return self.text


def read_given(text: str, family: Family, name: str) -> Value:
    """Read what a person gave for a parameter: there a day may be written by its distance from
    today. Nowhere else, where the word could be data."""
    where = f"the parameter {name}"
    if family not in MOVING:
        return read_value(text, family, where)
    try:
        return resolve(text, find_today()) if is_relative(text) else read_value(text, family, where)
    except (UsageError, ValueError):
        raise UsageError(
            f"The value of {where} is not a valid {family}.",
            f"Give {EXAMPLES[family]}, or 'today - 90 days'.",
        ) from None


def read_value(text: str, family: Family, where: str) -> Value:
    """Read one value. `where` names it in the message of the UsageError; the value itself is not
    repeated."""
    try:
        match family:
            case Family.INTEGER:
                return int(text.strip())
            case Family.NUMBER:
                return _finite(Decimal(text.strip()))
            case Family.DATE:
                return _date_or_moment(text.strip())
            case Family.TIMESTAMP:
                return _date_or_moment(text.strip())
            case Family.BOOLEAN:
                return _truth(text.strip().lower())
            case _:
                return text
    except (ValueError, InvalidOperation):
        raise UsageError(
            f"The value of {where} is not a valid {family}.", f"Give {EXAMPLES[family]}."
        ) from None


def _finite(number: Decimal) -> Decimal:
    if not number.is_finite():
        raise ValueError
    return number


def _date_or_moment(text: str) -> datetime.date | datetime.datetime:
    return (
        datetime.date.fromisoformat(text)
        if len(text) == 10
        else datetime.datetime.fromisoformat(text)
    )


def _truth(text: str) -> bool:
    if text not in _TRUE | _FALSE:
        raise ValueError
    return text in _TRUE


def read_key(text: str, table: Table) -> tuple[Value, ...]:
    """Read one `--key` value: a CSV line with a field for each column of the primary key."""
    if not table.key:
        raise UsageError(
            f"{table.label} has no primary key, so --key cannot name its rows.", "Use --where."
        )
    try:
        fields = next(csv.reader([text], strict=True), []) or [""]
    except csv.Error as error:
        hint = (
            "A part that holds a comma, a quote or a line break stands in double quotes: 'a,\"b, "
            "c\"'."
        )
        raise UsageError(f"--key is not one line of CSV ({error}).", hint) from None
    if len(fields) != len(table.key):
        raise UsageError(
            f"--key needs {len(table.key)} value(s) for {table.label} ({', '.join(table.key)}), "
            f"got {len(fields)}.",
            "Separate the parts of a composite key with commas.",
        )
    return tuple(
        read_value(part, table.column(name).family, f"--key ({table.label}.{name})")
        for part, name in zip(fields, table.key, strict=True)
    )

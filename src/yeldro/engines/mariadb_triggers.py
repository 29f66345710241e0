"""What the bodies of MariaDB's triggers, and of the routines that they call, may write to.

Bodies are read word by word: what a statement names where tables stand may be written to by it. That is more than what
it does write to, never less.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import sqlglot
from sqlglot.errors import TokenError
from sqlglot.tokenizer_core import Token

from yeldro.core.schema import TableName

_VERBS = {"INSERT": ("insert",), "REPLACE": ("insert", "delete"), "UPDATE": ("update",), "DELETE": ("delete",)}
# The words behind which a table may stand, or another one of these words.
_BEFORE_TABLES = {
    *("INTO", "UPDATE", "FROM", "JOIN", "STRAIGHT_JOIN", "DELETE", "INSERT", "REPLACE", "USING", ","),
    *("IGNORE", "LOW_PRIORITY", "HIGH_PRIORITY", "DELAYED", "QUICK"),
}


@dataclass(frozen=True, slots=True)
class Written:
    """A table that a body may write to."""

    verb: str
    table: TableName


@dataclass(frozen=True, slots=True)
class Routine:
    """A procedure or function. Its `body` is None where this account may not read it."""

    schema: str
    name: str
    body: str | None


class Bodies:
    """Reads bodies. `routines` are those that can be seen, by lower-case schema and name."""

    def __init__(self, routines: Mapping[tuple[str, str], Routine]) -> None:
        self._routines = routines

    def find_writes(self, schema: str, body: str) -> tuple[tuple[Written, ...], str]:
        """What a body in a schema may write to, and what of it cannot be read, "" where all can."""
        found: dict[Written, None] = {}
        waiting, seen = [(schema, body)], set[str]()
        while waiting:
            schema, body = waiting.pop()
            if "/*!" in body or "/*M!" in body.upper():
                return tuple(found), "a comment that is run"
            try:
                tokens = sqlglot.tokenize(body, read="mysql")
            except TokenError:
                return tuple(found), "its text"
            found.update(dict.fromkeys(_find_written(tokens, schema)))
            for place, name, is_call in _find_called(tokens, schema):
                routine = self._routines.get((place.lower(), name.lower()))
                if (routine is None and is_call) or (routine and routine.body is None):
                    return tuple(found), f"{name}, which it calls"
                if routine and routine.body is not None and f"{place}.{name}".lower() not in seen:
                    seen.add(f"{place}.{name}".lower())
                    waiting.append((routine.schema, routine.body))
        return tuple(found), ""


def _find_written(tokens: Sequence[Token], schema: str) -> Iterator[Written]:
    verbs: tuple[str, ...] = ()
    for place, token in enumerate(tokens):
        word = token.text.upper()
        if word in (";", "THEN", "ELSE", "DO", "BEGIN", "LOOP", "REPEAT"):
            verbs = ()
        elif word in _VERBS and not _is_dotted(tokens, place):
            verbs += _VERBS[word]
        before = tokens[place - 1].text.upper() if place else ""
        if verbs and before in _BEFORE_TABLES and word not in _BEFORE_TABLES and _is_name(token):
            name = _read_name(tokens, place, schema)
            yield from (Written(verb, name) for verb in verbs)


def _find_called(tokens: Sequence[Token], schema: str) -> Iterator[tuple[str, str, bool]]:
    """The routines that may be called, each with its schema, and whether it is surely none of the server's own."""
    for place, token in enumerate(tokens):
        following = tokens[place + 1].text if place + 1 < len(tokens) else ""
        is_call = place > 0 and tokens[place - 1].text.upper() == "CALL"
        if _is_dotted(tokens, place) or not (is_call or following in ("(", ".")):
            continue
        name = _read_name(tokens, place, schema)
        after = tokens[place + 3].text if following == "." and place + 3 < len(tokens) else following
        if is_call or after == "(":
            yield name.schema, name.name, is_call


def _is_name(token: Token) -> bool:
    return token.token_type.name not in ("STRING", "NUMBER", "L_PAREN", "R_PAREN")


def _is_dotted(tokens: Sequence[Token], place: int) -> bool:
    return place > 0 and tokens[place - 1].text == "."


def _read_name(tokens: Sequence[Token], place: int, schema: str) -> TableName:
    if place + 2 < len(tokens) and tokens[place + 1].text == ".":
        return TableName(tokens[place].text, tokens[place + 2].text)
    return TableName(schema, tokens[place].text)

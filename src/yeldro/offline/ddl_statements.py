"""The statements of a schema file that make tables, keys and references, without what only says how
they are stored.

Such files come from tools, which write much that no parser of SQL knows. What makes a reference is
never passed over.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

import sqlglot
from msgspec import Struct
from sqlglot.errors import TokenError
from sqlglot.tokenizer_core import Token

from yeldro.errors import UsageError

# Words that may stand behind a column, a key or a reference, and change nothing about it.
_NEEDLESS = {
    *("CLUSTERED", "NONCLUSTERED", "ENABLE", "DISABLE", "VALIDATE", "NOVALIDATE", "RELY", "NORELY"),
    *("PERSISTED", "VIRTUAL", "STORED", "SPARSE", "ROWGUIDCOL"),
}
_INTERVAL = {"YEAR", "MONTH", "DAY", "SECOND", "TO"}
# How what stands among columns begins, and is neither column, key nor reference.
_NOTHING = {
    ("CHECK", "("),
    ("EXCLUDE", "USING"),
    ("EXCLUDE", "("),
    ("SUPPLEMENTAL", "LOG"),
    ("PERIOD", "FOR"),
}
# Tables that have more than their own statement says.
_MORE = {"LIKE", "INHERITS", "PARTITION OF"}
_ON = {"DELETE", "UPDATE"}


class Statement(Struct, frozen=True):
    """What matters of one: `verb` is CREATE, ADD or UNIQUE, `text` is plain SQL, in which what is
    added to a table is written as a table of that name. It makes so many `references`."""

    verb: str
    text: str
    references: int = 0


def cut_statements(text: str, dialect: str) -> Iterator[Statement]:
    """The statements that matter, in their order. UsageError for what cannot be read."""
    for tokens in _split(text, dialect):
        words = [_word(text, token) for token in tokens]
        head = [
            word
            for word in words[:6]
            if word not in ("OR", "REPLACE", "GLOBAL", "PRIVATE", "TEMPORARY", "TEMP")
        ]
        references = words.count("REFERENCES")
        if head[:2] == ["CREATE", "TABLE"]:
            yield Statement("CREATE", _create(text, tokens, words, dialect), references)
        elif head[:2] == ["CREATE", "UNIQUE"]:
            yield Statement("UNIQUE", _unique(text, tokens, words))
        elif head[:2] == ["ALTER", "TABLE"]:
            if added := _add(text, tokens, words, dialect):
                yield Statement("ADD", added, references)
        elif references and words[0] not in ("GRANT", "REVOKE", "COMMENT", "EXEC"):
            raise _unread(tokens)


def _word(text: str, token: Token) -> str:
    """A word in capitals; a name in quotes, or a text, is none."""
    return "" if text[token.start] in "\"[`'" else token.text.upper()


def _unread(tokens: Sequence[Token]) -> UsageError:
    return UsageError(
        f"The schema file cannot be read at line {tokens[0].line}: "
        f"{' '.join(token.text for token in tokens[:6])} …",
        "Leave the statement out, or write it as CREATE TABLE.",
    )


def _split(text: str, dialect: str) -> Iterator[list[Token]]:
    """A statement ends with a semicolon, a line that is GO or a slash, or where a line begins with
    CREATE or ALTER."""
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except TokenError as error:
        raise UsageError(f"The schema file cannot be read: {str(error).splitlines()[0]}") from None
    statement: list[Token] = []
    depth = 0
    lines = re.split(r"\r\n|\r|\n", text)  # as the parser counts them
    for token in tokens:
        alone = (
            lines[token.line - 1].strip().rstrip(";").upper() if token.line <= len(lines) else ""
        )
        begins = token.text.upper() in ("CREATE", "ALTER") and alone.startswith(token.text.upper())
        if begins and statement and not depth:
            yield statement
            statement = []
        depth = max(0, depth + (token.text == "(") - (token.text == ")"))
        if token.text == ";" or (token.text.upper() in ("GO", "/") and alone == token.text.upper()):
            if statement:
                yield statement
            statement = []
        else:
            statement.append(token)
    if statement:
        yield statement


def _create(text: str, tokens: Sequence[Token], words: Sequence[str], dialect: str) -> str:
    opening = next((place for place, word in enumerate(words) if word == "("), None)
    if opening is None or _MORE & {*words, *map(" ".join, zip(words, words[1:], strict=False))}:
        raise _unread(tokens)
    name = tokens[words.index("TABLE") + 1 : opening]
    name = (
        name[3:] if [token.text.upper() for token in name[:3]] == ["IF", "NOT", "EXISTS"] else name
    )
    inner = tokens[opening + 1 : _close(tokens, words, opening)]
    return f"CREATE TABLE {_written(text, name)} ({_plain(text, inner, dialect)})"


def _add(text: str, tokens: Sequence[Token], words: Sequence[str], dialect: str) -> str:
    """What a table is given, "" where that is nothing that matters."""
    if "DROP" in words[3:6]:
        raise _unread(tokens)
    if "ADD" not in words:
        if "REFERENCES" in words:
            raise _unread(tokens)
        return ""
    place = words.index("ADD")
    name = [
        token
        for token in tokens[2:place]
        if token.text.upper() not in ("WITH", "CHECK", "NOCHECK", "ONLY")
    ]
    following = [*words[place + 1 : place + 4], "", ""]
    inner = tokens[place + 1 :]
    if following[0] == "(" and _close(tokens, words, place + 1) == len(tokens) - 1:
        inner = tokens[place + 2 : -1]
    elif following[0] == "COLUMN":
        inner = tokens[place + 2 :]
    elif "DEFAULT" in (following[0], following[0] == "CONSTRAINT" and following[2]):
        return ""
    added = _plain(text, inner, dialect)
    return f"CREATE TABLE {_written(text, name)} ({added})" if added else ""


def _unique(text: str, tokens: Sequence[Token], words: Sequence[str]) -> str:
    start = next((place for place, word in enumerate(words) if word.endswith("INDEX")), 0)
    if not start or "ON" not in words or "(" not in words[words.index("ON") :]:
        raise _unread(tokens)
    on = words.index("ON")
    opening = words.index("(", on)
    partial = " WHERE 1 = 1" if "WHERE" in words else ""
    columns = _written(text, tokens[opening + 1 : _close(tokens, words, opening)])
    table = tokens[on + 1 : words.index("USING") if "USING" in words[on:opening] else opening]
    name = _written(text, tokens[start + 1 : on])
    return f"CREATE UNIQUE INDEX {name} ON {_written(text, table)} ({columns}){partial}"


def _close(tokens: Sequence[Token], words: Sequence[str], opening: int) -> int:
    """Where the bracket at `opening` is closed."""
    depth = 0
    for place in range(opening, len(words)):
        depth += (words[place] == "(") - (words[place] == ")")
        if not depth:
            return place
    raise _unread(tokens)


def _plain(text: str, tokens: Sequence[Token], dialect: str) -> str:
    """A list of columns and constraints without storage."""
    parts = [
        _plain_part(text, part) for part in _parts(tokens) if not _is_nothing(text, part, dialect)
    ]
    return ", ".join(part for part in parts if part)


def _parts(tokens: Sequence[Token]) -> Iterator[Sequence[Token]]:
    depth = start = 0
    for place, token in enumerate(tokens):
        depth += (token.text == "(") - (token.text == ")")
        if token.text == "," and not depth:
            yield tokens[start:place]
            start = place + 1
    yield tokens[start:]


def _is_nothing(text: str, tokens: Sequence[Token], dialect: str) -> bool:
    words = [*(_word(text, token) for token in tokens[:4]), "", "", ""]
    start = 2 if words[0] == "CONSTRAINT" else 0
    return tuple(words[start : start + 2]) in _NOTHING or (
        dialect == "tsql" and words[0] == "INDEX"
    )


def _plain_part(text: str, tokens: Sequence[Token]) -> str:
    """One column or constraint. A needless word is a name where it stands first, or in brackets."""
    words = [_word(text, token) for token in tokens]
    kept: list[Token] = []
    place = depth = 0
    while place < len(words):
        word, following = words[place], (*words[place + 1 : place + 3], "", "")
        if word == "USING" and following[0] == "INDEX":
            break
        if (last := _skip_bracket(tokens, words, place)) is not None:
            place = last + 1
            continue
        if skipped := _count_needless(word, following):
            place += skipped
            continue
        depth += (word == "(") - (word == ")")
        if not _is_needless(words, place, depth):
            kept.append(tokens[place])
        place += 1
    return _written(text, kept)


def _skip_bracket(tokens: Sequence[Token], words: Sequence[str], place: int) -> int | None:
    """Where a bracket ends that says nothing of a column: of storage options, or the precision of
    an interval. None where there is none."""
    if words[place] == "WITH" and words[place + 1 : place + 2] == ["("]:
        return _close(tokens, words, place + 1)
    is_interval = "INTERVAL" in words[1:place] and words[place - 1] in _INTERVAL
    return _close(tokens, words, place) if words[place] == "(" and is_interval else None


def _count_needless(word: str, following: Sequence[str]) -> int:
    """How many words begin here that mean nothing to us."""
    if word == "ON" and following[0] not in _ON:
        return 2
    if (word, *following[:2]) == ("NOT", "FOR", "REPLICATION"):
        return 3
    return 2 if (word, *following[:2]) == ("FOREIGN", "KEY", "REFERENCES") else 0


def _is_needless(words: Sequence[str], place: int, depth: int) -> bool:
    word = words[place]
    if depth:
        return word in ("ASC", "DESC") or (word in ("CHAR", "BYTE") and words[place - 1].isdigit())
    if word in _INTERVAL:
        return "INTERVAL" in words[1:place]
    if word == "FOREIGN KEY":
        return words[place + 1 : place + 2] == ["REFERENCES"]
    return word in _NEEDLESS and place > 0


def _written(text: str, tokens: Sequence[Token]) -> str:
    return " ".join(text[token.start : token.end + 1] for token in tokens)

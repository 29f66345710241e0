"""The statements of a schema file that make tables, keys and references, without what only says how they are stored.

Such files come from tools, which write much that no parser of SQL knows. What makes a reference is never passed over.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence

import sqlglot
from sqlglot.errors import TokenError
from sqlglot.tokenizer_core import Token

from yeldro.errors import UsageError

# Words that may stand behind a column, a key or a reference, and change nothing about it.
_NEEDLESS = {
    *("CLUSTERED", "NONCLUSTERED", "ENABLE", "DISABLE", "VALIDATE", "NOVALIDATE", "RELY", "NORELY", "ASC", "DESC"),
}
_ON = {"DELETE", "UPDATE"}


def cut_statements(text: str, dialect: str) -> Iterator[tuple[str, str]]:
    """Each statement that matters as what it is about, CREATE or ADD or UNIQUE, and in plain SQL.

    What is added to a table is written as a table of that name. UsageError for what cannot be read.
    """
    for tokens in _split(text, dialect):
        words = [token.text.upper() for token in tokens]
        head = [word for word in words[:6] if word not in ("OR", "REPLACE", "GLOBAL", "PRIVATE", "TEMPORARY", "TEMP")]
        if head[:2] == ["CREATE", "TABLE"]:
            yield "CREATE", _create(text, tokens, words)
        elif head[:2] == ["CREATE", "UNIQUE"]:
            yield "UNIQUE", _unique(text, tokens, words)
        elif head[:2] == ["ALTER", "TABLE"]:
            if added := _add(text, tokens, words):
                yield "ADD", added
        elif "REFERENCES" in words and words[0] not in ("GRANT", "REVOKE", "COMMENT", "EXEC"):
            raise _unread(tokens)


def _unread(tokens: Sequence[Token]) -> UsageError:
    return UsageError(
        f"The schema file cannot be read at line {tokens[0].line}: {' '.join(token.text for token in tokens[:6])} …",
        "Leave the statement out, or write it as CREATE TABLE.",
    )


def _split(text: str, dialect: str) -> Iterator[list[Token]]:
    """A statement ends with a semicolon, a line that is GO or a slash, or where a line begins with CREATE or ALTER."""
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except TokenError as error:
        raise UsageError(f"The schema file cannot be read: {str(error).splitlines()[0]}") from None
    statement: list[Token] = []
    depth = 0
    lines = text.splitlines()
    for token in tokens:
        alone = lines[token.line - 1].strip().rstrip(";").upper() if token.line <= len(lines) else ""
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


def _create(text: str, tokens: Sequence[Token], words: Sequence[str]) -> str:
    opening = next((place for place, word in enumerate(words) if word == "("), None)
    if opening is None:
        raise _unread(tokens)
    name = tokens[words.index("TABLE") + 1 : opening]
    name = name[3:] if [token.text.upper() for token in name[:3]] == ["IF", "NOT", "EXISTS"] else name
    inner = tokens[opening + 1 : _close(tokens, words, opening)]
    return f"CREATE TABLE {_written(text, name)} ({_plain(text, inner)})"


def _add(text: str, tokens: Sequence[Token], words: Sequence[str]) -> str:
    """What a table is given, "" where that is nothing that matters."""
    if "DROP" in words[3:6]:
        raise _unread(tokens)
    if "ADD" not in words or ("DEFAULT" in words and "FOR" in words):
        if "REFERENCES" in words:
            raise _unread(tokens)
        return ""
    place = words.index("ADD")
    name = [token for token in tokens[2:place] if token.text.upper() not in ("WITH", "CHECK", "NOCHECK", "ONLY")]
    inner = tokens[place + 1 :]
    if words[place + 1] == "(" and _close(tokens, words, place + 1) == len(tokens) - 1:
        inner = tokens[place + 2 : -1]
    if words[place + 1] == "COLUMN":
        inner = tokens[place + 2 :]
    return f"CREATE TABLE {_written(text, name)} ({_plain(text, inner)})"


def _unique(text: str, tokens: Sequence[Token], words: Sequence[str]) -> str:
    start = next((place for place, word in enumerate(words) if word.endswith("INDEX")), 0)
    if not start or "ON" not in words or "(" not in words[words.index("ON") :]:
        raise _unread(tokens)
    on = words.index("ON")
    opening = words.index("(", on)
    partial = " WHERE 1 = 1" if "WHERE" in words else ""
    columns = _plain(text, tokens[opening + 1 : _close(tokens, words, opening)])
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


def _plain(text: str, tokens: Sequence[Token]) -> str:
    """A list of columns and constraints without storage."""
    words = [token.text.upper() for token in tokens]
    kept: list[Token] = []
    place = 0
    while place < len(words):
        word, following = words[place], words[place + 1 : place + 2]
        quoted = text[tokens[place].start] in "\"[`'"
        if quoted:
            kept.append(tokens[place])
        elif word == "WITH" and following == ["("]:
            place = _close(tokens, words, place + 1)
        elif word == "ON" and following and following[0] not in _ON:
            place += 1
        elif word == "USING" and following == ["INDEX"]:
            place = _end_of_part(words, place) - 1
        elif word in ("CHAR", "BYTE") and words[place - 1].isdigit():
            pass
        elif word not in _NEEDLESS:
            kept.append(tokens[place])
        place += 1
    return _written(text, kept)


def _end_of_part(words: Sequence[str], start: int) -> int:
    """Where the next column or constraint begins."""
    depth = 0
    for place in range(start, len(words)):
        depth += (words[place] == "(") - (words[place] == ")")
        if depth < 0 or (words[place] == "," and not depth):
            return place
    return len(words)


def _written(text: str, tokens: Sequence[Token]) -> str:
    return " ".join(text[token.start : token.end + 1] for token in tokens)

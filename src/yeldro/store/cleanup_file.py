"""Cleanup files: TOML that people write and read. Every fault is told at once, with its line."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from datetime import UTC, datetime
from pathlib import Path
from typing import Any

import tomlkit
from msgspec.structs import replace
from tomlkit.exceptions import TOMLKitError
from tomlkit.items import Table

from yeldro.core.cleanup.cleanup import Cleanup, Param, Step
from yeldro.core.cleanup.reading import Fault, read_cleanup
from yeldro.core.cleanup.reading import Path as Place
from yeldro.errors import UsageError
from yeldro.store.disk import write_private

# A key at the start of a line, to find the line of a fault: the parser of TOML does not tell it.
_KEY = re.compile(r"""\s*((?:[\w-]+|"[^"]*"|'[^']*')(?:\s*\.\s*(?:[\w-]+|"[^"]*"|'[^']*'))*)\s*=""")


def load_cleanup(path: Path) -> Cleanup:
    """Read a file strictly. UsageError with all faults, each with its line and key."""
    try:
        text = path.read_text(encoding="utf-8")
        data = tomllib.loads(text)
    except OSError as error:
        raise UsageError(f"{path} cannot be read: {error.strerror}.") from None
    except UnicodeDecodeError:
        raise UsageError(f"{path} is not a text in UTF-8.") from None
    except tomllib.TOMLDecodeError as error:
        hint = f"{path}, {_describe_syntax(error, text)}\nA text stands in quotes, a list in [ ]."
        raise UsageError(f"{path} is not valid TOML.", hint) from None
    except (
        ValueError,
        RecursionError,
    ):  # a number of thousands of digits, brackets within brackets
        raise UsageError(
            f"{path} cannot be read: a value in it is too long or nested too deeply."
        ) from None
    cleanup, faults = read_cleanup(data)
    lines = find_lines(text)
    if faults:
        told = [f"{path}, {_describe(fault, lines)}" for fault in faults]
        raise UsageError(
            f"{path} has {len(faults)} fault{'s' * (len(faults) > 1)}.", "\n".join(told)
        )
    steps = [
        replace(step, line=lines.get(("steps", place), 0))
        for place, step in enumerate(cleanup.steps)
    ]
    return replace(cleanup, steps=tuple(steps))


def _describe_syntax(error: tomllib.TOMLDecodeError, text: str) -> str:
    """Where the text is not valid TOML. The parser stands behind what it could not take."""
    place = re.search(r" \(at (?:line (\d+), column \d+|end of document)\)", str(error))
    lines = text.rstrip("\n").split("\n")
    number = int(place[1]) if place and place[1] else len(lines)
    key = _KEY.match(lines[number - 1])
    where = f"line {number}" if key or (place and place[1]) else "the end of the file"
    fault = re.sub(r" \(at .*", "", str(error))
    if "overwrite" in fault:
        fault = "this key is already set"
    return f"{where}{f', {key[1]}' if key else ''}: {fault[:1].lower()}{fault[1:]}."


def _describe(fault: Fault, lines: Mapping[Place, int]) -> str:
    path = fault.path
    known = next((path[:end] for end in range(len(path), 0, -1) if path[:end] in lines), ())
    where = f"line {lines[known]}" if known else "the whole file"
    key = ".".join(f"[{part + 1}]" if isinstance(part, int) else part for part in path).replace(
        ".[", "["
    )
    return f"{where}{f', {key}' if key else ''}: {fault.message}."


def find_lines(text: str) -> dict[Place, int]:
    """The line of every table and key, by its path. Numbers count the tables of a list from 0."""
    found: dict[Place, int] = {}
    table: Place = ()
    counts: dict[str, int] = {}
    for number, line in _outer_lines(text):
        if header := _read_header(line):
            names = tuple(part.strip().strip("\"'") for part in header[1].split("."))
            if header[0] == "[[":
                counts[names[0]] = counts.get(names[0], -1) + 1
                table = (names[0], counts[names[0]])
            else:
                place = counts.get(names[0])
                table = names if place is None else (names[0], place, *names[1:])
            found[table] = number
        elif key := _KEY.match(line):
            parts = tuple(part.strip().strip("\"'") for part in key[1].split("."))
            found[(*table, *parts)] = number
            found.setdefault((*table, *parts[:1]), number)
    return found


def _read_header(line: str) -> tuple[str, str] | None:
    """The bracket and the names of a line that begins a table."""
    text = line.strip()
    mark = "[[" if text.startswith("[[") else "["
    names, end, rest = text.removeprefix(mark).partition("]")
    rest = rest.removeprefix("]").lstrip()
    is_header = (
        text.startswith("[") and names.strip() and end and (not rest or rest.startswith("#"))
    )
    return (mark, names.strip()) if is_header else None


def _outer_lines(text: str) -> Iterator[tuple[int, str]]:
    """The lines on which a table or a key may begin: not those inside a long text or a list."""
    closing, depth = "", 0
    for number, line in enumerate(text.split("\n"), 1):
        if not closing and not depth:
            yield number, line
        if closing:
            closing = "" if closing in line else closing
            continue
        for mark in ('"""', "'''"):
            if line.count(mark) % 2:
                closing = mark
        if not closing and (depth or not _read_header(line)):
            bare = re.sub(r'"(?:[^"\\]|\\.)*"|\'[^\']*\'|#.*', "", line)
            depth += bare.count("[") - bare.count("]")


def save_file(
    path: Path,
    cleanup: Cleanup,
    notes: Mapping[str, Sequence[str]] | None = None,
    left: Sequence[str] = (),
) -> None:
    """Write a file, or write one anew: what a person added to it stays, as far as it is about the
    same rows."""
    try:
        if not path.exists():
            about = (
                f"Written by yeldro on {datetime.now(UTC):%Y-%m-%d}. Run it with: yeldro run "
                f"{path.name}"
            )
            text = write_cleanup(cleanup, about, notes, left)
        else:
            text = rewrite_cleanup(path.read_text(encoding="utf-8"), cleanup)
        _, faults = read_cleanup(tomllib.loads(text))
        if faults:
            told = "; ".join(fault.message for fault in faults)
            raise UsageError(
                f"This is not enough for a cleanup file: {told}.", "Nothing was written."
            )
        write_private(path, lambda file: file.write(text))
    except OSError as error:
        raise UsageError(f"{path} cannot be written: {error.strerror}.") from None
    except (UnicodeDecodeError, TOMLKitError):
        raise UsageError(f"{path} is not a cleanup file, so it is not written over.") from None


def write_cleanup(
    cleanup: Cleanup,
    about: str = "",
    notes: Mapping[str, Sequence[str]] | None = None,
    left: Sequence[str] = (),
) -> str:
    """A file as a person would write it: what it is first, then parameters, guards and steps.
    `about` is a comment on the first line, `notes` are comments on steps by their names, `left`
    those on what is not in the file."""
    document = tomlkit.document()
    for comment in (about, *left):
        if comment:
            document.add(tomlkit.comment(comment))
    for name in ("title", "description", "database"):
        if value := getattr(cleanup, name):
            document.add(name, value)
    if cleanup.params:
        params = tomlkit.table(is_super_table=True)
        for param in cleanup.params:
            params.add(param.name, _param_table(param))
        document.add("params", params)
    if cleanup.guards:
        document.add("guards", _table(cleanup.guards))
    steps = tomlkit.aot()
    for step in cleanup.steps:
        steps.append(_step_table(step, (notes or {}).get(step.name, ())))
    document.add("steps", steps)
    return str(tomlkit.dumps(document))


def _param_table(param: Param) -> Table:
    entry = tomlkit.table()
    entry.add("type", param.type)
    given = {"default": param.default, "ask": param.ask, "allowed": list(param.allowed)}
    for name, value in given.items():
        if value not in (None, "", []):
            entry.add(name, value)
    return entry


def _step_table(step: Step, notes: Sequence[str]) -> Table:
    entry = tomlkit.table()
    for note in notes:
        entry.add(tomlkit.comment(note))
    entry.add("name", step.name)
    entry.add(step.verb, step.table)
    _fill(entry, step.options)
    return entry


def rewrite_cleanup(text: str, cleanup: Cleanup) -> str:
    """An existing file with what is different in `cleanup`: its comments, its order and its layout
    stay."""
    document, wanted = tomlkit.parse(text), tomlkit.parse(write_cleanup(cleanup))
    old, new = document.get("steps"), wanted.get("steps")
    names = [[step["name"] for step in steps or ()] for steps in (old, new)]
    if names[0] == names[1]:
        for one, other in zip(old or (), new or (), strict=True):
            _adapt(one, other)
        wanted["steps"] = document["steps"]
    _adapt(document, wanted)
    return str(tomlkit.dumps(document))


def _adapt(table: Any, wanted: Any) -> None:
    """Take out what is not wanted, and put in what is different."""
    for name in [name for name in table if name not in wanted]:
        del table[name]
    for name, value in wanted.items():
        if isinstance(table.get(name), Table) and isinstance(value, Table):
            _adapt(table[name], value)
        elif name not in table or _plain(table[name]) != _plain(value):
            table[name] = value


def _plain(value: Any) -> Any:
    """Texts and numbers know their layout; what is true or false is itself."""
    return value.unwrap() if hasattr(value, "unwrap") else value


def _table(values: Mapping[str, Any]) -> Table:
    table = tomlkit.table()
    _fill(table, values)
    return table


def _fill(table: Table, values: Mapping[str, Any]) -> None:
    for name, value in values.items():
        if isinstance(value, Mapping):
            inline = tomlkit.inline_table()
            inline.update(value)
            value = inline
        table.add(name, value)

"""A cleanup as one SQL script, for the client of each engine.

Every change is followed by a check of what it touched. A check that fails raises an error and rolls
everything back.
"""

from __future__ import annotations

import textwrap
from abc import ABC, abstractmethod
from collections.abc import Iterator, Sequence
from datetime import UTC, datetime
from functools import cached_property

from yeldro.core.model.plural import count
from yeldro.core.run.preview import Preview
from yeldro.core.run.written import Entry, Role, Writing, WrittenStep
from yeldro.offline.target import Target, find_tag

# How each script is run, for its head: one client stops at an error only when it is told to.
_CLIENTS = {
    "sqlite": "sqlite3 DATABASE < FILE",
    "postgres": "psql -v ON_ERROR_STOP=1 -f FILE DATABASE",
    "mysql": "mariadb DATABASE < FILE",
}
_WIDTH = 110


def render_script(writing: Writing, title: str, source: str, *, dry: bool) -> str:
    """The whole text. `source` is the file that it was made from; `dry` ends it with a rollback."""
    dialects: dict[str, type[_Dialect]] = {
        "sqlite": _Sqlite,
        "postgres": _Postgresql,
        "mysql": _Mariadb,
    }
    writer = dialects[writing.dialect](writing)
    lines = [
        *_head(writing, title, source, dry=dry),
        "",
        *writer.write("ROLLBACK" if dry else "COMMIT"),
    ]
    return "\n".join(lines).rstrip() + "\n"


def render_blueprint(
    lines: Sequence[str], title: str, source: str, schema: str, target: Target, *, dry: bool
) -> str:
    """A script that was written from a schema file, under the plain words that nobody ran it."""
    head = [*comment(title or "A cleanup"), "--"]
    head += comment(
        f"For {target.title}. Written by yeldro from {source} and {schema}, "
        f"{datetime.now(UTC):%Y-%m-%d %H:%M} UTC."
    )
    head += comment(f"Run it with: {target.client}")
    head += comment(
        "It was not run against a server: it was written from the schema file alone, and nobody "
        "has seen the rows that it will find. Read it, and try it on a copy first."
    )
    head += comment(
        "It is one transaction. It finds the rows, compares each change with what it should touch, "
        "and stops with an error, changing nothing, where something differs."
    )
    if dry:
        head += comment("It ends with ROLLBACK: everything is done, checked, and taken back.")
    return "\n".join([*head, "", *lines]).rstrip() + "\n"


def comment(text: str, indent: str = "") -> Iterator[str]:
    """A text as lines that no client takes for anything else: signs that are not printed are
    written out."""
    for line in (_visible(one) for one in text.split("\n")):
        yield from textwrap.wrap(
            line, _WIDTH, initial_indent=f"-- {indent}", subsequent_indent=f"-- {indent}"
        ) or ["--"]


def _visible(line: str) -> str:
    return "".join(sign if sign.isprintable() else repr(sign)[1:-1] for sign in line)


def _head(writing: Writing, title: str, source: str, *, dry: bool) -> Iterator[str]:
    yield from comment(title or "A cleanup")
    yield "--"
    yield from comment(
        f"For the database {writing.database}. Written by yeldro from {source}, "
        f"{datetime.now(UTC):%Y-%m-%d %H:%M} UTC."
    )
    yield from comment(f"Run it with: {_CLIENTS[writing.dialect]}")
    yield from comment(
        "It is one transaction. It holds the counts that were found when it was written: where one "
        "of them is different when it runs, it stops with an error and changes nothing."
    )
    if dry:
        yield from comment("It ends with ROLLBACK: everything is done, checked, and taken back.")
    if any(entry.lasting for step in writing.steps for entry in step.entries):
        yield from comment(
            "Copies of all rows that go or change are kept in new tables of the same database."
        )
    for number, step in enumerate(writing.steps, 1):
        yield "--"
        yield from comment(f"Step {number}, {step.preview.step}: {_matched(step.preview)}")
        for part in step.preview.reach.parts:
            if part.rows:
                via = ", ".join(map(str, part.via))
                yield from comment(
                    f"{part.action} {count(part.rows, 'row')} of "
                    f"{part.table.label}{f' ({via})' if via else ''}",
                    "  ",
                )


def _matched(preview: Preview) -> str:
    what = "surplus row" if preview.duplicates else "row"
    return f"{count(preview.reach.matched, what)} of {preview.selection.table.label}"


class _Dialect(ABC):
    """Writes the parts in the order that suits an engine."""

    def __init__(self, writing: Writing) -> None:
        self.writing = writing

    def write(self, ending: str) -> Iterator[str]:
        yield from (f"{text};" for text in self.writing.settings)
        yield ""
        yield from self.body(ending)

    @abstractmethod
    def body(self, ending: str) -> Iterator[str]: ...

    def steps(self) -> Iterator[str]:
        for number, step in enumerate(self.writing.steps, 1):
            yield ""
            yield from comment(f"Step {number}, {step.preview.step}")
            yield from self.step(step)

    def step(self, step: WrittenStep) -> Iterator[str]:
        for entry in step.entries:
            yield from self.entry(entry)

    def entry(self, entry: Entry) -> Iterator[str]:
        if entry.comment and entry.told:
            yield ""
            number = "" if entry.rows is None else f": {entry.rows:,}"
            yield from comment(f"{entry.comment}{number}")
        match entry.role:
            case Role.SELECT:
                yield ""
                yield from comment("To look at them:")
                yield from (
                    f"--   {_visible(line.strip())}" for line in f"{entry.text};".split("\n")
                )
            case Role.CHECK:
                yield from self.check(entry)
            case Role.CHANGE if entry.rows is not None:
                yield from self.change(entry)
            case _:
                yield f"{entry.text};"

    @abstractmethod
    def change(self, entry: Entry) -> Iterator[str]: ...

    @abstractmethod
    def check(self, entry: Entry) -> Iterator[str]: ...

    def made(self, *, lasting: bool) -> list[Entry]:
        entries = [
            *self.writing.start,
            *(entry for step in self.writing.steps for entry in step.entries),
        ]
        return [entry for entry in entries if entry.role is Role.MAKE and entry.lasting is lasting]

    def temporary(self) -> list[str]:
        return [entry.name for entry in self.made(lasting=False)]

    def opening(self) -> Iterator[str]:
        yield from (f"{entry.text};" for entry in self.writing.start if entry.role is not Role.MAKE)


def _text(value: str) -> str:
    return "'" + value.replace("'", "''") + "'"


class _Sqlite(_Dialect):
    """It is done when its client stops at the first error. Where it goes on all the same, because
    somebody typed the script in: every table is made inside the transaction and before the first
    check; when that is rolled back they are gone, and no change can be done without them. A change
    that failed by itself is found by the check behind it."""

    def body(self, ending: str) -> Iterator[str]:
        yield ".bail on"
        yield from self.opening()
        yield ""
        yield from comment(
            "A row of this table can only be written if both numbers are the same; else all is "
            "undone. Deleting none of them before a change sets the count of changed rows to 0."
        )
        yield (
            "CREATE TEMP TABLE yeldro_checks (what TEXT, wanted INTEGER, found INTEGER, CHECK "
            "(wanted = found));"
        )
        yield from (
            f"{entry.text};" for lasting in (False, True) for entry in self.made(lasting=lasting)
        )
        yield from self.steps()
        yield ""
        yield "DROP TABLE temp.yeldro_checks;"
        yield from (f"DROP TABLE temp.{name};" for name in self.temporary())
        yield f"{ending};"

    def entry(self, entry: Entry) -> Iterator[str]:
        if entry.role is not Role.MAKE:
            yield from super().entry(entry)

    def change(self, entry: Entry) -> Iterator[str]:
        yield "DELETE FROM temp.yeldro_checks WHERE 0;"
        yield f"{entry.text};"
        yield (
            f"INSERT OR ROLLBACK INTO temp.yeldro_checks SELECT {_text(entry.comment)}, "
            f"{entry.rows}, changes();"
        )

    def check(self, entry: Entry) -> Iterator[str]:
        yield (
            f"INSERT OR ROLLBACK INTO temp.yeldro_checks SELECT {_text(entry.comment)}, "
            f"{entry.rows}, ("
        )
        yield f"{entry.text});"


class _Postgresql(_Dialect):
    """After an error the transaction cannot commit, whatever comes."""

    @cached_property
    def tag(self) -> str:
        return find_tag(
            text
            for step in self.writing.steps
            for entry in step.entries
            for text in (entry.text, entry.comment)
        )

    def body(self, ending: str) -> Iterator[str]:
        yield from self.opening()
        yield from self.steps()
        yield ""
        yield from (f"DROP TABLE pg_temp.{name};" for name in self.temporary())
        yield f"{ending};"

    def change(self, entry: Entry) -> Iterator[str]:
        yield from self.block(
            entry, [f"{entry.text};", "GET DIAGNOSTICS yeldro_found = ROW_COUNT;"]
        )

    def check(self, entry: Entry) -> Iterator[str]:
        yield from self.block(entry, [f"yeldro_found := ({entry.text});"])

    def block(self, entry: Entry, lines: Sequence[str]) -> Iterator[str]:
        yield f"DO {self.tag} DECLARE yeldro_found bigint; BEGIN"
        yield from lines
        what = _text(
            f"{entry.comment.replace('%', '%%')}: {entry.rows} were expected, % were found"
        )
        yield f"IF yeldro_found <> {entry.rows} THEN RAISE EXCEPTION {what}, yeldro_found; END IF;"
        yield f"END {self.tag};"


class _Mariadb(_Dialect):
    """One block, so that any error ends all of it. Tables that stay are made before: making one
    would commit."""

    def body(self, ending: str) -> Iterator[str]:
        for entry in self.made(lasting=True):
            yield from super().entry(entry)
        yield ""
        yield "DELIMITER $$"
        yield "BEGIN NOT ATOMIC"
        yield "DECLARE EXIT HANDLER FOR SQLEXCEPTION"
        yield "BEGIN ROLLBACK; SET SESSION foreign_key_checks = 1; RESIGNAL; END;"
        yield from self.opening()
        yield from self.steps()
        yield ""
        yield from (f"DROP TEMPORARY TABLE {name};" for name in self.temporary())
        yield f"{ending};"
        if ending == "COMMIT":
            yield from (f"{text};" for text in self.writing.after)
        yield "END $$"
        yield "DELIMITER ;"

    def entry(self, entry: Entry) -> Iterator[str]:
        if not entry.lasting:
            yield from super().entry(entry)

    def change(self, entry: Entry) -> Iterator[str]:
        yield f"{entry.text};"
        yield from self.compare(entry, "ROW_COUNT()")

    def check(self, entry: Entry) -> Iterator[str]:
        yield from self.compare(entry, f"({entry.text})")

    def compare(self, entry: Entry, found: str) -> Iterator[str]:
        what = _text(f"{entry.comment}: {entry.rows} were expected"[:120].replace("\\", "\\\\"))
        yield (
            f"IF {found} <> {entry.rows} THEN SIGNAL SQLSTATE '45000' SET MESSAGE_TEXT = {what}; "
            "END IF;"
        )

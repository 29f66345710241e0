"""What functions of MariaDB do (https://mariadb.com/kb/en/function-and-operator-reference/)."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from contextlib import suppress

from yeldro.core.model.schema import Schema
from yeldro.core.selection.calls import Calls, find_calls
from yeldro.engines.shared.calls import Judge, Unsafe
from yeldro.engines.shared.gate import Gate
from yeldro.errors import YeldroError

# Built-in functions that do more than look: they wait, lock, or read and write files.
_UNSAFE = {
    **dict.fromkeys(
        ("sleep", "benchmark", "master_pos_wait", "master_gtid_wait", "source_pos_wait"), "it waits"
    ),
    "wsrep_sync_wait_upto_gtid": "it waits",
    **dict.fromkeys(
        ("get_lock", "release_lock", "release_all_locks"), "it locks, or frees what is locked"
    ),
    "load_file": "it reads files of the server",
    **dict.fromkeys(("nextval", "setval", "lastval"), "it moves or reads a sequence"),
    "last_insert_id": "it changes what the session remembers",
}
# A routine whose body holds one of these words may change something.
_WRITING = {"call", "execute", "insert", "update", "delete", "replace", "truncate"}
# Functions with their bodies; a body that this account cannot see is NULL, and judged as unsafe.
_ROUTINES = """
SELECT LOWER(ROUTINE_NAME), ROUTINE_DEFINITION, SQL_DATA_ACCESS FROM information_schema.ROUTINES
WHERE ROUTINE_TYPE = 'FUNCTION'"""
# What comes with the server. Its geometry functions are not listed.
_DELIVERED = """
SELECT LOWER(FUNCTION) FROM information_schema.SQL_FUNCTIONS
UNION SELECT LOWER(WORD) FROM information_schema.KEYWORDS"""
_GEOMETRY = (
    "st_",
    "mbr",
    "point",
    "line",
    "polygon",
    "multi",
    "geom",
    "wkb",
    "pol",
    "mpoint",
    "mline",
    "mpoly",
)


class MariadbJudge(Judge):
    """A stored function is judged by what it calls in turn; one whose body cannot be read may do
    anything."""

    def __init__(self, gate: Gate, schema: Schema) -> None:
        super().__init__()
        self._gate = gate
        self._views = {
            table.name.name.lower(): table for table in schema.tables if table.definition
        }
        self._routines: Mapping[str, tuple[str | None, str]] | None = None
        self._delivered: frozenset[str] = frozenset()
        self._known: dict[str, str] = {}

    def _read(self) -> Mapping[str, tuple[str | None, str]]:
        if self._routines is None:
            self._routines = {
                name: (body, access) for name, body, access in self._gate.read(_ROUTINES)
            }
            with suppress(YeldroError):  # MySQL has no such lists
                self._delivered = frozenset(name for (name,) in self._gate.read(_DELIVERED))
        return self._routines

    def find_unsafe(self, text: str, calls: Calls) -> Iterator[Unsafe]:
        for word in sorted(calls.words & self._views.keys()):
            for found in self._look_into(word):
                yield Unsafe(
                    found.name, f"the view {self._views[word].label} calls it, and {found.reason}"
                )
        if {"value", "for"} <= calls.words and calls.words & {"next", "previous"}:
            yield Unsafe("nextval", _UNSAFE["nextval"])
        for name in sorted(calls.names):
            if name not in self._known:
                self._known[name] = (
                    ""  # one that calls itself is judged by the rest of what it does
                )
                self._known[name] = self._judge(name)
            if reason := self._known[name]:
                yield Unsafe(name, reason)

    def _look_into(self, word: str) -> list[Unsafe]:
        """What a view calls. One that stands in itself by another way is looked at once."""
        view = self._views.pop(word)
        found = list(self.find_unsafe("", find_calls(view.definition)))
        self._views[word] = view
        return found

    def _judge(self, name: str) -> str:
        if name in _UNSAFE:
            return _UNSAFE[name]
        routines = self._read()
        if name not in routines:
            is_known = not self._delivered or name in self._delivered or name.startswith(_GEOMETRY)
            return "" if is_known else "it does not come with the server"
        body, access = routines[name]
        if body is None:
            return "this account cannot read its body"
        if access == "MODIFIES SQL DATA":
            return "it is declared to change data"
        calls = find_calls(body)
        if calls.words & _WRITING:
            return "it writes, or calls a procedure"
        found = next(
            (one for one in self.find_unsafe("", calls) if one.name not in self.allowed), None
        )
        return f"it calls {found.name}" if found else ""

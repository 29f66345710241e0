"""What is refused: one clear sentence, the right exit status, no traceback, and not a byte changed."""

from __future__ import annotations

import ctypes
import os
import sqlite3
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest

CLOSED = "closed_on < '2019-01-01'"

REFUSED = [
    (["surve"], 2, "no command 'surve'", "survey"),
    (["survey", "--formatt", "json"], 2, "--formatt", ""),
    (["survey", "station"], 2, "no table 'station'", "stations"),
    (["preview", "stations"], 2, "No rows of stations were chosen", "--all-rows"),
    (["delete", "stations", "--yes"], 2, "No rows of stations were chosen", "--where"),
    (["preview", "stations", "--where", ""], 2, "empty", ""),
    (["preview", "stations", "--where", "clsed_on IS NULL"], 2, "no column 'clsed_on'", "closed_on"),
    (["preview", "stations", "--where", '"clsed_on" IS NULL'], 2, "no column 'clsed_on'", "^"),
    (["preview", "stations", "--where", "sensors.id = 1"], 2, "'sensors' that is not stations", "^"),
    (["preview", "stations", "--where", "id = 1) OR (1 = 1"], 2, "one SQL condition", "id = 1) OR (1 = 1\n        ^"),
    (["preview", "stations", "--where", "id = 1; DELETE FROM stations"], 2, "one SQL condition", "^"),
    (["preview", "stations", "--where", "id = 1 -- all"], 2, "comment", ""),
    (["preview", "stations", "--where", "code = 'LW"], 2, "not closed", ""),
    (["preview", "stations", "--where", "nosuch(id) = 1"], 2, "no such function", "nosuch(id)"),
    (["preview", "stations", "--where", "id = (SELECT x FROM rivers)"], 2, "There is no column 'x' in rivers", ""),
    (["preview", "stations", "--where", "id = :n"], 2, "needs a value for :n", "-p n="),
    (["preview", "stations", "--where", "id = :n", "-p", "n=twelve"], 2, "parameter n is not a valid integer", "12"),
    (["preview", "stations", "--where", "id = :n", "-p", "n:int=1"], 2, "unknown type 'int'", "integer"),
    (["preview", "stations", "--where", "id = 1", "-p", "n=1"], 2, "n is not used", ":n"),
    (["preview", "stations", "--where", "id = 1", "-p", "1"], 2, "not name=value", ""),
    (["preview", "stations", "--key", "one"], 2, "--key (stations.id) is not a valid integer", ""),
    (["preview", "stations", "--key", ""], 2, "not a valid integer", ""),
    (["preview", "calibrations", "--key", "1"], 2, "needs 2 value(s)", "commas"),
    (["preview", "logger_lines", "--key", "1"], 2, "no primary key", "--where"),
    (["preview", "stations", "--limit", "3"], 2, "go together", "--order-by"),
    (["preview", "stations", "--order-by", "opened_on sideways", "--limit", "3"], 2, "cannot be read", ""),
    (["preview", "stations", "--order-by", "opened", "--limit", "3"], 2, "no column 'opened'", "opened_on"),
    (["preview", "stations", "--all-rows", "--show", "nme"], 2, "no column 'nme'", "name"),
    (["preview", "stations", "--all-rows", "--sample", "few"], 2, "neither a number nor all", ""),
    (["preview", "stations", "--all-rows", "--dependents", "drop"], 2, "no known rule", "detach"),
    (["preview", "stations", "--all-rows", "--dependents", "stop", "--dependents", "delete"], 2, "both", ""),
    (["preview", "stations", "--where", "1 = 1"], 3, "All 42 rows", "--all-rows"),
    (["preview", "stations", "--where", CLOSED], 3, "12 rows of photos block the delete", "photos=detach"),
    (["delete", "stations", "--where", CLOSED], 2, "not a terminal", "--yes"),
    (["delete", "stations", "--where", CLOSED, "--yes", "--ask-last"], 2, "excludes", ""),
    (["delete", "stations", "--where", CLOSED, "--yes"], 3, "12 rows of photos block the delete", ""),
    (["delete", "stations", "--where", "1 = 1", "--yes"], 3, "All 42 rows", ""),
    (["delete", "observers", "--key", "11", "--yes"], 3, "visits.observer_id -> observers.id (declared RESTRICT)", "")
     ,
    (["delete", "observers", "--key", "11", "--yes", "--dependents", "detach"], 3, "cannot be detached", "delete"),
    (["delete", "readings", "--key", "1", "--yes", "--expect", "2"], 3, "2 rows of readings were expected, 1", ""),
    (["preview", "stations", "--key", "99", "--expect", "1"], 3, "1 row of stations was expected, 0 match", ""),
    (["delete", "readings", "--key", "999999", "--yes", "--expect", "1.."], 3, "1.. rows", ""),
    (["delete", "readings", "--key", "1", "--yes", "--expect", "5..2"], 2, "not a count or a range", "A..B"),
    (["delete", "sensors", "--key", "1", "--yes", "--max-rows", "2"], 3, "more than --max-rows 2", ""),
    (["delete", "sensors", "--where", "id < 90", "--yes", "--dependents", "delete", "--max-share", "50"], 3, "%", ""),
    (["survey", "--db", "nowhere.db"], 5, "no database file nowhere.db", "no file was made"),
    (["survey", "--db", "."], 5, "is a folder", ""),
    (["survey", "--db", "yeldro.toml"], 5, "not an SQLite database", ""),
    (["survey", "--db", "oracle://x"], 2, "unknown scheme", ""),
    (["demo", "."], 2, "not empty", ""),
]  # fmt: skip


@pytest.mark.parametrize(
    ("arguments", "status", "said", "hint"), REFUSED, ids=lambda value: str(value)[:60]
)
def test_a_refusal_is_clear_and_changes_nothing(
    yeldro: Yeldro, gauges: Path, arguments: list[str], status: int, said: str, hint: str
) -> None:
    before = digest(gauges)
    result = yeldro(*arguments)
    assert (
        result.status,
        said in result.err,
        hint.replace("\n  ", "\n") in result.err.replace("\n  ", "\n"),
    ) == (
        status,
        True,
        True,
    ), result.err
    assert "Traceback" not in result.err
    assert digest(gauges) == before
    assert not (gauges.parent / "nowhere.db").exists()


CHANGE_NOTHING = [
    ["survey"],
    ["survey", "stations", "logger_lines", "closed_stations", "--format", "json"],
    ["preview", "stations", "--where", CLOSED, "--dependents", "photos=detach"],
    ["preview", "readings", "--all-rows", "--format", "csv"],
    ["preview", "observers", "--all-rows", "--dependents", "delete", "--format", "json"],
    ["delete", "stations", "--where", CLOSED, "--dependents", "photos=detach", "--rehearse"],
    ["delete", "readings", "--key", "999999", "--yes"],
]


@pytest.mark.parametrize("arguments", CHANGE_NOTHING, ids=" ".join)
def test_a_command_that_promises_to_change_nothing_keeps_the_file(
    yeldro: Yeldro, gauges: Path, arguments: list[str]
) -> None:
    before = digest(gauges)
    assert yeldro(*arguments).status == 0
    assert digest(gauges) == before
    assert [path.name for path in gauges.parent.iterdir() if path.name.startswith("gauges")] == [
        "gauges.db"
    ]


def test_a_locked_database_is_told(yeldro: Yeldro, gauges: Path) -> None:
    other = sqlite3.connect(gauges, isolation_level=None)
    other.execute("BEGIN EXCLUSIVE")
    for command in (["survey"], ["delete", "readings", "--key", "1", "--yes"]):
        result = yeldro(*command, "--wait", "0.05")
        assert (result.status, "locked by another program" in result.err) == (5, True)
    other.close()


@contextmanager
def obeying_modes() -> Iterator[None]:
    """The administrator may write to any file; without CAP_DAC_OVERRIDE (capabilities(7)) the modes
    of files hold for them too. Other users have nothing to give up."""
    if os.geteuid() != 0:
        yield
        return
    libc = ctypes.CDLL(None, use_errno=True)
    header = (ctypes.c_uint32 * 2)(0x20080522, 0)
    data = (ctypes.c_uint32 * 6)()
    assert libc.capget(header, data) == 0
    whole = data[0]
    data[0] = whole & ~0b110  # and CAP_DAC_READ_SEARCH
    assert libc.capset(header, data) == 0
    try:
        yield
    finally:
        data[0] = whole
        assert libc.capset(header, data) == 0


def test_a_read_only_file_or_folder_is_told(yeldro: Yeldro, gauges: Path) -> None:
    records = gauges.parent / "own"
    records.mkdir()
    gauges.chmod(0o444)
    gauges.parent.chmod(0o555)
    try:
        with obeying_modes():
            unkept = yeldro("delete", "readings", "--key", "1", "--yes")
            result = yeldro("delete", "readings", "--key", "1", "--yes", "--archive", str(records))
    finally:
        gauges.parent.chmod(0o755)
    told = "cannot be written: Permission denied" in unkept.err
    assert (unkept.status, told) == (5, True), unkept.err
    assert (result.status, "read-only" in result.err) == (5, True), result.err


@pytest.mark.usefixtures("gauges")
def test_an_error_as_json_is_one_document(yeldro: Yeldro) -> None:
    document = yeldro("survey", "station", "--format", "json").document
    assert document.keys() == {"kind", "status", "message", "hint"}
    assert (document["kind"], document["status"]) == ("error", 2)


@pytest.mark.parametrize(
    ("text", "faults"),
    [
        ("default = 1", ["default must be a text"]),
        (
            'defalt = "x"\n[databases.x]\nurl = 3\nport = 1',
            ["defalt", "default", "x.url must be", "x.port"],
        ),
        (
            'default = "y"\n[databases.x]\nurl = "sqlite:///gauges.db"',
            ["'y'", "not under [databases]"],
        ),
        ("[databases.x]", ["databases.x needs a url"]),
        (
            '[[references]]\nfrom = "a.b"\nto = "c"\nrule = "drop"',
            ["references[1].rule", "references[1].to must be"],
        ),
        (
            '[[references]]\nform = "a.b"',
            ["references[1].form is an unknown key", "needs from", "needs rule"],
        ),
        ("default = ", ["cannot be read"]),
    ],
)
def test_all_faults_of_the_configuration_are_told_at_once(
    yeldro: Yeldro, gauges: Path, text: str, faults: list[str]
) -> None:
    (gauges.parent / "yeldro.toml").write_text(text)
    result = yeldro("survey")
    assert result.status == 2
    assert [fault for fault in [*faults, "yeldro.toml"] if fault not in result.err] == []

"""Deletions through the command line: counts, formats, questions, interruptions."""

from __future__ import annotations

import json
import os
import pty
import select
import signal
import sqlite3
import subprocess
import sys
import time
from contextlib import closing
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest
from yeldro.engines.shared import gate
from yeldro.errors import DatabaseFailed

STATIONS = [
    "stations",
    "--where",
    "closed_on < :day",
    "-p",
    "day=2019-01-01",
    "--dependents",
    "photos=detach",
]


def counts(path: Path) -> dict[str, int]:
    connection = sqlite3.connect(path)
    names = [
        name
        for (name,) in connection.execute("SELECT name FROM sqlite_master WHERE type = 'table'")
    ]
    found = {
        name: connection.execute(f"SELECT count(*) FROM {name}").fetchone()[0] for name in names
    }
    connection.close()
    return found


def dangling(path: Path) -> int:
    connection = sqlite3.connect(path)
    found = len(connection.execute("PRAGMA foreign_key_check").fetchall())
    connection.close()
    return found


def test_the_preview_says_what_the_deletion_then_does(yeldro: Yeldro, gauges: Path) -> None:
    before, orphans = counts(gauges), dangling(gauges)
    preview = yeldro("preview", *STATIONS, "--format", "json").document
    assert (preview["kind"], preview["database"], preview["table"]) == (
        "preview",
        "gauges",
        "stations",
    )
    assert (preview["matched"], preview["table_rows"], len(preview["sample"])) == (6, 42, 6)
    assert [part["order"] for part in preview["reach"]] == list(range(1, 8))
    assert preview["reach"][0] == {
        "order": 1,
        "table": "photos",
        "rows": 12,
        "action": "detach",
        "via": ["photos.visit_id -> visits.id"],
    }
    assert [one["name"] for one in preview["cautions"]] == ["trigger"]
    assert (preview["stops"], preview["refusals"]) == ([], [])
    result = yeldro("delete", *STATIONS, "--yes", "--expect", "6", "--format", "json")
    document = json.loads(result.out)
    assert (result.status, document["kind"], document["outcome"]) == (0, "delete", "committed")
    deleted = {
        part["table"]: part["rows"] for part in preview["reach"] if part["action"] == "delete"
    }
    lines = {line["table"]: line for line in document["tally"]}
    assert {name: line["deleted"] for name, line in lines.items() if line["deleted"]} == deleted
    assert all(line["balanced"] for line in lines.values())
    assert (lines["photos"]["detached"], lines["removals"]["inserted_by_triggers"]) == (12, 6)
    after = counts(gauges)
    assert {name: after[name] - before[name] for name in before if after[name] != before[name]} == {
        **{name: -rows for name, rows in deleted.items()},
        "removals": 6,
    }
    assert dangling(gauges) == orphans
    again = yeldro("delete", *STATIONS, "--yes", "--format", "json").document
    assert (again["outcome"], again["tally"]) == ("nothing-matched", [])


def test_the_text_of_a_preview(yeldro: Yeldro, gauges: Path) -> None:
    connection = sqlite3.connect(gauges)
    hostile = "\x1b[31m" + "long " * 20
    connection.execute("UPDATE observers SET phone = '', town = ? WHERE id = 1", (hostile,))
    connection.execute("UPDATE observers SET town = 'NULL' WHERE id = 3")
    connection.commit()
    arguments = ["--where", "id IN (1, 2, 3)", "--show", "phone,town", "--dependents", "delete"]
    out = yeldro("preview", "observers", *arguments).out
    sample = out.split("What happens")[0]
    rows = {line.split()[0]: line for line in sample.splitlines() if line.strip()[:1].isdigit()}
    assert "''" in rows["1"]
    assert "\\x1b[31m" in rows["1"]
    assert "…" in rows["1"]
    assert "\x1b" not in out
    assert rows["2"].endswith("NULL")
    assert rows["3"].endswith("'NULL'")
    last = out.splitlines()[-1].strip()
    assert (
        last == "yeldro delete observers --where 'id IN (1, 2, 3)' --dependents delete --expect 3"
    )


def test_rows_that_hold_each_other_in_two_ways_go(yeldro: Yeldro, tmp_path: Path) -> None:
    """The second has no code, so it goes first, while the first still points at it."""
    with closing(sqlite3.connect(tmp_path / "weirs.db")) as connection:
        connection.executescript(
            "CREATE TABLE weirs (id INTEGER PRIMARY KEY, code INTEGER UNIQUE, gauge INTEGER NOT NULL "
            "DEFAULT 1 REFERENCES weirs (code) ON DELETE SET DEFAULT, above INTEGER NOT NULL "
            "REFERENCES weirs (id)); INSERT INTO weirs VALUES (1, 100, 100, 2), (2, NULL, 100, 2);"
        )
    line = ["delete", "weirs", "--all-rows", "--dependents", "delete", "--yes", "--db", "weirs.db"]
    ended = yeldro(*line)
    assert (ended.status, counts(tmp_path / "weirs.db")) == (0, {"weirs": 0}), ended.err


@pytest.mark.usefixtures("gauges")
def test_csv_holds_every_matched_row_and_keeps_null_and_blank_apart(yeldro: Yeldro) -> None:
    lines = yeldro(
        "preview", "observers", "--all-rows", "--dependents", "delete", "--format", "csv"
    ).out.split("\r\n")
    assert lines[0] == "id,name,email,phone,town,registered_on"
    assert len(lines) == 1 + 34 + 1
    assert lines[2] == '2," Olwor  TAMSMERE ","Olwor.Tamsmere0@Larkwater.Example ","",,2012-05-28'


SELECTIONS = [
    (
        ["stations", "--key", "7", "--key", "7", "--key", "900"],
        [7],
        ["1 key not in the table: 900"],
    ),
    (["calibrations", "--key", "3,1", "--key", "3,2"], [(3, 1), (3, 2)], []),
    (["stations", "--order-by", "closed_on desc", "--limit", "2"], [5, 30], []),
    (["stations", "--order-by", '"is_trial" desc, opened_on', "--limit", "1"], [33], []),
    (
        ["stations", "--where", "id < 4", "--where", "id > 1", "--where", "is_trial = 0 OR 1"],
        [2, 3],
        [],
    ),
    (["stations", "--where", "name LIKE '%:foo%' OR code = :c", "-p", "c=LW-009"], [9], []),
    (
        ["stations", "--where", "is_trial = :t AND id < :n", "-p", "t=true", "-p", "n:number=8"],
        [7],
        [],
    ),
    (["stations", "--where", "coalesce(closed_on, :d) < '2013'", "-p", "d:null="], [35], []),
    (
        ["readings", "--where", "sensor_id NOT IN (SELECT s.id FROM sensors AS s) AND id % 8 = 0"],
        3,
        [],
    ),
    (["logger_lines", "--where", "line LIKE '%;0003;%'"], 8, []),
]


@pytest.mark.usefixtures("gauges")
@pytest.mark.parametrize(
    ("arguments", "keys", "said"), SELECTIONS, ids=lambda value: str(value)[:70]
)
def test_a_selection_matches_exactly(
    yeldro: Yeldro, arguments: list[str], keys: list[int] | int, said: list[str]
) -> None:
    with_rules = [*arguments, "--dependents", "delete", "--sample", "all"]
    document = yeldro("preview", *with_rules, "--format", "json").document
    found = [
        tuple(row[name] for name in ("sensor_id", "number") if name in row)
        for row in document["sample"]
    ]
    singles = [row.get("id") for row in document["sample"]]
    wanted = keys if isinstance(keys, list) else [None] * keys
    assert document["matched"] == len(wanted)
    assert keys in (singles, found, document["matched"])
    text = yeldro("preview", *with_rules).out
    assert all(part in text for part in said)


def heed_interrupts() -> None:
    """A test run in the background may have been started with Ctrl-C ignored, which children
    inherit."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


def answered(
    folder: Path, arguments: list[str], answer: bytes | signal.Signals, prompt: bytes = b"[y/N]"
) -> tuple[int, str]:
    """Run the built command on a terminal of its own and answer its question."""
    leader, follower = pty.openpty()
    command = [sys.executable, "-m", "yeldro", *arguments]
    process = subprocess.Popen(
        command,
        cwd=folder,
        stdin=follower,
        stdout=follower,
        stderr=follower,
        preexec_fn=heed_interrupts,
    )
    os.close(follower)
    shown, deadline = b"", time.monotonic() + 60
    asked = False
    while time.monotonic() < deadline:
        if not select.select([leader], [], [], 1)[0]:
            # It may have come in the instant before the read began; once it was heard, a second one
            # would end the process in the middle of its own end.
            was_heard = b"Interrupted" in shown
            if asked and isinstance(answer, signal.Signals) and not was_heard:
                process.send_signal(answer)
            continue
        try:
            more = os.read(leader, 4096)
        except OSError:  # Linux says so when the other end is closed
            break
        shown += more
        if prompt in shown and not asked:
            asked = True
            process.send_signal(answer) if isinstance(answer, signal.Signals) else os.write(
                leader, answer
            )
    process.kill()
    os.close(leader)
    return process.wait(20), shown.decode()


@pytest.mark.parametrize(
    ("flags", "answer", "status", "said"),
    [
        ([], b"y\n", 0, "Committed"),
        ([], b"n\n", 4, "Declined"),
        ([], b"\n", 4, "Declined"),
        ([], signal.SIGINT, 130, "Interrupted"),
        (["--ask-last"], b"y\n", 0, "Committed"),
        (["--ask-last"], b"n\n", 4, "Declined"),
        (["--ask-last"], signal.SIGINT, 130, "rolled back"),
    ],
    ids=str,
)
def test_the_question(
    gauges: Path, flags: list[str], answer: bytes, status: int, said: str
) -> None:
    before = digest(gauges)
    ended, shown = answered(gauges.parent, ["delete", *STATIONS, *flags], answer)
    assert (ended, said in shown) == (status, True), shown
    assert ("Tally" in shown) == (flags == ["--ask-last"] or status == 0)
    assert shown.index("A copy will be saved in") < shown.index("[y/N]")
    assert "Delete 6 rows of stations" in shown or flags
    assert (digest(gauges) == before) == (status != 0)


@pytest.mark.parametrize(
    "fault", [KeyboardInterrupt(), DatabaseFailed("The disk is full.")], ids=["ctrl-c", "disk"]
)
@pytest.mark.long
def test_a_fault_at_any_statement_changes_nothing(
    yeldro: Yeldro, gauges: Path, monkeypatch: pytest.MonkeyPatch, fault: BaseException
) -> None:
    """The n-th statement fails, for every n until the command is through."""
    before = digest(gauges)
    send, sent, limit = gate.Gate.translated, 0, 0

    def counting(self: gate.Gate) -> object:
        nonlocal sent
        sent += 1
        if sent == limit:
            raise fault
        return send(self)

    monkeypatch.setattr(gate.Gate, "translated", counting)
    while True:
        limit, sent = limit + 1, 0
        result = yeldro(
            "delete", *STATIONS, "--where", "closed_on <> '1900-01-01'", "--yes", "--sample", "0"
        )
        if sent < limit:
            break
        assert result.status == (130 if isinstance(fault, KeyboardInterrupt) else 5), (
            limit,
            result,
        )
        assert digest(gauges) == before, limit
    assert result.status == 0
    assert limit > 60


@pytest.mark.long
def test_ctrl_c_ends_a_statement_that_never_would(gauges: Path) -> None:
    before = digest(gauges)
    endless = "id IN (WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n) SELECT i FROM n WHERE i < 0)"
    command = [sys.executable, "-m", "yeldro", "delete", "stations", "--where", endless, "--yes"]
    start = time.monotonic()
    subprocess.run(
        [*command[:-3], "--where", "id = 0", "--yes"],
        cwd=gauges.parent,
        check=True,
        capture_output=True,
    )
    process = subprocess.Popen(
        command, cwd=gauges.parent, stderr=subprocess.PIPE, text=True, preexec_fn=heed_interrupts
    )
    time.sleep(3 * (time.monotonic() - start))  # by then it is in the statement
    process.send_signal(signal.SIGINT)
    _, err = process.communicate(timeout=60)
    assert (process.returncode, "Interrupted" in err) == (130, True)
    assert digest(gauges) == before


def test_the_built_command_answers() -> None:
    script = Path(sys.executable).with_name("yeldro")
    shown = [
        subprocess.run([script, flag], capture_output=True, text=True, check=True).stdout
        for flag in ("--version", "-h")
    ]
    assert shown[0].startswith("yeldro 0.")
    assert all(name in shown[1] for name in ("survey", "preview", "delete", "demo"))


@pytest.mark.parametrize(("flags", "status"), [([], 130), (["--format", "json"], 0)], ids=str)
def test_output_that_nobody_reads(gauges: Path, flags: list[str], status: int) -> None:
    """A run that cannot show what it would delete deletes nothing; one that is done stays done."""
    before = digest(gauges)
    reading, writing = os.pipe()
    os.close(reading)
    command = [sys.executable, "-m", "yeldro", "delete", "readings", "--key", "1", "--yes", *flags]
    result = subprocess.run(command, cwd=gauges.parent, stdout=writing, stderr=subprocess.PIPE)
    os.close(writing)
    assert (result.returncode, digest(gauges) == before) == (status, status == 130), result.stderr

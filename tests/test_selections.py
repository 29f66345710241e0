"""Key files, conditions that only look, and completion, as a person meets them."""

from __future__ import annotations

import io
import os
import subprocess
import sys
from pathlib import Path

import pytest

from tests.conftest import Yeldro, digest

KEY_FILES = [
    (b"id\n1\n2\n2\n", 0, "2 of "),
    (b"\xef\xbb\xbfid\r\n1\r\n", 0, "1 of "),
    (b"id\n1\n777777\n", 0, "1 key not in the table: 777777"),
    (b"", 2, "is empty"),
    (b"number\n1\n", 2, "it lacks id, by which rows of stations are looked up"),
    (b"id\n1\n2,3\n", 2, "line 3: 2 field(s), but the header names 1"),
    (b"id\n1\n\n", 2, "line 3: 0 field(s)"),
    (b"id\n1\nx\n", 2, "line 3 (id) is not a valid integer"),
    (b'id\n"1\n', 2, "this is not CSV"),
    (b"id\n1\n\xff\xfe\n", 2, "this is not UTF-8 text"),
]


def test_a_list_of_somebody_else_is_looked_up_by_what_it_has(yeldro: Yeldro, gauges: Path) -> None:
    lines = "name,code\nHesk,LW-010\nHesk,LW-010\n,LW-015\nnobody,LW-999\n"
    (gauges.parent / "list.csv").write_text(lines, encoding="utf-8")
    asked = ["preview", "stations", "--keys-from", "list.csv", "--by", "code"]
    found = yeldro(*asked, "--misses", "misses.csv")
    for told in (
        "2 of 42 rows match",
        "1 key not in the table: LW-999",
        "1 key stands in the list several times",
        "name of the file is not looked at",
    ):
        assert told in found.out
    written = (gauges.parent / "misses.csv").read_text(encoding="utf-8")
    assert written.split() == ["what,code", "missing,LW-999", "repeated,LW-010"]
    assert "--keys-from list.csv --by code" in found.out
    again = yeldro(*asked, "--misses", "misses.csv")
    assert (again.status, "misses.csv cannot be written" in again.err) == (2, True)
    assert yeldro("delete", *asked[1:], "--dependents", "photos=detach", "--yes").status == 0
    assert yeldro("restore", "last", "--yes").status == 0
    assert yeldro("preview", "stations", "--where", "id = 1", "--misses", "x").status == 2
    asked += ["--dependents", "photos=detach"]
    assert yeldro(*asked, "--save", "list.toml").status == 0
    assert yeldro("run", "list.toml", "--rehearse").status == 0


def test_a_list_that_a_shell_pipes_in_is_read_once(gauges: Path) -> None:
    """A stop is looked at again for the command that is offered, but not with the same list."""
    line = (
        f"exec {sys.executable} -m yeldro preview stations --keys-from <(printf 'id\\n15\\n99\\n')"
    )
    done = subprocess.run(
        ["bash", "-c", f"{line} --misses m.csv"],
        cwd=gauges.parent,
        env={**os.environ, "YELDRO_DB": gauges.name},
        capture_output=True,
        text=True,
        timeout=60,
        check=False,
    )
    assert (done.returncode, "--dependents photos=detach" in done.stdout) == (3, True), done.stderr
    assert (gauges.parent / "m.csv").read_text(encoding="utf-8").split() == [
        "what,id",
        "missing,99",
    ]


@pytest.mark.parametrize(("content", "status", "said"), KEY_FILES, ids=str)
def test_a_key_file(
    yeldro: Yeldro,
    gauges: Path,
    monkeypatch: pytest.MonkeyPatch,
    content: bytes,
    status: int,
    said: str,
) -> None:
    before = digest(gauges)
    (gauges.parent / "keys.csv").write_bytes(content)
    monkeypatch.setattr(sys, "stdin", io.TextIOWrapper(io.BytesIO(content)))
    for source in ("keys.csv", "-"):
        result = yeldro("preview", "stations", "--keys-from", source, "--dependents", "delete")
        assert (result.status, said in result.out + result.err) == (status, True), result.err
    assert digest(gauges) == before


ONLY_SQLITE = "id = CAST('1' AS unsigned big int)"
CONDITIONS = [
    (["--where", "load_extension('x') = 1"], 2, "does more than look"),
    (["--where", "id IN (SELECT readfile('x'))"], 2, "does more than look"),
    (["--where", ONLY_SQLITE], 2, "one SQL condition"),
    (["--where", ONLY_SQLITE, "--unparsed"], 0, "The parser could not read the condition"),
    (["--where", "id = 1) OR (id = 2", "--unparsed"], 2, "one SQL condition"),
    (["--where", ONLY_SQLITE + " -- x", "--unparsed"], 2, "one SQL condition"),
    (["--where", ONLY_SQLITE + "; DELETE FROM alerts", "--unparsed"], 2, "one SQL condition"),
    (["--where", "id = 1", "--unparsed"], 0, "1 of 42 rows"),
    (["--where", "id = 1 OR id = 2 AND river_id = 1", "--strict"], 3, "--strict mixed-and-or"),
    (["--where", "id = 1 OR id = 2 AND river_id = 1", "--strict", "never-true"], 0, "mixed-and-or"),
    (["--where", "id = 1", "--strict", "never"], 2, "never-true"),
    (["--key", "1", "--strict"], 3, "--strict trigger"),
]


@pytest.mark.parametrize(("options", "status", "said"), CONDITIONS, ids=str)
def test_a_condition_only_looks(
    yeldro: Yeldro, gauges: Path, options: list[str], status: int, said: str
) -> None:
    before = digest(gauges)
    result = yeldro("preview", "stations", *options, "--dependents", "delete")
    assert (result.status, said in result.out + result.err) == (status, True), (
        result.out + result.err
    )
    assert digest(gauges) == before


@pytest.mark.parametrize(
    ("words", "offered"),
    [
        ("yeldro pre", "preview"),
        ("yeldro preview stat", "stations"),
        ("yeldro preview stations --show na", "name"),
        ("yeldro preview stations --show name,clo", "name,closed_on"),
        ("yeldro preview stations --not-found-in vis", "visits"),
        ("yeldro survey stations clo", "closed_stations"),
        ("yeldro preview nowhere --show na", ""),
        ("yeldro preview --db missing.db stat", ""),
    ],
)
def test_completion(gauges: Path, words: str, offered: str) -> None:
    environment = {
        **os.environ,
        "COMP_WORDS": words,
        "COMP_CWORD": str(words.count(" ")),
        "YELDRO_DB": str(gauges),
    }
    command = [sys.executable, "-m", "yeldro"]
    done = subprocess.run(
        command,
        env=environment | {"_YELDRO_COMPLETE": "bash_complete"},
        capture_output=True,
        text=True,
        cwd=gauges.parent,
    )
    assert [line.partition(",")[2] for line in done.stdout.splitlines() if line] == (
        [offered] if offered else []
    )
    assert done.stderr == ""


@pytest.mark.parametrize("shell", ["bash", "zsh", "fish"])
def test_what_a_shell_needs_for_it(yeldro: Yeldro, shell: str) -> None:
    result = yeldro("completion", shell)
    assert (result.status, "_YELDRO_COMPLETE" in result.out) == (0, True)

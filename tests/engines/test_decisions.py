"""Duplicates that a person decides row by row, in a file."""

from __future__ import annotations

import csv
from collections.abc import Callable
from pathlib import Path

import pytest

from tests.conftest import Yeldro
from tests.servers import Server, rows

CREWS = [
    "CREATE TABLE crews (keep VARCHAR(9), code VARCHAR(9) NOT NULL, name VARCHAR(20), seats INTEGER, PRIMARY KEY (code))",
    "CREATE TABLE trips (id INTEGER PRIMARY KEY, crew VARCHAR(9), FOREIGN KEY (crew) REFERENCES crews (code))",
    "INSERT INTO crews VALUES ('k', '007', 'Heron', 4), ('k', '008', 'Heron', NULL), (NULL, '009', 'Heron', 6),"
    " ('k', 'a,b', 'Otter', 2), ('k', 'c;d', 'Otter', 3), ('k', 'e', 'Swift', 1), ('k', 'f', 'Swift', 1),"
    " ('k', 'g', 'Alone', 1)",
    "INSERT INTO trips VALUES (1, '007'), (2, '009'), (3, 'a,b'), (4, 'c;d'), (5, 'f')",
]  # fmt: skip
Lines = list[dict[str, str]]
ASKED = ["crews", "--same", "name"]


@pytest.fixture
def crews(server: Server, yeldro: Yeldro, tmp_path: Path) -> Server:
    server.run(CREWS)
    assert yeldro("duplicates", *ASKED, "--decisions", "all.csv").status == 0
    assert (tmp_path / "all.csv").stat().st_mode & 0o77 == 0
    return server


def rewrite(folder: Path, change: Callable[[Lines], Lines], delimiter: str = ",") -> None:
    """What a person does in a spreadsheet."""
    with (folder / "all.csv").open(newline="", encoding="utf-8") as file:
        reader = csv.reader(file)
        header = next(reader)
        # The table has a column keep, too: ours is the first one.
        names = [
            f"own {name}" if header.index(name) != at else name for at, name in enumerate(header)
        ]
        lines = [dict(zip(names, fields, strict=True)) for fields in reader]
    with (folder / "mine.csv").open("w", newline="", encoding="utf-8-sig") as file:
        writer = csv.writer(file, delimiter=delimiter)
        writer.writerow([name.removeprefix("own ") for name in names])
        writer.writerows([list(line.values()) for line in change(lines)])


def keep(*codes: str) -> Callable[[Lines], Lines]:
    """Keep these, and leave groups alone in which there is none of them."""

    def change(lines: Lines) -> Lines:
        groups = {line["group"] for line in lines if line["code"] in codes}
        chosen = [line for line in lines if line["group"] in groups]
        return [{**line, "keep": "Yes" if line["code"] in codes else ""} for line in chosen]

    return change


@pytest.mark.parametrize(
    ("codes", "options", "delimiter", "ends"),
    [
        (["009", "c;d"], [], ",", (["009", "c;d", "e", "f", "g"], ["009", "009", "c;d", "c;d", "f"])),
        (["008", "a,b", "e"], [], ";", (["008", "a,b", "e", "g"], ["008", "008", "a,b", "a,b", "e"])),
        (["008"], ["--keep", "highest seats"], "\t", (["008", "c;d", "e", "g"], ["008", "008", "c;d", "c;d", "e"])),
    ],
)  # fmt: skip
def test_exactly_what_was_decided_is_done(
    yeldro: Yeldro,
    crews: Server,
    tmp_path: Path,
    codes: list[str],
    options: list[str],
    delimiter: str,
    ends: tuple[list[str], list[str]],
) -> None:
    left, trips = ends
    before = rows(crews, "crews", "trips")
    rewrite(tmp_path, keep(*codes), delimiter)
    done = yeldro("dedupe", *ASKED, *options, "--decisions", "mine.csv", "--yes")
    assert done.status == 0, done.err
    assert ("1 group stays as before" in done.out) == (len(left) == 5)
    assert [code for (code,) in crews.query("SELECT code FROM crews ORDER BY code")] == left
    assert [crew for (crew,) in crews.query("SELECT crew FROM trips ORDER BY id")] == trips
    assert "--decisions mine.csv" in yeldro("history", "last").out
    assert yeldro("restore", "last", "--yes").status == 0
    assert rows(crews, "crews", "trips") == before


def set_all(**values: str) -> Callable[[Lines], Lines]:
    return lambda lines: [{**line, **values} for line in keep("007")(lines)]


REFUSED: list[tuple[Callable[[Lines], Lines], str, int, str]] = [
    (set_all(keep="yes"), "", 3, "1 group do not keep exactly one row: "),
    (set_all(keep="no"), "", 3, "do not keep exactly one row"),
    (set_all(keep="perhaps"), "", 2, "line 2: 'perhaps' in the column keep is neither yes nor no"),
    (lambda lines: keep("007")(lines) + keep("007")(lines)[:1], "", 3, "holds the key 007 twice"),
    (lambda lines: keep("007")(lines)[:2], "", 3, "1 row new in a group of it"),
    (lambda lines: [{**one, "group": "9", "keep": "yes"} if one["code"] == "f" else one for one in keep("e")(lines)], "", 3, "1 group grown together"),
    (lambda lines: [{**one, "code": one["code"].lstrip("0")} for one in keep("007")(lines)], "", 3, "3 rows not in such a group any more"),
    (keep("007"), "UPDATE crews SET seats = 5 WHERE code = '008'", 3, "1 row changed since"),
    (keep("007"), "DELETE FROM crews WHERE code = '008'", 3, "1 row not in such a group any more"),
    (keep("007"), "UPDATE crews SET name = 'Swift' WHERE code = '008'", 3, "1 row changed since; 2 rows new"),
    (keep("007"), "INSERT INTO crews VALUES (NULL, 'x', 'Heron', 1)", 3, "1 row new in a group of it"),
    (keep("007"), "", 2, "is not a file of decisions about crews"),
]  # fmt: skip


@pytest.mark.parametrize(("change", "meanwhile", "status", "told"), REFUSED)
def test_decisions_that_do_not_fit_stop_everything(
    yeldro: Yeldro,
    crews: Server,
    tmp_path: Path,
    change: Callable[[Lines], Lines],
    meanwhile: str,
    status: int,
    told: str,
) -> None:
    if told.startswith("is not a file"):
        text = (tmp_path / "all.csv").read_text(encoding="utf-8")
        (tmp_path / "mine.csv").write_text(text.replace("mark", "sign"), encoding="utf-8")
    else:
        rewrite(tmp_path, change)
    if meanwhile:
        crews.run(meanwhile)
    before = rows(crews, "crews", "trips")
    done = yeldro("dedupe", *ASKED, "--decisions", "mine.csv", "--yes")
    assert (done.status, told in done.err) == (status, True), done.err
    assert rows(crews, "crews", "trips") == before


def test_a_file_of_decisions_replaces_nothing_and_needs_a_key(
    yeldro: Yeldro, crews: Server, tmp_path: Path
) -> None:
    again = yeldro("duplicates", *ASKED, "--keep", "fullest", "--decisions", "all.csv")
    assert (again.status, "all.csv cannot be written" in again.err) == (2, True)
    assert yeldro("duplicates", *ASKED, "--keep", "fullest", "--decisions", "by.csv").status == 0
    header, first = (tmp_path / "by.csv").read_text(encoding="utf-8").splitlines()[:2]
    assert header == "group,keep,happens,dependents,mark,code,keep,name,seats"
    assert first.split(",")[1:3] == ["yes", "stays"]
    crews.run("UPDATE crews SET name = '=1+1' WHERE code IN ('e', 'f')")
    assert yeldro("duplicates", *ASKED, "--decisions", "formula.csv").status == 0
    assert ",'=1+1," in (tmp_path / "formula.csv").read_text(encoding="utf-8")
    broken = yeldro("duplicates", "crews", "--same", "nosuch(name)", "--decisions", "none.csv")
    assert (broken.status > 0, (tmp_path / "none.csv").exists()) == (True, False)
    crews.run("CREATE TABLE loose (a INTEGER)", "INSERT INTO loose VALUES (1), (1)")
    none = yeldro("duplicates", "loose", "--same", "all", "--decisions", "x.csv")
    assert (none.status, "has no primary key" in none.err) == (2, True)
    saved = yeldro("dedupe", *ASKED, "--decisions", "by.csv", "--save", "x.toml", "--yes")
    assert (saved.status, "--save excludes them" in saved.err) == (2, True)

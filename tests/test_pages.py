"""What the pages say is what the code does."""

from __future__ import annotations

import configparser
import re
import shlex
import subprocess
import sys
import tomllib
from pathlib import Path

import pytest
from tools.layers import PICTURE, draw, read_layers
from tools.pages import find_pages, walk_page

from tests.conftest import Yeldro
from yeldro.core.cautions.caution import NAMES
from yeldro.core.cleanup.keys import TOP
from yeldro.core.run.outcome import Outcome
from yeldro.errors import YeldroError
from yeldro.overview import COMMANDS

ROOT = Path(__file__).parent.parent
PAGES = [*sorted((ROOT / "docs").glob("*.md")), ROOT / "README.md"]


def read_page(name: str) -> str:
    return (ROOT / "docs" / name).read_text(encoding="utf-8")


def read_table(page: str, head: str) -> list[list[str]]:
    """The rows of the table whose first line begins with `head`."""
    lines = read_page(page).splitlines()
    start = next(place for place, line in enumerate(lines) if line.startswith(head))
    rows = []
    for line in lines[start + 2 :]:
        if not line.startswith("|"):
            break
        rows.append([cell.strip() for cell in re.split(r"(?<!\\)\|", line)[1:-1]])
    return rows


def test_the_commands_are_those_of_the_design() -> None:
    assert [row[0].strip("`") for row in read_table("design.md", "| command")] == [*COMMANDS]


def test_every_promise_has_guards_that_are_tried() -> None:
    mutants = tomllib.loads((ROOT / "mutants.toml").read_text(encoding="utf-8"))["mutant"]
    known = {one["name"] for one in mutants}
    promises = read_table("design.md", "| | promise")
    assert len(promises) == 17
    for number, _, guards in promises:
        named = set(guards.split("; "))
        assert named <= known, (number, named - known)


def find_errors(kind: type[YeldroError]) -> set[int]:
    return {kind.status}.union(*(find_errors(one) for one in kind.__subclasses__()))


@pytest.mark.parametrize("page", ["design.md", "output.md"])
def test_the_statuses_are_those_of_the_errors(page: str) -> None:
    told = {int(row[0]) for row in read_table(page, "| status")}
    assert told == {0} | find_errors(YeldroError)


def test_the_outcomes_are_those_of_a_run() -> None:
    labels = {one.label for one in Outcome}
    assert {row[0].strip("`") for row in read_table("output.md", "| outcome")} == labels
    (line,) = re.findall(r"\*\*Outcomes\*\*: (.*?)\n\n", read_page("design.md"), re.DOTALL)
    assert set(re.findall(r"`([a-z-]+)`", line)) == labels


def test_every_caution_has_its_line() -> None:
    told = [
        name
        for row in read_table("cautions.md", "| name")
        for name in re.findall(r"`([a-z-]+)`", row[0])
    ]
    assert sorted(told) == sorted(NAMES)


def test_the_keys_of_a_file_are_those_of_the_design() -> None:
    (line,) = re.findall(
        r"\*\*Cleanup file\*\*: TOML with (.*?)\n\(", read_page("design.md"), re.DOTALL
    )
    assert re.findall(r"`(\w+)`", line) == [*TOP]


@pytest.mark.parametrize(
    ("kind", "line"),
    [
        ("survey", "survey"),
        ("preview", "preview stations --where \"closed_on < '2019-01-01'\""),
        ("review", "review ask.sql"),
        ("delete", "delete alerts --where 'id < 9' --rehearse --yes"),
        ("duplicates", "duplicates observers --same email --ignore case,space"),
        ("history", "history"),
        ("verify", "history --verify"),
        ("map", "map"),
        ("error", "preview nowhere"),
    ],
)  # fmt: skip
@pytest.mark.usefixtures("gauges")
def test_the_keys_of_a_document_are_told(
    yeldro: Yeldro, tmp_path: Path, kind: str, line: str
) -> None:
    (tmp_path / "ask.sql").write_text("DELETE FROM alerts WHERE id < 9;", encoding="utf-8")
    document = yeldro(*shlex.split(line), "--format", "json").document
    assert document.pop("kind") == kind
    told = {
        name: keys
        for row in read_table("output.md", "| kind")
        for name in row[0].split(", ")
        for keys in [row[1]]
    }
    keys = set(re.findall(r"`(\w+)`", told[f"`{kind}`"]))
    assert set(document) - keys == set()


def test_every_link_and_every_file_that_a_page_names_is_there() -> None:
    lacking = []
    for page in PAGES:
        text = page.read_text(encoding="utf-8")
        links = re.findall(r"\]\(([^)#]+)\)", text)
        lacking += [
            link for link in links if "://" not in link and not (page.parent / link).exists()
        ]
        named = re.findall(
            r"`((?:core|engines|store|words|usecases|cli|report|tests|tools|src)/[\w/.]+\.(?:py|md|toml))`",
            text,
        )
        places = (ROOT, ROOT / "src" / "yeldro")
        lacking += [name for name in named if not any((place / name).exists() for place in places)]
    assert lacking == []


def test_the_picture_of_the_layers_is_what_the_rules_say() -> None:
    assert PICTURE.read_text(encoding="utf-8") == draw(read_layers()), "draw it anew: ./dev layers"


def find_blocks(page: str, language: str) -> list[str]:
    return re.findall(rf"```{language}\n(.*?)```", read_page(page), re.DOTALL)


def test_the_timers_of_the_page_run(gauges: Path) -> None:
    """Both commands, as a timer runs them: the first one finds rows, the second one none."""
    (gauges.parent / "alerts.toml").write_text(find_blocks("cron.md", "toml")[0], encoding="utf-8")
    (gauges.parent / "yeldro.toml").write_text('[databases.gauges]\nurl = "sqlite:///gauges.db"\n')
    (cron,) = find_blocks("cron.md", "cron")
    service, timer = (configparser.ConfigParser() for _ in range(2))
    service.optionxform = timer.optionxform = str  # type: ignore[assignment]  # as systemd reads them
    for parser, text in zip((service, timer), find_blocks("cron.md", "ini"), strict=True):
        parser.read_string(text)
    assert timer["Timer"]["OnCalendar"] == "*-*-01 03:15"
    assert cron.split()[:5] == ["15", "3", "1", "*", "*"]
    unit = service["Service"]
    lines = [
        cron.split(maxsplit=5)[5].strip(),
        f"cd {unit['WorkingDirectory']} && {unit['ExecStart']}",
    ]
    assert lines[0] == lines[1]
    tool = f"{sys.executable} -m yeldro"
    for line in lines:
        typed = line.replace("/srv/gauges", str(gauges.parent))
        typed = typed.replace("/usr/local/bin/yeldro", tool)
        done = subprocess.run(
            ["/bin/sh", "-c", typed], capture_output=True, text=True, timeout=60, check=False
        )
        assert done.returncode == 0, done.stderr
    first, second = (gauges.parent / "yeldro.log").read_text().splitlines()
    assert re.search(
        r"run alerts.toml on gauges: committed; before = \d{4}-\d\d-01; deleted", first
    )
    assert second.endswith("nothing-matched; before = " + first.partition("before = ")[2][:10])


@pytest.mark.parametrize("path", find_pages(), ids=lambda path: path.name)
def test_the_commands_of_a_page_print_what_stands_there(path: Path) -> None:
    text = path.read_text(encoding="utf-8")
    assert walk_page(text) == text, "write it anew: ./dev pages"

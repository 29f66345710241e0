"""Runs the commands of a page and writes what they print below them. Usage: ./dev pages [FILE…]

A command stands behind a dollar sign in a block that begins with ```console. The commands of a page
run one after the other, in a demo folder of its own. What differs from run to run is written
always the same.
"""

from __future__ import annotations

import io
import os
import re
import shlex
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from contextlib import chdir, redirect_stderr, redirect_stdout
from pathlib import Path
from unittest import mock

from yeldro.cli.command_line import run_command_line

DOCS = Path(__file__).parent.parent / "docs"
BLOCK = re.compile(r"(?ms)^```console\n(.*?)^```$")
FOLDER = "~/larkwater"
# Of every time and every fingerprint one: what a page shows stays as it is.
SAME = (
    (re.compile(r"\d{8}T\d{6}Z"), "20261130T101500Z"),
    (re.compile(r"\b20\d\d-\d\d-\d\dT\d\d:\d\d:\d\d(\.\d+)?Z"), "2026-11-30T10:15:00Z"),
    (re.compile(r"\b20\d\d-\d\d-\d\d \d\d:\d\d(?![:\d])"), "2026-11-30 10:15"),
    (re.compile(r"\d[\d.]* ([KMG]iB)"), r"200.0 \1"),
    (re.compile(r"\b[0-9a-f]{64}\b"), "5a0c…"),
    (re.compile(r"\b[0-9a-f]{16}$", re.M), "5a0c19e07d3b42f8"),
    (re.compile(r"(archive|run|seconds) +\d+\.\d+"), r"\1 0.1"),
    (re.compile(r"\d[\d.]*( to \d[\d.]*)? s\b(?!econd)"), "0.1 s"),
    (re.compile(r"(Written by yeldro on) [\d-]+"), r"\1 2026-11-30"),
    (re.compile(r"\bkeeper@\S+"), "keeper@weir"),
)


def find_pages() -> list[Path]:
    return [path for path in sorted(DOCS.glob("*.md")) if BLOCK.search(path.read_text("utf-8"))]


def walk_page(text: str) -> str:
    """The same page with what its commands print now."""
    environment = {"COLUMNS": "100", "LOGNAME": "keeper", "NO_COLOR": "1"}
    with (
        tempfile.TemporaryDirectory() as folder,
        mock.patch.dict(os.environ, environment),
        chdir(folder),
    ):
        os.environ.pop("YELDRO_DB", None)
        run_line("yeldro demo larkwater --build-only")
        os.chdir("larkwater")
        found = BLOCK.sub(lambda block: f"```console\n{walk_block(block[1])}```", text)
        for place in (f"{Path(folder).resolve()}/larkwater", f"{folder}/larkwater"):
            found = found.replace(place, FOLDER)
        return found


def walk_block(block: str) -> str:
    return "".join(f"$ {line}\n{make_same(run_line(line))}" for line in list_lines(block))


def list_lines(block: str) -> Iterator[str]:
    """The commands of a block, one of several lines as it stands."""
    found: list[str] = []
    for line in block.splitlines():
        if line.startswith("$ "):
            found.append(line[2:])
        elif found and found[-1].endswith("\\"):
            found[-1] += f"\n{line}"
    yield from found


def run_line(line: str) -> str:
    """What a command prints, its notes after its results."""
    words = shlex.split(line)
    if words[0] != "yeldro" or {"|", "&&", ">"} & set(words):
        done = subprocess.run(["bash", "-c", line], capture_output=True, text=True, check=False)
        return done.stdout + done.stderr
    out, err = io.StringIO(), io.StringIO()
    with redirect_stdout(out), redirect_stderr(err):
        status = run_command_line(words[1:])
    told = f"(exit status {status})\n" if status else ""
    return f"{out.getvalue()}{err.getvalue()}{told}"


def make_same(text: str) -> str:
    for pattern, same in SAME:
        text = pattern.sub(same, text)
    return "".join(f"{line.rstrip()}\n" for line in text.splitlines())


def main() -> None:
    for path in map(Path, sys.argv[1:]) if sys.argv[1:] else find_pages():
        path.write_text(walk_page(path.read_text(encoding="utf-8")), encoding="utf-8")
        sys.stdout.write(f"{path.name}\n")


if __name__ == "__main__":
    main()

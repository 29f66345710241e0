"""Every kind of job at some thousand rows and at four times as many: no statement may take time by
the square of them. Tables reference themselves, each other in a cycle, and by other columns than a
key; a table has no key."""

from __future__ import annotations

import contextlib
import io
import os
import shlex
import sys
import tempfile
import time
from pathlib import Path

from tests.servers import Server

from tools.bench_tree import SERIES, engines
from tools.figures import Figure, Figures
from yeldro.cli.command_line import run_command_line

ROWS = 16_000
# A job that takes less is not judged by its ratio.
_LEAST = 0.25
_TABLES = [
    "CREATE TABLE basins (id INT PRIMARY KEY, head INT)",
    "CREATE TABLE weirs (id INT PRIMARY KEY, code VARCHAR(20) NOT NULL UNIQUE, basin INT NOT NULL "
    "REFERENCES basins (id), up INT REFERENCES weirs (id), note VARCHAR(40))",
    "CREATE TABLE gates (weir INT NOT NULL REFERENCES weirs (id), part INT NOT NULL, code "
    "VARCHAR(20) REFERENCES weirs (code), PRIMARY KEY (weir, part))",
    "CREATE TABLE bolts (id INT PRIMARY KEY, weir INT, part INT, FOREIGN KEY (weir, part) "
    "REFERENCES gates (weir, part))",
    "CREATE TABLE loose (id INT, weir INT, note VARCHAR(40))",
]
_INDEXES = [
    *("CREATE INDEX weirs_up ON weirs (up)", "CREATE INDEX weirs_basin ON weirs (basin)"),
    *("CREATE INDEX gates_code ON gates (code)", "CREATE INDEX bolts_gate ON bolts (weir, part)"),
]
_CYCLE = ["ALTER TABLE basins ADD FOREIGN KEY (head) REFERENCES weirs (id)"]
_DETACH = "--dependents weirs=detach --dependents basins=detach"
_GONE = "--dependents bolts=delete --dependents gates=delete"
JOBS = [
    "delete basins --where 'id > 5' --dependents delete --break-cycles",
    "delete weirs --where 'id > 5' --dependents delete --dependents basins=detach",
    f"delete weirs --where 'id > 5' {_DETACH} --dependents gates=delete --dependents bolts=detach",
    f"dedupe weirs --same note --keep 'lowest id' {_GONE}",
    f"dedupe weirs --same note --keep 'highest id' {_GONE} --dependents weirs=detach",
    "clear weirs --where 'id > 5' --columns up,note",
    "delete loose --where 'weir > 10'",
    "delete loose --found-in weirs --on weir=id",
    "delete loose --not-found-in weirs --on weir=id",
    "delete bolts --order-by 'id desc' --limit {half}",
]


def bench_shapes(figures: Figures, rows: int = ROWS) -> bool:
    met = True
    home = Path.cwd()
    for server in engines():
        worst, told = 0.0, ""
        for job in JOBS:
            line = job.format(half=rows // 8)
            small, large = (_time(server, line, size) for size in (rows // 4, rows))
            for what, before, after in zip(("", ", restore"), small, large, strict=True):
                ratio = after / max(before, _LEAST)
                sys.stdout.write(f"  {before:6.2f} s, {after:6.2f} s  {line[:60]}{what}\n")
                worst, told = max((worst, told), (ratio, f"{line}{what}"))
        os.chdir(home)
        met &= figures.add(Figure("four times the rows", server.engine, worst, 6, f"({told})"))
    return met


def _time(server: Server, line: str, rows: int) -> tuple[float, float]:
    """Seconds for the job, and for taking it back."""
    _fill(server, rows)
    os.chdir(tempfile.mkdtemp())
    return _run(server, f"{line} --yes"), _run(server, "restore last --yes")


def _run(server: Server, line: str) -> float:
    start = time.perf_counter()
    out = io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(out):
        status = run_command_line([*shlex.split(line), "--db", server.place])
    if status:
        sys.exit(f"{line}: {out.getvalue()[-800:]}")
    return time.perf_counter() - start


def _fill(server: Server, rows: int) -> None:
    def join(*parts: str) -> str:
        return f"CONCAT({', '.join(parts)})" if server.engine == "mariadb" else " || ".join(parts)

    half = "id DIV 2" if server.engine == "mariadb" else "id / 2"
    series = SERIES[server.engine].format(rows)
    note = join("'as read on day '", f"(n % {rows * 4 // 5})")
    server.clear()
    if server.engine == "postgresql":
        # So that a plan which needs all rows in memory fails to have it here already.
        name = server.place.rpartition("/")[2]
        server.run([f"ALTER DATABASE {name} SET work_mem = '64kB'"])
    server.run(_TABLES)
    server.run(
        [
            f"INSERT INTO basins SELECT n, NULL FROM {series} AS s",
            f"INSERT INTO weirs SELECT n, {join(chr(39) + 'w' + chr(39), 'n')}, n, NULL, {note} "
            f"FROM {series} AS s",
            f"UPDATE weirs SET up = {half} WHERE id > 3",
            "UPDATE basins SET head = id",
            f"INSERT INTO gates SELECT n, p, {join(chr(39) + 'w' + chr(39), 'n')} FROM {series} "
            "AS s CROSS JOIN (SELECT 1 AS p UNION SELECT 2) AS q",
            f"INSERT INTO bolts SELECT n, n, 1 FROM {series} AS s",
            f"INSERT INTO loose SELECT n, n * 2, 'as read' FROM {series} AS s",
            *_INDEXES,
        ]
    )
    if server.engine != "sqlite":
        server.run(_CYCLE)

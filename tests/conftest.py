"""The command as a person runs it, and the databases to run it on."""

from __future__ import annotations

import fcntl
import hashlib
import io
import json
import os
import shutil
from collections.abc import Callable, Iterator
from contextlib import chdir, redirect_stderr, redirect_stdout
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import HealthCheck, Phase, settings

from yeldro.cli.command_line import run_command_line
from yeldro.demo.larkwater import make_larkwater

settings.register_profile(
    "yeldro",
    max_examples=int(os.environ.get("YELDRO_EXAMPLES", "20")),
    deadline=None,
    derandomize="YELDRO_EXAMPLES" not in os.environ,
    suppress_health_check=list(HealthCheck),
    # To explain a failure takes minutes where each example runs on a database.
    phases=[
        phase
        for phase in Phase
        if phase is not Phase.explain
        and (phase is not Phase.shrink or "YELDRO_NO_SHRINK" not in os.environ)
    ],
)
settings.load_profile("yeldro")


@dataclass(frozen=True)
class Result:
    status: int
    out: str
    err: str

    @property
    def document(self) -> Any:
        return json.loads(self.out)


@pytest.fixture(autouse=True)
def turn(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[None]:
    """Tests run side by side, in two processes; one that changes a whole server waits until it is
    alone."""
    alone = request.node.get_closest_marker("alone") is not None
    with (tmp_path_factory.getbasetemp().parent / "turn").open("w") as file:
        fcntl.flock(file, fcntl.LOCK_EX if alone else fcntl.LOCK_SH)
        yield


Yeldro = Callable[..., Result]


@pytest.fixture
def yeldro(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Yeldro:
    """Runs a command line in the test's own folder. Its first words may come as one text."""
    monkeypatch.delenv("YELDRO_DB", raising=False)

    def run(*arguments: str) -> Result:
        out, err = io.StringIO(), io.StringIO()
        with chdir(tmp_path), redirect_stdout(out), redirect_stderr(err):
            status = run_command_line((*arguments[0].split(), *arguments[1:]))
        return Result(status, out.getvalue(), err.getvalue())

    return run


@pytest.fixture(scope="session")
def built_larkwater(tmp_path_factory: pytest.TempPathFactory) -> Path:
    path = tmp_path_factory.mktemp("built") / "gauges.db"
    make_larkwater(path)
    return path


@pytest.fixture
def gauges(built_larkwater: Path, tmp_path: Path) -> Path:
    """The demo database in the test's own folder, named in yeldro.toml as the default."""
    (tmp_path / "yeldro.toml").write_text(
        'default = "gauges"\n[databases.gauges]\nurl = "sqlite:///gauges.db"\n'
    )
    return Path(shutil.copy(built_larkwater, tmp_path / "gauges.db"))


def digest(path: Path) -> str:
    return hashlib.sha256(path.read_bytes()).hexdigest()

"""Twenty kills an engine; `./dev crash` makes hundreds."""

from __future__ import annotations

from pathlib import Path

from tools.crashes import Crashes

from tests.servers import Server


def test_a_killed_command_loses_nothing(server: Server, tmp_path: Path) -> None:
    crashes = Crashes(server, tmp_path, seed=7)
    for kind in ("delete", "clear", "dedupe", "run", "restore"):
        for _ in range(4):
            crashes.kill(kind)
    assert sum(crashes.told.values()) == 20
    crashes.kill_batches()
    assert crashes.told["resume: committed"] + crashes.told["batches: committed"] == 1
    crashes.kill_restoring()
    assert crashes.told["restore in batches: yes"] + crashes.told["restore in batches: partly"] > 0

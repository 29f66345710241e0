"""A little of what `./dev fuzz` does for as long as somebody wants."""

from __future__ import annotations

from pathlib import Path

from tools.fuzzing import Fuzz

from tests.servers import Server


def test_nothing_hostile_breaks_it(server: Server, tmp_path: Path) -> None:
    fuzz = Fuzz(server, tmp_path, seed=15)
    for _ in range(20):
        fuzz.attack()  # says itself what broke

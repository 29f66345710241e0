"""Hostile files, conditions and command lines by chance. Usage: ./dev fuzz [MINUTES] [ENGINE
...]
"""

import random
import sys
import tempfile
from pathlib import Path

from tests.servers import ENGINES, served

from tools.fuzzing import Fuzz


def main() -> None:
    words = sys.argv[1:]
    minutes = float(words.pop(0)) if words and words[0].replace(".", "").isdigit() else 10
    engines = words or ENGINES
    seed = random.randrange(1 << 30)
    for engine in engines:
        with tempfile.TemporaryDirectory() as folder, served(engine, Path(folder)) as server:
            sys.stdout.write(f"{engine}, seed {seed}: ")
            sys.stdout.flush()
            (Path(folder) / "here").mkdir()
            fuzz = Fuzz(server, Path(folder) / "here", seed)
            fuzz.go_on(minutes * 60 / len(engines))
            sys.stdout.write(f"{fuzz.tried:,} tried, no fault\n")


if __name__ == "__main__":
    main()

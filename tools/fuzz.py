"""Hostile files, conditions and command lines by chance. Usage: ./dev fuzz [MINUTES] [ENGINE
...]
"""

import random
import sys
import tempfile
import time
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
            tried, end = 0, time.monotonic() + minutes * 60 / len(engines)
            while time.monotonic() < end:
                fuzz.attack()
                tried += 1
            sys.stdout.write(f"{tried:,} tried, no fault\n")


if __name__ == "__main__":
    main()

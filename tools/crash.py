"""Kill commands at random points, hundreds of times an engine. Usage: ./dev crash [KILLS] [ENGINE
...], or
./dev crash --every for each point instead of some."""

import random
import sys
import tempfile
from pathlib import Path

from tests.servers import ENGINES, served

from tools import crash_points
from tools.crashes import Crashes


def main() -> None:
    words = sys.argv[1:]
    if "--every" in words:
        crash_points.main(words)
        return
    kills = int(words.pop(0)) if words and words[0].isdigit() else 300
    seed = random.randrange(1 << 30)
    for engine in words or ENGINES:
        with tempfile.TemporaryDirectory() as folder, served(engine, Path(folder)) as server:
            crashes = Crashes(server, Path(folder), seed)
            for number in range(kills):
                kinds = ("delete", "clear", "dedupe", "run", "batches", "restore", "restoring")
                kind = kinds[number % len(kinds)]
                more = {"batches": crashes.kill_batches, "restoring": crashes.kill_restoring}
                more[kind]() if kind in more else crashes.kill(kind)
        told = ", ".join(f"{what} {count}" for what, count in sorted(crashes.told.items()))
        sys.stdout.write(
            f"{engine}: {kills} kills (seed {seed}), history said: {told}; nothing lost\n"
        )
        sys.stdout.flush()


if __name__ == "__main__":
    main()

"""The entry point. `--version` and `--help` are answered before anything heavy is imported."""

import sys

from yeldro import __version__
from yeldro.overview import render_overview


def main() -> None:
    if sys.argv[1:] == ["--version"]:
        sys.stdout.write(f"yeldro {__version__}\n")
        return
    if sys.argv[1:] in (["--help"], ["-h"]):
        sys.stdout.write(render_overview())
        return
    from yeldro.cli import run_command_line

    sys.exit(run_command_line(sys.argv[1:]))


if __name__ == "__main__":
    main()

"""The entry point. `--version` and `--help` are answered before anything heavy is imported."""

import gc
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
    # Imports leave nothing to collect. `cli.connect` turns it on again.
    gc.disable()
    try:
        import signal

        from yeldro.cli.command_line import run_command_line

        # What ends a process ends the command as Ctrl-C does, so that nothing goes on in a server.
        for name in ("SIGTERM", "SIGHUP"):
            if hasattr(signal, name):
                signal.signal(getattr(signal, name), _interrupt)
        status = run_command_line(sys.argv[1:])
    except KeyboardInterrupt:  # before a command began, or again while it told of the first one
        sys.stderr.write("Interrupted.\n")
        status = 130
    # What is left goes with the process.
    gc.freeze()
    sys.exit(status)


def _interrupt(*_: object) -> None:
    raise KeyboardInterrupt


if __name__ == "__main__":
    main()

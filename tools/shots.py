"""Screenshots of the main commands, from a terminal window on a virtual screen (Xvfb, xterm,
ImageMagick), or, of a page, from a browser (Chromium).

Usage: ./dev shots [NAME...]. Every picture is made from the demo data in a temporary folder.
"""

import os
import shlex
import shutil
import subprocess
import sys
import tempfile
import time
from pathlib import Path

ROOT = Path(__file__).parent.parent
TARGET = ROOT / "docs" / "screenshots"
CLOSED = "--where \"closed_on < '2019-01-01'\""
SHOTS = {
    "survey": "yeldro survey",
    "survey-table": "yeldro survey stations",
    "findings": "yeldro survey --findings",
    "preview": f"yeldro preview stations {CLOSED} --show name",
    "cautions": 'yeldro preview stations --where "is_trial = 1 OR river_id = 4 AND closed_on <> '
    'NULL" --show name',
    "review": "yeldro review examples/closing-stations.sql",
    "delete": f"yeldro delete stations {CLOSED} --show name --dependents photos=detach --rehearse",
    "clear": "yeldro clear observers --where \"registered_on < '2011-06-01'\" --columns email,phone"
    " --rehearse && echo && yeldro preview stations --where 'id < 4' --clear code --to blank",
    "duplicates": "yeldro duplicates observers --same email --ignore case,space --keep fullest "
    "--groups 4",
    "dedupe": "yeldro dedupe observers --same email --ignore case,space --keep 'newest "
    "registered_on' --fill blank"
    " --groups 3 --yes",
    "cleanup": "cat observers-twice.toml && echo && yeldro run observers-twice.toml --explain",
    "run": "yeldro run spring-cleaning.toml --yes",
    "script": "yeldro script alerts.toml --no-archive",
    "history": "yeldro history && echo && yeldro history last",
    "restore": "yeldro restore last --yes",
    "batches": "yeldro preview readings --where \"measured_at >= '2026-05-01'\" --forecast "
    "--sample 0 && echo && yeldro resume last --yes --batch 2000",
}
# Commands that draw the picture themselves.
DRAWN = {"map": f"yeldro map stations {CLOSED} --dependents photos=detach --draw map.png"}
# Commands that write a page.
PAGES = {"report": "yeldro report last -o page.html"}
# What is run before a picture is taken.
BEFORE = {
    "history": (
        "yeldro delete readings --orphans --yes",
        f"yeldro delete stations {CLOSED} --dependents photos=detach --yes",
    ),
    "batches": (
        "yeldro delete readings --where \"measured_at < '2026-05-01'\" --batch 1000 --batches 4 "
        "--yes",
    ),
    "run": ("sed -i s/=.[13]$/=0/ spring-cleaning.toml",),
    "script": (
        "yeldro preview alerts --where 'station_id = :station' -p station=7 --save alerts.toml",
    ),
    "report": (f"yeldro delete stations {CLOSED} --dependents photos=detach --yes",),
    "restore": (f"yeldro delete stations {CLOSED} --dependents photos=detach --yes",),
}
SCREEN = ":93"


def take(name: str, line: str, folder: Path) -> None:
    """Run one command line in a terminal window and keep the picture."""
    script = folder / "shot.sh"
    script.write_text(
        f"cd {shlex.quote(str(folder))}\nclear\necho {shlex.quote('$ ' + line)}\n{line}\ntouch "
        "done\nsleep 60\n"
    )
    (folder / "done").unlink(missing_ok=True)
    font = [
        "-fa",
        "DejaVu Sans Mono",
        "-fs",
        "10",
        "-geometry",
        "156x46+0+0",
        "-bg",
        "#101418",
        "-fg",
        "#d8dee4",
    ]
    environment = os.environ | {"DISPLAY": SCREEN, "TERM": "xterm-256color", "PS1": "$ "}
    window = subprocess.Popen(["xterm", *font, "-e", "bash", str(script)], env=environment)
    deadline = time.monotonic() + 30
    while not (folder / "done").exists() and time.monotonic() < deadline:
        time.sleep(0.2)
    time.sleep(0.6)
    picture = TARGET / f"{name}.png"
    subprocess.run(["import", "-display", SCREEN, "-window", "root", str(picture)], check=True)
    subprocess.run(["convert", str(picture), "-colors", "64", "-strip", str(picture)], check=True)
    window.kill()
    window.wait()


def browse(name: str, folder: Path) -> None:
    """Take a page as a browser shows it, without a network."""
    picture = TARGET / f"{name}.png"
    options = ("--headless", "--no-sandbox", "--disable-gpu", "--hide-scrollbars")
    place = (f"--screenshot={picture}", "--window-size=1280,1280", "page.html")
    subprocess.run(
        ["chromium", *options, *place], cwd=folder, check=True, stderr=subprocess.DEVNULL
    )
    subprocess.run(["convert", str(picture), "-colors", "64", "-strip", str(picture)], check=True)


def make(name: str, folder: Path) -> None:
    """One picture, from a new demo."""
    for line in ("yeldro demo . --build-only", *BEFORE.get(name, ())):
        subprocess.run(shlex.split(line), cwd=folder, check=True, stdout=subprocess.DEVNULL)
    shutil.copytree(ROOT / "examples", folder / "examples")
    if name in DRAWN:
        subprocess.run(shlex.split(DRAWN[name]), cwd=folder, check=True)
        shutil.copy(folder / f"{name}.png", TARGET)
    elif name in PAGES:
        subprocess.run(shlex.split(PAGES[name]), cwd=folder, check=True)
        browse(name, folder)
    else:
        take(name, SHOTS[name], folder)


def main() -> None:
    names = sys.argv[1:] or [*SHOTS, *DRAWN, *PAGES]
    os.environ["LOGNAME"] = "keeper"
    TARGET.mkdir(parents=True, exist_ok=True)
    screen = subprocess.Popen(
        ["Xvfb", SCREEN, "-screen", "0", "1280x800x24"], stderr=subprocess.DEVNULL
    )
    time.sleep(1)
    try:
        for name in names:
            # Its name is seen in some of them.
            folder = Path(tempfile.gettempdir()) / "larkwater"
            folder.mkdir()
            try:
                make(name, folder)
            finally:
                shutil.rmtree(folder)
    finally:
        screen.kill()


if __name__ == "__main__":
    main()

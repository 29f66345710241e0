"""The walk through the job, in the order in which it is done: every command as typed, and its real
output."""

from __future__ import annotations

import shlex
from collections.abc import Callable
from contextlib import chdir
from pathlib import Path

CONFIG = """\
default = "gauges"

[databases.gauges]
url = "{url}"
"""

STEPS = (
    ("Look at what is there.", "yeldro survey"),
    ("Look closely at the table that we are about to clean up.", "yeldro survey stations"),
    (
        "Does anything dangle already? These readings of sensors that are long gone were planted.",
        "yeldro preview readings --orphans --sample 3",
    ),
    (
        "Stations that were closed before 2019 should go. A slip of the pen: opened instead of "
        "closed.",
        "yeldro preview stations --where \"opened_on < '2019-01-01'\" --sample 4",
    ),
    (
        "All of them: far too many. The right column matches fewer. See what depends on them, and "
        "what blocks it.",
        "yeldro preview stations --where \"closed_on < '2019-01-01'\" --show name",
    ),
    (
        "Their photos are worth keeping: detach them from the visits that go.",
        "yeldro preview stations --where \"closed_on < '2019-01-01'\" --show name --dependents "
        "photos=detach",
    ),
    (
        "Rehearse it: everything is done, counted and rolled back.",
        "yeldro delete stations --where \"closed_on < '2019-01-01'\" --show name --dependents "
        "photos=detach --rehearse --sample 0",
    ),
    (
        "The tally balances. Delete them, and only if it is as many as we saw.",
        "yeldro delete stations --where \"closed_on < '2019-01-01'\" --show name --dependents "
        "photos=detach --expect 6 --yes --sample 0",
    ),
    ("Are they gone?", "yeldro preview stations --where \"closed_on < '2019-01-01'\""),
    (
        "Does anything dangle that did not before? It is the same planted readings, and no others.",
        "yeldro preview readings --orphans --sample 0",
    ),
    ("And what the trigger on stations wrote.", "yeldro survey removals"),
    ("What was run so far, and is there a copy?", "yeldro history"),
    ("That was too much: take it back, every row as it was.", "yeldro restore last --yes"),
    ("Is all of it there?", "yeldro restore last --rehearse"),
    (
        "Some observers were registered twice: by their mail address, ignoring case and spaces. "
        "Which rule decides?",
        "yeldro duplicates observers --same email --ignore case,space --groups 2",
    ),
    (
        "The fuller row should stay. What depends on the other one moves to it.",
        "yeldro duplicates observers --same email --ignore case,space --keep fullest --groups 2",
    ),
    (
        "Six surplus rows: remove them, and only these.",
        "yeldro dedupe observers --same email --ignore case,space --keep fullest --groups 0 "
        "--expect 6 --yes",
    ),
    (
        "Run again, it finds nothing.",
        "yeldro dedupe observers --same email --ignore case,space --keep fullest --yes",
    ),
    (
        "The raw lines of the data logger were loaded twice, and have no key.",
        "yeldro dedupe logger_lines --same all --groups 1 --yes",
    ),
    (
        "What worked can be kept in a file. This one is for the stations: what does it do?",
        "yeldro run closed-stations.toml --explain",
    ),
    (
        "What would it do now? Seal it: from now on it runs only while it finds exactly these "
        "rows.",
        "yeldro preview closed-stations.toml --seal",
    ),
    (
        "Only what was closed before 2013: another value finds other rows, and the seal stops it.",
        "yeldro run closed-stations.toml -p closed_before=2013-01-01 --yes --show-changes",
    ),
    (
        "That is what we want: seal it anew, for this value.",
        "yeldro preview closed-stations.toml -p closed_before=2013-01-01 --seal",
    ),
    ("Now it runs.", "yeldro run closed-stations.toml -p closed_before=2013-01-01 --yes"),
    ("A run of a file is taken back like any other.", "yeldro restore last --yes"),
    (
        "A command line is saved with its value as a parameter.",
        "yeldro preview alerts --where 'station_id = :station' -p station=7 --sample 0 --save "
        "alerts.toml",
    ),
    (
        "Run it for another station, as a rehearsal.",
        "yeldro run alerts.toml -p station=9 --rehearse",
    ),
    (
        "Or hand it over for review: the same as one SQL script, which checks itself.",
        "yeldro script alerts.toml -p station=9 --no-archive",
    ),
    (
        "Several steps in one transaction, with a tally for each and for all.",
        "yeldro run spring-cleaning.toml --yes",
    ),
    ("The same again finds nothing.", "yeldro run spring-cleaning.toml --yes"),
)


def walk(folder: Path, run: Callable[[list[str]], int], say: Callable[[str], None]) -> None:
    """Run every step inside `folder`. `run` runs a command line and returns its status, `say`
    writes a line."""
    with chdir(folder):
        for number, (why, line) in enumerate(STEPS, 1):
            say(f"\n{number}. {why}\n\n$ {line}")
            status = run(shlex.split(line)[1:])
            if status:
                say(f"(exit status {status})")

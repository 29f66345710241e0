"""The commands and what `yeldro --help` says. Imports nothing, so that it is there at once."""

COMMANDS = {
    "survey": "What is in the database: tables, keys, references.",
    "preview": "Which rows match and what depends on them; changes nothing.",
    "delete": "Preview, ask, delete in the right order, check, commit.",
    "clear": "Keep the rows, remove what some of their columns hold.",
    "duplicates": "Rows that are the same, side by side, and which of them would stay.",
    "dedupe": "Remove the surplus ones; what depends on them moves to the row that stays.",
    "run": "Run what a cleanup file describes; --save writes one.",
    "script": "The whole cleanup as one commented SQL script, for review or a migration.",
    "resume": "Go on with a run in batches that was stopped, or that died.",
    "restore": "Put the archived rows of a run back, exactly as they were.",
    "history": "Past runs, what they did, and whether they were restored.",
    "report": "One page on a run, or on a cleanup before it runs, to sign and file.",
    "review": "What the DELETE statements of a script would do; runs none of them.",
    "map": "The tables in deletion order and what references what.",
    "completion": "Complete tables and columns in bash, zsh or fish.",
    "demo": "Make the Larkwater demo database and walk through the job.",
}

HEAD = """\
Usage: yeldro COMMAND [OPTIONS] ...

  Remove rows from a live SQL database and be certain about it.

  Which rows match, what depends on them, in what order can they go, and did exactly
  those rows go? Nothing is committed unless the last answer is yes.

Commands, in the order of the work:
"""

TAIL = """
Options:
  --version   Show the version.
  -h, --help  Show this page; after a command, show that command's options.
"""


def render_overview() -> str:
    """The whole page, ending in a line break."""
    return HEAD + "".join(f"  {name:10}  {job}\n" for name, job in COMMANDS.items()) + TAIL

"""Writes docs/yeldro.1, the page of man, from the same tables as the help. Usage: ./dev man"""

from pathlib import Path

from yeldro.examples import EXAMPLES
from yeldro.options import COMMAND_OPTIONS, Option, find_lines
from yeldro.overview import COMMANDS, HEAD

PAGE = Path(__file__).parent.parent / "docs" / "yeldro.1"
HEADER = '.TH YELDRO 1 "" "" "User commands"'
STATUS = (
    ("0", "Done; also where nothing matched."),
    ("1", "An unexpected error."),
    ("2", "Wrong usage."),
    ("3", "Stopped or rolled back: a guard, a stop, a caution, a seal, or a tally."),
    ("4", "Declined by the person."),
    ("5", "The database refused, or could not be reached."),
    ("130", "Interrupted."),
)


def make_page() -> str:
    """Sections as man has them: a command each, its options under the headings of its help."""
    lines = [HEADER, ".SH NAME", r"yeldro \- remove rows from a live SQL database and be certain"]
    lines += [".SH SYNOPSIS", r".B yeldro", r"COMMAND [OPTIONS]", ".SH DESCRIPTION"]
    lines += [_escape(line.strip()) for line in HEAD.splitlines()[2:-2] if line.strip()]
    lines.append(".SH COMMANDS")
    for name, job in COMMANDS.items():
        lines += [f".SS yeldro {name}", _escape(job)]
        kind = COMMAND_OPTIONS.get(name)
        for group, listed in find_lines(kind).items() if kind else ():
            lines += [".PP", f".I {group.value}"]
            lines += [line for one in listed for line in _describe(one)]
        lines += _show(name)
    lines.append(".SH EXIT STATUS")
    for status, meaning in STATUS:
        lines += [".TP", f".B {status}", meaning]
    lines += [".SH FILES", ".TP", ".I yeldro.toml", "Databases by name, found here or above."]
    lines += [".TP", ".I yeldro-runs", "The run records: archives, tallies, statements."]
    lines += [".SH ENVIRONMENT", ".TP", ".B YELDRO_DB", "The database, where no option names it."]
    return "\n".join([*lines, ""])


def _describe(one: Option) -> list[str]:
    metavar = rf" \fI{_escape(one.metavar)}\fR" if one.metavar else ""
    choices = f" {', '.join(one.choices)}." if one.help.endswith(":") else ""
    return [".TP", rf"\fB{_escape(one.flag)}\fR{metavar}", _escape(one.help + choices)]


def _show(command: str) -> list[str]:
    found = EXAMPLES.get(command, ())
    shown = [".PP", ".nf", *(f"    {_escape(line)}" for line in found), ".fi"]
    return shown if found else []


def _escape(text: str) -> str:
    text = text.replace("\\", r"\e").replace("-", r"\-")
    return rf"\&{text}" if text[:1] in (".", "'") else text


def main() -> None:
    PAGE.write_text(make_page(), encoding="utf-8")


if __name__ == "__main__":
    main()

"""Writes docs/options.md from the table of options. Usage: ./dev options"""

from pathlib import Path

from yeldro.options import COMMAND_OPTIONS, Group, Option, find_lines

PAGE = Path(__file__).parent.parent / "docs" / "options.md"
HEAD = """\
# Options

Drawn from `src/yeldro/options.py` by `./dev options`. A key is what a step of a cleanup file says
for the option.
"""


def make_page() -> str:
    """The options under the headings of the help, each with its key and the commands that have
    it.
    """
    found: dict[Group, dict[tuple[str, str], list[tuple[Option, str]]]] = {
        group: {} for group in Group
    }
    for command, kind in COMMAND_OPTIONS.items():
        for group, listed in find_lines(kind).items():
            for one in listed:
                found[group].setdefault((one.flag, one.help), []).append((one, command))
    lines = [HEAD]
    for group, options in found.items():
        lines += [f"## {group.value}\n", "| option | what it does | default | key | commands |"]
        lines.append("| --- | --- | --- | --- | --- |")
        lines += [
            _write_row(*entries[0], [command for _, command in entries])
            for entries in options.values()
        ]
        lines.append("")
    return "\n".join(lines)


def _write_row(one: Option, _: str, commands: list[str]) -> str:
    usage = f"`{one.flag} {one.metavar}`" if one.metavar else f"`{one.flag}`"
    choices = f" {', '.join(one.choices)}." if one.help.endswith(":") else ""
    usual = "" if one.default in (None, (), False, "") else f"`{one.default}`"
    key = f"`{one.key}`" if one.key else ""
    cells = [usage, one.help + choices, usual, key, ", ".join(commands)]
    return f"| {' | '.join(cell.replace('|', chr(92) + '|') for cell in cells)} |"


if __name__ == "__main__":
    PAGE.write_text(make_page(), encoding="utf-8")

"""What a cleanup does, in plain sentences, for the person who signs it off."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from textwrap import fill
from typing import Any

from rich.text import Text

from yeldro.core.cleanup.cleanup import Cleanup, Param, Step, as_list
from yeldro.core.cleanup.step_options import VERBS
from yeldro.core.model.address import hide_passwords, read_address
from yeldro.core.model.plural import count, enumerate_words
from yeldro.core.model.visible import one_line
from yeldro.core.selection.grouping import Ignored
from yeldro.core.selection.guards import Expected, read_expected
from yeldro.errors import UsageError
from yeldro.options import LimitOptions, keys_of

# Letters of a line, so that an explanation can be read in a mail.
_WIDTH = 100
_RULES = {
    "declared": "is treated as the schema says",
    "delete": "is deleted too",
    "detach": "stays, and its reference is made empty",
    "move": "moves to the row that stays",
    "stop": "blocks the step",
}
_LEFT = {
    "null": "they are NULL then",
    "blank": "they are blank then",
    "default": "they hold their defaults then",
}


def render_explanation(cleanup: Cleanup) -> Iterator[Text]:
    """The sentences of each step, then what is true of all."""
    yield Text(one_line(cleanup.title or "A cleanup"), style="bold")
    for line in (
        cleanup.description.splitlines()
    ):  # in the words of whoever wrote the file, which the bar shows
        yield Text(f"  | {one_line(line)}")
    if cleanup.database:
        yield Text(f"It works on the database {_show_database(one_line(cleanup.database))}.")
    for param in cleanup.params:
        yield Text(one_line(_param(param)))
    for number, step in enumerate(cleanup.steps, 1):
        yield Text.assemble(f"\nStep {number}, ", (one_line(step.name), "bold"))
        yield from map(_line, _step(step))
    limits = [
        *_limits(cleanup.guards, "the rows that they match"),
        *_said(LimitOptions, cleanup.guards),
    ]
    if limits:
        yield Text("\nFor all steps together")
        yield from map(_line, limits)
    yield Text("\nAlways")
    yield _line("A copy of every row that goes or changes is kept.")
    if cleanup.steps[1:]:
        yield _line("The steps are done in this order, each on what those before it left.")
    yield _line(
        "It is one transaction: all counts are compared, and unless each is right nothing is "
        "changed."
    )
    if any("batch" in step.options for step in cleanup.steps):
        yield _line(
            "A step in batches runs alone: each of them is one transaction, and those that are "
            "done stay."
        )


def _show_database(name: str) -> str:
    """A URL only as it can be shown."""
    try:
        return str(read_address(name)) if "://" in name else hide_passwords(name)
    except UsageError:
        return "at an address that cannot be read"


def _line(sentence: str) -> Text:
    return Text(fill(sentence, _WIDTH, initial_indent="  ", subsequent_indent="  "))


def _param(param: Param) -> str:
    text = f"It needs a value for {param.name} ({param.type})"
    text += f": {param.ask}" if param.ask else "."
    if param.default is not None:
        text += f" It is {param.default} unless somebody says otherwise."
    return text + (
        f" It may only be {', '.join(map(str, param.allowed))}." if param.allowed else ""
    )


def _step(step: Step) -> Iterator[str]:
    options = step.options
    conditions = " and ".join(f"({one})" for one in as_list(options.get("where")))
    which = f" for which {conditions}" if conditions else ""
    if step.verb == "delete":
        yield f"It deletes the rows of {step.table}{which}."
        yield from _choice(options)
        yield from _dependents(options, "declared", "deleted rows")
    elif step.verb == "clear":
        columns = enumerate_words(as_list(options["columns"]))
        yield (
            f"It keeps the rows of {step.table}{which}, and removes what they hold in {columns}: "
            f"{_LEFT[options.get('to', 'null')]}."
        )
        yield from _choice(options)
        yield from _dependents(options, "declared", "a value that goes")
    else:
        yield from _sameness(step, which)
        yield from _dependents(options, "move", "rows that go")
    yield from _said(VERBS[step.verb], options)
    yield from _limits(options)
    if step.seal:
        yield (
            "It is sealed: it is only done while it finds the very "
            f"{count(step.seal.matched, 'row')} of its preview."
        )


def _said(kind: type, options: Mapping[str, Any]) -> Iterator[str]:
    """What takes no more than a sentence is said by the table of options."""
    for key, one in keys_of(kind).items():
        value = options.get(key)
        if one.says and value not in (None, False):
            yield one.says.format(", ".join(value) if isinstance(value, list) else value)


def _sameness(step: Step, which: str) -> Iterator[str]:
    options = step.options
    same = (
        "values in every column"
        if options["same"] in ("all", ["all"])
        else ", ".join(as_list(options["same"]))
    )
    ignored = [Ignored(word).plural for word in as_list(options.get("ignore"))]
    but = f", ignoring {enumerate_words(ignored)}" if ignored else ""
    yield (
        f"It looks at the rows of {step.table}{which}, and keeps one of all that have the same "
        f"{same}{but}."
    )
    if options.get("nulls") == "same":
        yield "Rows without a value have the same one, too."
    if rules := as_list(options.get("keep")):
        yield f"The row that stays is chosen by: {', then '.join(rules)}; then the lowest key."
    if options.get("fill"):
        what = "NULL or blank" if options["fill"] == "blank" else "NULL"
        yield f"Where it is {what}, it takes the value of a row that goes."


def _choice(options: Mapping[str, Any]) -> Iterator[str]:
    for name, verb in (("found_in", "have a"), ("not_found_in", "have no")):
        if options.get(name):
            on = f", by {options['on']}" if options.get("on") else ""
            yield f"Only those that {verb} match in {options[name]}{on}."
    if options.get("limit") is not None:
        yield (
            f"Only the first {options['limit']} in the order of "
            f"{options.get('order_by', 'the key')}."
        )


def _dependents(options: Mapping[str, Any], usual: str, what: str) -> Iterator[str]:
    rules = options.get("dependents", {})
    rules = {"default": rules} if isinstance(rules, str) else dict(rules)
    default = rules.pop("default", usual)
    yield f"What depends on {what} {_RULES.get(default, default)}."
    for table, rule in rules.items():
        drops = usual == "move" == default and rule == "delete"
        effect = (
            "is dropped where it would be a duplicate itself" if drops else _RULES.get(rule, rule)
        )
        yield f"In {table} it {effect}."


def _range(expected: Expected) -> str:
    low, high = expected.low, expected.high
    if low == high:
        return f"exactly {count(low or 0, 'row')}"
    if low is None or high is None:
        return (
            f"{count(high or 0, 'row')} or fewer" if low is None else f"{count(low, 'row')} or more"
        )
    return f"{low:,} to {high:,} rows"


def _limits(options: Mapping[str, Any], these: str = "these") -> Iterator[str]:
    if "expect" in options:
        yield f"It is only done if {these} are {_range(read_expected(str(options['expect'])))}."
    if strict := as_list(options.get("strict")):
        which = (
            "any caution is raised"
            if "all" in strict
            else f"one of these cautions is raised: {', '.join(strict)}"
        )
        yield f"It is not done where {which}."
    if triggers := as_list(options.get("allow_trigger")):
        yield f"What these triggers do to other rows is accepted: {', '.join(triggers)}."

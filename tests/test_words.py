"""Messages in the words that a colleague would say: docs/glossary.md lists them."""

from __future__ import annotations

import ast
import re
import string
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from msgspec.structs import replace

import yeldro
from yeldro.core.model.fact import Fact
from yeldro.core.model.schema import Table, TableName
from yeldro.core.run.seal import DEPENDING
from yeldro.core.run.tally import Line
from yeldro.words.tell import SENTENCES, tell
from yeldro.words.voice import Voice

ROOT = Path(yeldro.__file__).parent


BANNED = (
    r"\bhang(s|ing)? on\b", r"\bhung on\b", r"\bcircles?\b", r"\bforb(id|ids|ade|idden)\b", r"\bmend",
    r"(?<!here )\bis no [a-z]", r"\bof the kind\b", r"\bthere is none\b", r"\bfor good\b", r"\bcannot be had\b", r"\b[Ss]ay --",
    r"\bcould not be had\b", r"\bLook again\b", r"\bunique but for\b", r"\bdifferent values\b", r"\bnot different\b",
    r"\bno terminal to ask\b", r"\bbut for (case|space)", r"\bcame into the reach\b",
)  # fmt: skip


def find_texts(tree: ast.AST) -> Iterator[tuple[int, str]]:
    """The texts of a module that people may see: not its docstrings."""
    docs = {id(node.value) for node in ast.walk(tree) if isinstance(node, ast.Expr)}
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docs:
            yield node.lineno, node.value


@pytest.mark.parametrize(
    "folder", sorted(one.name for one in ROOT.iterdir() if one.is_dir() and one.name[0] != "_")
)
def test_no_message_says_it_in_other_words(folder: str) -> None:
    banned = re.compile("|".join(BANNED))
    found = []
    for path in sorted((ROOT / folder).rglob("*.py")):
        for line, text in find_texts(ast.parse(path.read_text(encoding="utf-8"))):
            if text == DEPENDING:
                continue
            if told := banned.search(text):
                found.append(f"{path.name}:{line}: {told[0]!r} in {text[:60]!r}")
    assert not found


def find_facts(tree: ast.AST) -> Iterator[tuple[str, set[str]]]:
    """Each kind that a module may make a fact of, with what that is about."""
    for node in ast.walk(tree):
        if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Name)):
            continue
        about = {one.arg for one in node.keywords if one.arg}
        if any(one.arg is None for one in node.keywords):
            about.add("**")
        match node.func.id, node.args:
            case "fact", [kind]:
                yield from ((one, about) for one in find_choices(kind))
            case "caution", [name, _]:
                yield from ((one, about) for one in find_choices(name))
            case "caution", [name, _, variant]:
                for one in find_choices(name):
                    choices = find_choices(variant)
                    yield from ((f"{one}.{way}".rstrip("."), about) for way in choices)


def find_choices(node: ast.expr) -> list[str]:
    if isinstance(node, ast.IfExp):
        return find_choices(node.body) + find_choices(node.orelse)
    return [str(node.value)] if isinstance(node, ast.Constant) else []


def find_fields(kind: str) -> set[str]:
    """What a sentence needs to know."""
    named = [name for _, name, _, _ in string.Formatter().parse(SENTENCES[kind]) if name]
    options = [name.partition(" ")[2].partition("=")[0] for name in named if name[:2] == "--"]
    return {name for name in named if name[:2] != "--"} | {name for name in options if name}


def test_each_fact_has_a_sentence_and_each_sentence_a_fact() -> None:
    trees = [ast.parse(path.read_text(encoding="utf-8")) for path in ROOT.rglob("*.py")]
    facts = [one for tree in trees for one in find_facts(tree)]
    assert len(facts) > 70
    unsaid = {kind for kind, _ in facts} - set(SENTENCES)
    lacking = [
        (kind, find_fields(kind) - about)
        for kind, about in facts
        if kind in SENTENCES and "**" not in about and find_fields(kind) - about
    ]
    assert (unsaid, lacking) == (set(), [])
    # Kinds that are chosen at run time stand as texts near where they are used.
    texts = {text for tree in trees for _, text in find_texts(tree)}
    made = {kind for kind, _ in facts} | texts
    assert {
        kind for kind in SENTENCES if kind not in made and kind.split(".")[-1] not in texts
    } == set()


@pytest.mark.parametrize(
    ("kind", "about", "typed", "written"),
    [
        ("refused.whole-table", {"rows": 6, "table": "weirs"}, "give --all-rows", "give all_rows = true"),
        ("refused.too-many", {"rows": 1, "limit": 1500}, "1 row, more than --max-rows 1,500.", "1 row, more than max_rows = 1500."),
        ("lift.delete", {"table": "weirs"}, "--dependents weirs=delete", 'dependents = { weirs = "delete" }'),
        ("lift.delete", {"table": "a.b c"}, "--dependents a.b c=delete", 'dependents = { "a.b c" = "delete" }'),
        ("refused.too-large-share", {"rows": 2, "share": "50.0 %", "table": "weirs", "limit": 12.5}, "2 rows are 50.0 % of weirs, more than --max-share 12.5.", "more than max_share = 12.5."),
        ("refused.lasting", {"what": "It stays"}, "It stays; --no-rollback says", "It stays; --no-rollback says"),
        ("lift.fill", {}, "--fill", "fill = true"),
        ("hint.key", {"key": "7"}, "--key 7 identifies", 'key = "7" identifies'),
    ],
)  # fmt: skip
def test_options_are_named_as_a_person_gives_them(
    kind: str, about: dict[str, object], typed: str, written: str
) -> None:
    assert typed in tell(Fact(kind, about), Voice.COMMAND_LINE)
    assert written in tell(Fact(kind, about), Voice.FILE)


@pytest.mark.parametrize(
    ("figures", "said"),
    [
        ({"to_delete": 1}, "1 row was to be deleted, 0 are gone"),
        ({"to_move": 2, "moved": 1}, "2 rows were to be moved, 1 is where they should be"),
        ({"before": 1}, "1 row should be left, there are 3"),
        ({"dangling": 1, "before": 3, "deleted": 0}, "1 row references a row that is gone"),
    ],
)  # fmt: skip
def test_a_fault_of_a_tally_counts_as_people_do(figures: dict[str, Any], said: str) -> None:
    table = Table(TableName("", "weirs"), "weirs", "table", (), (), (), (), ())
    after = 3 if "before" in figures else 0
    line = replace(Line(table, 0, after), **figures)
    assert line.fault == f"weirs: {said}"

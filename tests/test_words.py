"""Messages in the words that a colleague would say: docs/glossary.md lists them."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from pathlib import Path

import pytest

import yeldro
from yeldro.core.run.seal import DEPENDING

ROOT = Path(yeldro.__file__).parent


BANNED = (
    r"\bhang(s|ing)? on\b", r"\bhung on\b", r"\bcircles?\b", r"\bforb(id|ids|ade|idden)\b", r"\bmend",
    r"(?<!here )\bis no [a-z]", r"\bof the kind\b", r"\bthere is none\b", r"\bfor good\b", r"\bcannot be had\b", r"\b[Ss]ay --",
    r"\bcould not be had\b", r"\bLook again\b", r"\bunique but for\b", r"\bdifferent values\b", r"\bnot different\b",
    r"\bno terminal to ask\b",
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

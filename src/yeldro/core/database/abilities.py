"""What engines can do, how they read a condition, and what they count: asked for by need, and not
by name."""

from __future__ import annotations

from enum import StrEnum
from typing import Any

from msgspec import Struct

from yeldro.core.model.schema import ReferentialAction, Table

Row = tuple[Any, ...]


class Effect(Struct, frozen=True):
    """What a statement may do to another table by itself: `verb` is insert, update or delete."""

    table: Table
    verb: str
    trigger: str


class Quirk(StrEnum):
    """How an engine reads a condition otherwise than the standard does."""

    TEXTS_AS_NUMBERS = "a text that meets a number is turned into one"
    UNTYPED = "values are compared by what they are, numbers before texts; days are texts"
    QUOTED_TEXTS = "a word in double quotes may be a text"
    PIPES_ARE_OR = "|| means OR"
    BLIND_LIKE = "LIKE ignores case"
    FOLDED_NAMES = "a name without quotes is read in small letters"


class Abilities(Struct, frozen=True):
    """What an engine can do, asked for by need and not by name.

    `tree_rules`: the rules of a self-reference under which one statement may delete rows together
    with the rows that they point at. `cycle_rules`: the rules that the references of a cycle of
    tables may have where no column of it can be NULL. `needs_leave_for_cycles`: all others take the
    engine's own checks off, which a person must allow. `own_row`: whether a row that points at
    itself can be deleted; else rows of a tree without NULLs go level by level. `truncates` says
    what TRUNCATE means here, and `rolls_back_truncate` whether it can be taken back. `ddl_commits`:
    making a table ends a transaction. `indexes_expressions`: an index may be on them, and on some
    of the rows only;
    `shared_index_names`: two tables cannot have indexes of one name. `keeps_references`: no account
    but an administrator can switch the checks off. `needless_prefix` is the schema in which every
    name is looked up anyway, "" where there may be several. `counts_cascades`: what the engine
    itself does through references is in its counts of changes.
    """

    tree_rules: frozenset[ReferentialAction]
    cycle_rules: frozenset[ReferentialAction]
    needs_leave_for_cycles: bool = False
    own_row: bool = True
    truncates: str = ""
    rolls_back_truncate: bool = True
    ddl_commits: bool = False
    indexes_expressions: bool = True
    shared_index_names: bool = True
    keeps_references: bool = False
    needless_prefix: str = ""
    counts_cascades: bool = True
    quirks: frozenset[Quirk] = frozenset()


class Mode(StrEnum):
    """How a transaction is opened. READ changes nothing and is kept from it by the database."""

    READ = "read"
    WRITE = "write"

"""A script of SQL statements that somebody wrote, read statement by statement. Nothing of it is ever sent."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import sqlglot
from sqlglot import exp
from sqlglot.errors import ParseError, TokenError
from sqlglot.tokenizer_core import Token

from yeldro.core.condition import read_condition
from yeldro.core.schema import Schema, Table
from yeldro.core.selection import Selection, check_table
from yeldro.errors import YeldroError

_LOOKING = (exp.Select, exp.Set, exp.Use, exp.Describe)
_TRANSACTION = (exp.Transaction, exp.Commit, exp.Rollback)


@dataclass(frozen=True, slots=True)
class Written:
    """One statement: `line` is where it begins. `tree` is None where it cannot be read, and `fault` says why."""

    line: int
    text: str
    tree: exp.Expr | None
    fault: str = ""


@dataclass(frozen=True, slots=True, eq=False)
class Removal:
    """A statement that removes rows, as a selection of these. `reads` are the tables that it looks at besides."""

    written: Written
    selection: Selection
    truncates: bool
    reads: tuple[Table, ...]
    copies: tuple[str, ...]
    """The columns by which the statement finds copies of rows, () where it looks for none."""


def read_script(text: str, dialect: str) -> list[Written]:
    """The statements of a script in their order."""
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except TokenError:
        return [Written(1, text.strip(), None, "a quote or comment is not closed")]
    return [_read(part, text, dialect) for part in _split(tokens)]


def _split(tokens: list[Token]) -> Iterator[list[Token]]:
    part: list[Token] = []
    for token in tokens:
        if token.token_type.name == "SEMICOLON":
            if part:
                yield part
            part = []
        else:
            part.append(token)
    if part:
        yield part


def _read(tokens: list[Token], script: str, dialect: str) -> Written:
    start, end = tokens[0].start, tokens[-1].end
    text = script[start : end + 1]
    line = script.count("\n", 0, start) + 1
    try:
        trees = sqlglot.parse(text, read=dialect)
    except (ParseError, TokenError):
        return Written(line, text, None, "it cannot be read")
    tree = trees[0] if len(trees) == 1 else None
    if tree is None:
        return Written(line, text, None, "it cannot be read")
    if isinstance(tree, (*_LOOKING, *_TRANSACTION)) and not tree.find(exp.Delete, exp.Insert, exp.Update):
        return Written(line, text, tree)
    if isinstance(tree, exp.Delete | exp.TruncateTable):
        return Written(line, text, tree)
    return Written(line, text, None, "only DELETE and TRUNCATE can be judged")


def find_removals(written: Written, schema: Schema, dialect: str) -> list[Removal]:
    """The removals of a DELETE or TRUNCATE, none for a statement that only looks. YeldroError for what cannot be."""
    tree = written.tree
    if isinstance(tree, exp.TruncateTable):
        return [
            Removal(written, Selection(check_table(_table(table, schema)), all_rows=True), True, (), ())
            for table in tree.expressions
        ]
    if not isinstance(tree, exp.Delete):
        return []
    tree = tree.copy()
    target, name = _target(tree, schema)
    check_table(target)
    where = tree.args.get("where")
    condition = where.this if where else None
    reads = tuple(
        dict.fromkeys(
            _table(node, schema)
            for node in tree.find_all(exp.Table)
            if node is not tree.this and node.name not in _aliases(tree) and _known(node, schema)
        )
    )
    copies = tuple(_copied_columns(tree, target, name))
    if any(tree.args.get(part) for part in ("using", "tables", "order", "limit", "with_", "with")) or _joins(tree):
        condition = _by_key(tree, target, name)
    elif condition is not None and name.lower() != target.name.name.lower():
        _rename(condition, name, target.name.name)
    if condition is None:
        return [Removal(written, Selection(target, all_rows=True), False, reads, copies)]
    text = condition.sql(dialect=dialect)
    selection = Selection(target, (read_condition(text, target, dialect, {}, "this statement"),))
    return [Removal(written, selection, False, tuple(one for one in reads if one is not target), copies)]


def _target(tree: exp.Delete, schema: Schema) -> tuple[Table, str]:
    """The table that loses rows, and the name under which the statement knows it."""
    named = tree.args.get("tables") or []
    if len(named) > 1:
        raise YeldroError("it deletes from several tables at once")
    sources = [tree.this, *(join.this for join in _joins(tree))]
    if not named:
        return _table(tree.this, schema), tree.this.alias_or_name
    for source in sources:
        if isinstance(source, exp.Table) and named[0].name in (source.alias, source.name):
            return _table(source, schema), named[0].name
    raise YeldroError(f"it deletes from {named[0].name}, which it does not read")


def _joins(tree: exp.Delete) -> list[exp.Join]:
    table = tree.this
    return [*(tree.args.get("joins") or []), *((table.args.get("joins") or []) if isinstance(table, exp.Table) else [])]


def _table(node: exp.Expr, schema: Schema) -> Table:
    if not isinstance(node, exp.Table):
        raise YeldroError("it does not name its table")
    return schema.find_table(f"{node.db}.{node.name}" if node.db else node.name)


def _known(node: exp.Table, schema: Schema) -> bool:
    try:
        return bool(_table(node, schema))
    except YeldroError:
        return False


def _aliases(tree: exp.Expr) -> set[str]:
    """The names of WITH queries, and those of the target in front of FROM."""
    names = {node.alias for node in tree.find_all(exp.CTE)}
    return names | {node.name for node in tree.args.get("tables") or []}


def _rename(condition: exp.Expr, old: str, new: str) -> None:
    for column in condition.find_all(exp.Column):
        if column.table == old:
            column.set("table", exp.to_identifier(new))


def _by_key(tree: exp.Delete, target: Table, name: str) -> exp.Expr:
    """The same rows as a condition on the key: it is in the query that the statement makes of its sources."""
    if not target.key:
        raise YeldroError(f"{target.label} has no primary key, so the rows of a join cannot be named")
    query = exp.Select(expressions=[exp.column(column, table=name, quoted=True) for column in target.key])
    query = query.from_(tree.this.copy())
    sources = [one for one in tree.args.get("using") or [] if one.alias_or_name != name]
    for source in sources:
        query = query.join(source.copy(), join_type="CROSS")
    if not isinstance(tree.this, exp.Table) or not tree.this.args.get("joins"):
        for join in tree.args.get("joins") or []:
            query.append("joins", join.copy())
    for part in ("where", "order", "limit"):
        if tree.args.get(part):
            query.set(part, tree.args[part].copy())
    for part in ("with_", "with"):
        if tree.args.get(part):
            query.set(part, tree.args[part].copy())
    inner: exp.Expr = query
    if tree.args.get("limit"):
        inner = exp.select("*").from_(query.subquery("yeldro_first"))
    columns = [exp.column(column, quoted=True) for column in target.key]
    this = columns[0] if len(columns) == 1 else exp.Tuple(expressions=columns)
    return exp.In(this=this, query=exp.Subquery(this=inner))


def _copied_columns(tree: exp.Delete, target: Table, name: str) -> Iterator[str]:
    """Columns by which a statement groups, or compares a row with others of its own table."""
    known = {column.lower(): column for column in target.column_names}
    found: dict[str, None] = {}
    for group in tree.find_all(exp.Group):
        query = group.find_ancestor(exp.Select)
        sources = [table.name.lower() for table in query.find_all(exp.Table)] if query else []
        if target.name.name.lower() in sources:
            for node in group.find_all(exp.Column):
                if node.name.lower() in known:
                    found[known[node.name.lower()]] = None
    twins = {node.alias for node in tree.find_all(exp.Table) if node.name == target.name.name and node.alias}
    for pair in tree.find_all(exp.EQ, exp.NullSafeEQ):
        left, right = pair.left, pair.right
        if isinstance(left, exp.Column) and isinstance(right, exp.Column) and left.name == right.name:
            ends = {left.table, right.table}
            if len(ends) == 2 and len(ends & {*twins, name, target.name.name}) == 2 and left.name.lower() in known:
                found[known[left.name.lower()]] = None
    yield from (column for column in found if column not in target.key)

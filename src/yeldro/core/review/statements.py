"""A script of SQL statements that somebody wrote, read statement by statement. Nothing of it is
ever sent."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from msgspec import Struct

from yeldro.core.model.grammar import exp, sqlglot
from yeldro.core.model.lookup import fold
from yeldro.core.model.schema import Schema, Table
from yeldro.core.selection.condition import read_condition
from yeldro.core.selection.selection import Selection, check_table
from yeldro.errors import YeldroError

# Statements of a script that remove nothing, and are passed over.
_RUN = "it holds a comment that the database runs"
# MariaDB runs what stands in such a comment, and our parser skips it.
_COMMENTS = re.compile(
    r"""'(?:[^'\\]|''|\\.)*' | "(?:[^"\\]|""|\\.)*" | `(?:[^`]|``)*` | \#[^\n]* | --(?=\s)[^\n]*
    | (?P<run>/\*M?!) | /\*.*?\*/""",
    re.DOTALL | re.VERBOSE,
)
# A script may bring its own transaction; each statement is judged after those before it.


def _transaction() -> tuple[type[exp.Expr], ...]:
    return (exp.Transaction, exp.Commit, exp.Rollback)


def _looking() -> tuple[type[exp.Expr], ...]:
    return (exp.Select, exp.Set, exp.Use, exp.Describe)


class Written(Struct, frozen=True):
    """One statement: `line` is where it begins. `tree` is None where it cannot be read, and `fault`
    says why."""

    line: int
    text: str
    tree: exp.Expr | None
    fault: str = ""
    dialect: str = ""


class Removal(Struct, frozen=True, eq=False):
    """A statement that removes rows, as a selection of these. `reads` are the tables that it looks
    at besides; `beside` are those that a TRUNCATE empties together, whatever references what among
    them."""

    written: Written
    selection: Selection
    truncates: bool
    reads: tuple[Table, ...]
    copies: tuple[str, ...]
    """The columns by which the statement finds copies of rows, () where it looks for none."""
    beside: tuple[Table, ...] = ()


def read_script(text: str, dialect: str) -> list[Written]:
    """The statements of a script in their order."""
    try:
        tokens = sqlglot.tokenize(text, read=dialect)
    except sqlglot.errors.TokenError:
        return [Written(1, text.strip(), None, "a quote or comment is not closed")]
    hidden = list(_find_run_comments(text)) if dialect == "mysql" else []
    read: list[tuple[int, Written]] = []
    for part, end in _split(tokens, len(text)):
        start = part[0].start
        inside = [place for place in hidden if start <= place < end]
        hidden = [place for place in hidden if place not in inside]
        one = _read(part, text, dialect)
        read.append((start, Written(one.line, one.text, None, _RUN) if inside else one))
    for place in hidden:
        line = text.count("\n", 0, place) + 1
        read.append((place, Written(line, text[place:].partition("*/")[0] + "*/", None, _RUN)))
    return [one for _, one in sorted(read, key=lambda pair: pair[0])]


def _find_run_comments(text: str) -> Iterator[int]:
    """Where comments begin that MariaDB runs (https://mariadb.com/kb/en/comment-syntax/)."""
    for part in _COMMENTS.finditer(text):
        if part["run"]:
            yield part.start()


def _split(tokens: list[sqlglot.Token], end: int) -> Iterator[tuple[list[sqlglot.Token], int]]:
    """The tokens of each statement, and where it ends: at its semicolon, or at the `end` of the
    text."""
    part: list[sqlglot.Token] = []
    for token in tokens:
        if token.token_type.name == "SEMICOLON":
            if part:
                yield part, token.start
            part = []
        else:
            part.append(token)
    if part:
        yield part, end


def _read(tokens: list[sqlglot.Token], script: str, dialect: str) -> Written:
    start, end = tokens[0].start, tokens[-1].end
    text = script[start : end + 1]
    line = script.count("\n", 0, start) + 1
    try:
        trees = sqlglot.parse(text, read=dialect)
    except (sqlglot.errors.ParseError, sqlglot.errors.TokenError):
        return Written(line, text, None, "it cannot be read")
    tree = trees[0] if len(trees) == 1 else None
    if tree is None:
        return Written(line, text, None, "it cannot be read")
    changing = list(tree.find_all(exp.Delete, exp.Insert, exp.Update, exp.Merge))
    if isinstance(tree, (*_looking(), *_transaction())) and not changing:
        return Written(line, text, tree)
    if any(node is not tree for node in changing):
        return Written(line, text, None, "a query within it changes rows too")
    if isinstance(tree, exp.Delete | exp.TruncateTable):
        return Written(line, text, tree, dialect=dialect)
    return Written(line, text, None, "only DELETE and TRUNCATE can be judged")


def find_removals(written: Written, schema: Schema, dialect: str) -> list[Removal]:
    """The removals of a DELETE or TRUNCATE, none for a statement that only looks. YeldroError for
    what cannot be."""
    if isinstance(written.tree, exp.TruncateTable):
        return _find_truncated(written, written.tree, schema)
    if isinstance(written.tree, exp.Delete):
        return [_find_deleted(written, written.tree.copy(), schema, dialect)]
    return []


def _find_truncated(written: Written, tree: exp.TruncateTable, schema: Schema) -> list[Removal]:
    named = [check_table(_table(table, schema)) for table in tree.expressions]
    if str(tree.args.get("option") or "").upper() == "CASCADE":
        named = _find_cascaded(named, schema)
    return [
        Removal(written, Selection(table, all_rows=True), True, (), (), tuple(named))
        for table in named
    ]


def _find_deleted(written: Written, tree: exp.Delete, schema: Schema, dialect: str) -> Removal:
    target, name = _target(tree, schema)
    check_table(target)
    reads = _find_read(tree, schema)
    copies = tuple(_copied_columns(tree, target, name))
    where = tree.args.get("where")
    condition = where.this if where else None
    # What was written is kept word by word where it can be.
    text = _find_own_text(written) if written.dialect == dialect else ""
    if _has_more_than_where(tree):
        condition, text = _by_key(tree, target, name), ""
    elif condition is not None and name.lower() != target.name.name.lower():
        _rename(condition, name, target.name.name)
        text = ""
    if condition is None:
        return Removal(written, Selection(target, all_rows=True), False, reads, copies)
    if not text:
        if _has_unary_plus(written):
            raise YeldroError("it holds a unary plus, which would be lost in reading")
        text = condition.sql(dialect=dialect)
    selection = Selection(target, (read_condition(text, target, dialect, {}, "this statement"),))
    others = tuple(table for table in reads if table is not target)
    return Removal(written, selection, False, others, copies)


def _find_read(tree: exp.Delete, schema: Schema) -> tuple[Table, ...]:
    """The tables that a DELETE looks at."""
    aliases = _aliases(tree)
    nodes = [node for node in tree.find_all(exp.Table) if node is not tree.this]
    known = [node for node in nodes if node.name not in aliases and _known(node, schema)]
    return tuple(dict.fromkeys(_table(node, schema) for node in known))


def _has_more_than_where(tree: exp.Delete) -> bool:
    parts = ("using", "tables", "order", "limit", "with_", "with")
    return any(tree.args.get(part) for part in parts) or bool(_joins(tree))


def _find_own_text(written: Written) -> str:
    """The condition of a DELETE as it was written, "" where it cannot be cut out."""
    tokens = sqlglot.tokenize(written.text, read=written.dialect)
    depth, start, end = 0, -1, len(written.text)
    for token in tokens:
        depth += (token.token_type.name == "L_PAREN") - (token.token_type.name == "R_PAREN")
        if not depth and token.token_type.name == "WHERE" and start < 0:
            start = token.end + 1
        elif not depth and token.token_type.name == "RETURNING":
            end = min(end, token.start)
    where = written.tree.args.get("where") if written.tree else None
    if start < 0 or where is None:
        return ""
    text = written.text[start:end].strip()
    try:
        trees = sqlglot.Dialect.get_or_raise(written.dialect).parse_into(exp.Condition, text)
    except (sqlglot.errors.ParseError, sqlglot.errors.TokenError):
        return ""
    return text if trees == [where.this] else ""


def _has_unary_plus(written: Written) -> bool:
    """SQLite takes the affinity from what stands behind one (https://www.sqlite.org/datatype3.html,
    4)."""
    tokens = (
        sqlglot.tokenize(written.text, read=written.dialect) if written.dialect == "sqlite" else []
    )
    ends = {"R_PAREN", "NUMBER", "STRING", "VAR", "IDENTIFIER"}
    pairs = zip(tokens, tokens[1:], strict=False)
    return any(
        two.token_type.name == "PLUS" and one.token_type.name not in ends for one, two in pairs
    )


def _find_cascaded(named: Sequence[Table], schema: Schema) -> list[Table]:
    """These tables, and all that reference them in turn, whatever their references say: CASCADE
    empties them too."""
    found = dict.fromkeys(named)
    waiting = list(named)
    while waiting:
        for reference in schema.incoming(waiting.pop()):
            if reference.child not in found:
                found[reference.child] = None
                waiting.append(reference.child)
    return list(found)


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
    return [
        *(tree.args.get("joins") or []),
        *((table.args.get("joins") or []) if isinstance(table, exp.Table) else []),
    ]


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
    """The same rows as a condition on the key: it is in the query that the statement makes of its
    sources."""
    if not target.key:
        raise YeldroError(
            f"{target.label} has no primary key, so the rows of a join cannot be named"
        )
    own = [exp.column(column, table=name, quoted=True) for column in target.key]
    query = exp.Select(expressions=own).from_(tree.this.copy())
    for source in tree.args.get("using") or []:
        if source.alias_or_name != name:
            query = query.join(source.copy(), join_type="CROSS")
    if not isinstance(tree.this, exp.Table) or not tree.this.args.get("joins"):
        for join in tree.args.get("joins") or []:
            query.append("joins", join.copy())
    for part in ("where", "order", "limit", "with_", "with"):
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
    known = fold(target.column_names)
    names = [*_grouped_columns(tree, target), *_twin_columns(tree, target, name)]
    found = dict.fromkeys(known[one.lower()] for one in names if one.lower() in known)
    yield from (column for column in found if column not in target.key)


def _grouped_columns(tree: exp.Delete, target: Table) -> Iterator[str]:
    """The columns by which queries over the table group."""
    for group in tree.find_all(exp.Group):
        query = group.find_ancestor(exp.Select)
        sources = [table.name.lower() for table in query.find_all(exp.Table)] if query else []
        if target.name.name.lower() in sources:
            yield from (node.name for node in group.find_all(exp.Column))


def _twin_columns(tree: exp.Delete, target: Table, name: str) -> Iterator[str]:
    """The columns in which a row is compared with another one of the table."""
    own = [node for node in tree.find_all(exp.Table) if node.name == target.name.name]
    names = {name, target.name.name, *(node.alias for node in own if node.alias)}
    for pair in tree.find_all(exp.EQ, exp.NullSafeEQ):
        left, right = pair.left, pair.right
        if not isinstance(left, exp.Column) or not isinstance(right, exp.Column):
            continue
        if left.name == right.name and left.table != right.table:
            if {left.table, right.table} <= names:
                yield left.name

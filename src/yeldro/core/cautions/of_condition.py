"""What a condition may mean other than what was meant: known mistakes, with figures from the
database."""

from __future__ import annotations

import difflib
import re
from collections.abc import Iterable, Iterator
from dataclasses import dataclass

from sqlglot import exp

from yeldro.core.cautions.caution import Caution
from yeldro.core.database.connection import Database, KeySet, Quirk
from yeldro.core.model.schema import Column, Family
from yeldro.core.selection.column_scope import Scopes
from yeldro.core.selection.condition import Condition, ands
from yeldro.core.selection.selection import Selection

_UNPARSED = (
    "The parser could not read the condition, so nobody looked for unknown columns, for functions "
    "that do more than "
    "look, or for any of the known mistakes. Only the database checks it. Look at the matched "
    "rows with care."
)
_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE)
_CHANGING = {
    "random",
    "rand",
    "uuid",
    "gen_random_uuid",
    "newid",
    "randomblob",
    "clock_timestamp",
    "sysdate",
}
_CLOCKS = {
    "now",
    "current_timestamp",
    "current_date",
    "currenttimestamp",
    "currentdate",
    "curdate",
    "localtimestamp",
}
_DAY = re.compile(r"\d{4}-\d{2}-\d{2}")
_MOMENT = re.compile(r"\d{4}-\d{2}-\d{2}([ T]\d{2}:\d{2}(:\d{2}(\.\d+)?)?)?(Z|[+-]\d{2}:?\d{2})?")
_DAYS = "[0-9][0-9][0-9][0-9]-[0-1][0-9]-[0-3][0-9]*"
_NUMERIC = re.compile(r"\s*[-+]?(\d+\.?\d*|\.\d+)([eE][-+]?\d+)?\s*")
_APPROXIMATE = re.compile(r"\b(float|real)", re.IGNORECASE)


@dataclass(frozen=True, slots=True, eq=False)
class Look:
    """One condition under examination: its scopes, and the database that gives the figures."""

    condition: Condition
    scopes: Scopes
    database: Database
    keys: KeySet

    @property
    def table_label(self) -> str:
        return self.scopes.table.label

    @property
    def quirks(self) -> frozenset[Quirk]:
        return self.database.abilities.quirks

    def written(self, node: exp.Expr) -> str:
        """As SQL, with parameters as a person writes them: the parser would spell each in its
        dialect's own way."""
        plain = node.transform(
            lambda one: exp.Var(this=f":{one.name}") if isinstance(one, exp.Placeholder) else one
        )
        return plain.sql(dialect=self.condition.dialect)

    def count(self, text: str) -> int | None:
        """How many rows of the table meet a condition made from the person's own, None where it
        cannot be run."""
        return self.database.try_count(self.scopes.table, self.condition.derive(text))


def find_doubts(
    database: Database, selection: Selection, keys: KeySet, expects_one: bool
) -> list[Caution]:
    """Everything that is doubtful about the conditions of a selection whose matched rows stand in
    `keys`."""
    found: dict[tuple[str, str], Caution] = {}
    table = selection.view.table if selection.view else selection.table
    for condition in selection.conditions:
        if condition.tree is None:
            found["unparsed", condition.text] = Caution("unparsed", condition.text, _UNPARSED)
            continue
        look = Look(condition, Scopes(table, database.schema), database, keys)
        for check in _CHECKS:
            for name, subject, message in check(look, condition.tree):
                found.setdefault((name, subject), Caution(name, subject, message))
    if expects_one and selection.conditions and not pins_a_row(selection):
        found["not-unique", table.label] = Caution(
            "not-unique",
            table.label,
            f"One row is expected, but the condition is on no unique column of {table.label}, so "
            "tomorrow it may match "
            "another or more. Name the row by --key.",
        )
    return list(found.values())


Finding = tuple[str, str, str]


def _never_true(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(*_COMPARISONS):
        sides = (node.left, node.right)
        if any(isinstance(side, exp.Null) for side in sides):
            other = look.written(
                next((side for side in sides if not isinstance(side, exp.Null)), node.left)
            )
            word = "IS NOT NULL" if isinstance(node, exp.NEQ) else "IS NULL"
            yield (
                "never-true",
                look.written(node),
                f"{look.written(node)} is true for no row at all, because NULL equals nothing. "
                f"Write {other} {word}.",
            )


def _always_true(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in _parts(tree):
        if isinstance(node, exp.EQ) and look.scopes.column(node.left) and node.left == node.right:
            written = look.written(node)
            yield (
                "always-true",
                written,
                f"{written} is true for every row without a NULL there. Leave it out.",
            )
        elif not any(node.find_all(exp.Column, exp.Placeholder, exp.Query, exp.Func)) and _is_true(
            node
        ):
            written = look.written(node)
            yield (
                "always-true",
                written,
                f"{written} is true for every row of {look.table_label}. Leave it out.",
            )
        elif isinstance(node, exp.Exists) and not look.scopes.is_correlated(node.this):
            yield (
                "always-true",
                look.written(node),
                f"{look.written(node)} does not look at the row of {look.table_label}, so it is "
                "the same for all of "
                "them. Compare a column of the subquery with one of the table.",
            )


def _null_in_list(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.In):
        if not isinstance(node.parent, exp.Not):
            continue
        what = look.written(node.this)
        if any(isinstance(value, exp.Null) for value in node.expressions):
            yield (
                "null-in-list",
                look.written(node.parent),
                "The list of NOT IN holds NULL, so no row at all matches. Take it out.",
            )
        query = node.args.get("query")
        select = query.this if isinstance(query, exp.Subquery) else query
        if (
            not isinstance(select, exp.Select)
            or len(select.selects) != 1
            or look.scopes.is_correlated(select)
        ):
            continue
        nulls = _count_nulls(look, select)
        if nulls:
            shown = look.written(select.selects[0])
            yield (
                "null-in-list",
                look.written(node.parent),
                f"{nulls:,} rows of the subquery hold NULL in {shown}, and with one NULL in its "
                "list NOT IN matches "
                f"no row at all. Add WHERE {shown} IS NOT NULL, or use NOT EXISTS with {what}.",
            )


def _count_nulls(look: Look, select: exp.Select) -> int | None:
    inner = select.copy()
    inner.selects[0].replace(exp.alias_(inner.selects[0].unalias().copy(), "yeldro_value"))
    text = (
        f"(SELECT count(*) FROM ({look.written(inner)}) AS yeldro_list WHERE yeldro_value IS NULL)"
    )
    return look.database.try_number(look.condition.derive(text))


def _outer_column(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Column):
        if node.table or node.find_ancestor(exp.Select) is None:
            continue
        found = look.scopes.find(node)
        if found is None or not found.levels or found.table is None:
            continue
        comparison = node.find_ancestor(*_COMPARISONS, exp.Select)
        if isinstance(comparison, _COMPARISONS) and _has_inner(look, comparison):
            continue
        query = node.find_ancestor(exp.Select)
        inside = ", ".join(name for name, _ in look.scopes.sources(query)) if query else ""
        yield (
            "outer-column",
            node.name,
            f"{inside} has no column {node.name}, so in the subquery it silently means that of "
            f"{found.table.label}, "
            "and the subquery compares the row with itself. Name a column of the subquery's own "
            "table.",
        )


def _has_inner(look: Look, comparison: exp.Expr) -> bool:
    places = [look.scopes.find(column) for column in comparison.find_all(exp.Column)]
    return any(place is not None and not place.levels for place in places)


def _quoted_word(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """A quoted word that the engine reads as a text, because there is no such column or because it
    always does."""
    if Quirk.QUOTED_TEXTS not in look.quirks:
        return
    names = list(look.scopes.table.column_names)
    for node in tree.find_all(exp.Column):
        if node.this.args.get("quoted") and look.scopes.find(node) is None:
            yield _quoted(node.name, names)
    for pair in tree.find_all(*_COMPARISONS, exp.In, exp.Like):
        if isinstance(pair.this, exp.Literal) and pair.this.is_string and not pair.find(exp.Column):
            yield _quoted(pair.this.this, names)


def _quoted(word: str, names: Iterable[str]) -> Finding:
    near = difflib.get_close_matches(
        word.lower(), [name.lower() for name in names], n=1, cutoff=0.6
    )
    hint = f" The nearest column is {near[0]}." if near else ""
    return (
        "quoted-word",
        word,
        f"The quoted word {word} is no column here but a text, so the comparison is the same for "
        f"every row.{hint} "
        "Write a column's name without these quotes.",
    )


def _mixed_and_or(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Or):
        if isinstance(node.this, exp.And) or isinstance(node.expression, exp.And):
            read = node.copy()
            for side in ("this", "expression"):
                if isinstance(read.args[side], exp.And):
                    read.set(side, exp.paren(read.args[side].copy()))
            yield (
                "mixed-and-or",
                look.written(node),
                f"AND binds before OR, so this is read as {look.written(read)}. Write the "
                "brackets that you mean.",
            )
    if Quirk.PIPES_ARE_OR in look.quirks and "||" in look.condition.text:
        yield (
            "mixed-and-or",
            "||",
            "|| means OR here and does not join texts. Write OR, or CONCAT(…).",
        )


def _converted(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """Comparisons before which the engine silently turns one side into another type."""
    if not look.quirks & {Quirk.TEXTS_AS_NUMBERS, Quirk.UNTYPED}:
        return
    if Quirk.TEXTS_AS_NUMBERS in look.quirks:
        yield from _bare_texts(look, tree)
    for node in tree.find_all(*_COMPARISONS):
        for one, other in ((node.left, node.right), (node.right, node.left)):
            column = look.scopes.column(one)
            value = other.this if isinstance(other, exp.Paren | exp.Neg) else other
            if column and (reason := _mismatch(look, column, value)):
                yield (
                    "text-as-number",
                    look.written(node),
                    f"{look.written(node)}: {reason}{_by_conversion(look, node, column)}",
                )
            elif not column and Quirk.UNTYPED in look.quirks and _is_untyped(one, value, look):
                yield (
                    "text-as-number",
                    look.written(node),
                    f"{look.written(node)} compares a number with a text without turning either "
                    "into the other, and a "
                    "number is always less. Leave out the quotes.",
                )


def _mixed_types(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """Values of a column that are no numbers, or no days, where it is compared with one."""
    if Quirk.UNTYPED not in look.quirks:
        return
    for node in tree.find_all(*_COMPARISONS, exp.Between):
        column = look.scopes.column(node.this)
        if column is None or isinstance(node, exp.EQ | exp.NEQ) or node.find_ancestor(exp.Select):
            continue
        name = look.written(node.this)
        if column.family in (Family.INTEGER, Family.NUMBER):
            odd, what = f"typeof({name}) = 'text'", "a text, and any number is less than any text"
        elif column.family in (Family.DATE, Family.TIMESTAMP):
            odd = f"typeof({name}) = 'text' AND NOT {name} GLOB '{_DAYS}'"
            what = "no day in the form 2024-01-31, and texts are compared letter by letter"
        else:
            continue
        if rows := look.count(odd):
            matching = look.count(f"({look.written(node)}) AND {odd}") or 0
            yield (
                "mixed-types",
                f"{look.table_label}.{column.name}",
                f"{rows:,} rows of {look.table_label} hold {what}: {matching:,} of them meet "
                f"{look.written(node)}. "
                f"Look at them, and leave them out with a condition on {name} if they are not "
                "meant.",
            )


def _bare_texts(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in _parts(tree):
        column = look.scopes.column(node)
        if column and column.family is Family.TEXT:
            yield (
                "text-as-number",
                column.name,
                f"{column.name} is a text and is read as a number here: true where that is not 0. "
                "Compare it with "
                "something.",
            )


def _mismatch(look: Look, column: Column, value: exp.Expr) -> str:
    """Why a column and a value cannot be compared as they are, "" where they can."""
    is_text = isinstance(value, exp.Literal) and value.is_string
    is_number = isinstance(value, exp.Literal) and not value.is_string
    if column.family in (Family.DATE, Family.TIMESTAMP):
        if _is_arithmetic(value):
            return (
                f"without quotes {look.written(value)} is a sum of numbers and no day. Put it in "
                "quotes."
            )
        if is_text and not _MOMENT.fullmatch(value.this):
            how = (
                "as a text, letter by letter"
                if Quirk.UNTYPED in look.quirks
                else "after a conversion that may fail"
            )
            return (
                f"the text is no day in the form 2024-01-31, so it is compared {how}. Write it in "
                "that form."
            )
        if is_number:
            return "a number is compared with a day. Put the day in quotes."
    if Quirk.TEXTS_AS_NUMBERS in look.quirks and column.family is Family.TEXT and is_number:
        return (
            f"every {column.name} is turned into a number first, and a text without one counts as "
            "0. Put quotes around "
            "the value."
        )
    is_ordered = not isinstance(value.parent, exp.EQ | exp.NEQ)
    if Quirk.UNTYPED in look.quirks and column.family is Family.TEXT and is_number and is_ordered:
        return (
            f"{column.name} holds texts, so the number is compared as one, letter by letter: '10' "
            "is less than '9'. "
            "Put quotes around the value, or compare CAST(… AS INTEGER)."
        )
    if (
        column.family in (Family.INTEGER, Family.NUMBER)
        and is_text
        and not _NUMERIC.fullmatch(value.this)
    ):
        if Quirk.UNTYPED in look.quirks and look.count(f"typeof(\"{column.name}\") = 'text'"):
            return ""  # the column holds texts, so one may well be meant
        if Quirk.UNTYPED in look.quirks:
            return (
                "the value is no number, and any number is less than any text. Compare "
                f"{column.name} with a number."
            )
        return (
            f"the text is turned into a number first, here 0. Compare {column.name} with a number."
        )
    return ""


def _by_conversion(look: Look, node: exp.Expr, column: Column) -> str:
    """How many rows match only because of the conversion, as the end of a message."""
    if column.family is not Family.TEXT:
        return ""
    value = node.expression if look.scopes.column(node.this) else node.this
    plain = type(node)(
        this=exp.column(column.name, quoted=True), expression=exp.Literal.string(value.name)
    )
    rows = look.count(f"({look.written(node)}) AND NOT ({look.written(plain)})")
    return f" {rows:,} rows match by that alone." if rows else ""


def _is_arithmetic(node: exp.Expr) -> bool:
    return (
        isinstance(node, exp.Sub)
        and not node.find(exp.Column, exp.Func)
        and bool(node.find(exp.Sub))
    )


def _is_untyped(one: exp.Expr, value: exp.Expr, look: Look) -> bool:
    """Whether an expression without a type of its own, but of numbers, meets a text."""
    if not (isinstance(value, exp.Literal) and value.is_string):
        return False
    if not isinstance(
        one, exp.Coalesce | exp.Abs | exp.Length | exp.Round | exp.Add | exp.Sub | exp.Mul | exp.Div
    ):
        return False
    columns = [look.scopes.column(column) for column in one.find_all(exp.Column)]
    numbers = isinstance(one, exp.Length) or all(
        column is not None and column.family in (Family.INTEGER, Family.NUMBER)
        for column in columns
    )
    return numbers


def _case_blind(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.EQ, exp.In, exp.Like):
        column = look.scopes.column(node.this)
        values = [*node.expressions, node.args.get("expression")]
        texts = [value for value in values if isinstance(value, exp.Literal | exp.Placeholder)]
        if (
            not column
            or not texts
            or not _is_blind(look, column, node)
            or node.find_ancestor(exp.Select)
        ):
            continue
        if isinstance(node, exp.Like):
            pattern = texts[0].name if isinstance(texts[0], exp.Literal) else ""
            texts = [] if "%" in pattern or "_" in pattern else texts
        if not texts or isinstance(node.parent, exp.Not):
            continue
        spellings = look.database.find_spellings(look.keys, column.name, 6)
        if len(spellings) > len(texts):
            more = ", …" if len(spellings) > 5 else ""
            yield (
                "case-blind",
                f"{look.table_label}.{column.name}",
                f"The collation of {column.name} merges spellings: "
                f"{', '.join(map(repr, spellings[:5]))}{more} all "
                "match. Compare in binary form if only one is meant.",
            )


def _is_blind(look: Look, column: Column, node: exp.Expr) -> bool:
    blind = (
        column.collation.lower().endswith("_ci")
        or column.collation.upper() == "NOCASE"
        or "citext" in column.type
    )
    return blind or (isinstance(node, exp.Like) and Quirk.BLIND_LIKE in look.quirks)


def _nulls_left_out(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    """`<>` and NOT leave rows with NULL out, which is easily forgotten. Only parts that every row
    must meet count."""
    for part in ands(tree):
        node = (
            part.this
            if isinstance(part, exp.Not) and isinstance(part.this, exp.In | exp.Like | exp.Between)
            else part
        )
        if not isinstance(part, exp.NEQ) and node is part:
            continue
        left = look.scopes.column(node.this)
        if (
            left is None
            or not left.nullable
            or any(isinstance(one, exp.Null) for one in node.iter_expressions())
        ):
            continue
        if rows := look.count(f"{look.written(node.this)} IS NULL"):
            yield (
                "null-left-out",
                f"{look.table_label}.{left.name}",
                f"{rows:,} rows of {look.table_label} hold NULL in {left.name}, and "
                f"{look.written(part)} is not true "
                f"for them. If they are meant too, add OR {left.name} IS NULL, in brackets.",
            )


def _wildcards(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Like):
        pattern = node.expression
        if (
            not isinstance(pattern, exp.Literal)
            or "_" not in pattern.this
            or isinstance(node.parent, exp.Escape)
        ):
            continue
        if (
            isinstance(node.parent, exp.Not)
            or node.find_ancestor(exp.Select)
            or look.scopes.column(node.this) is None
        ):
            continue
        plain = pattern.this.replace("!", "!!").replace("_", "!_").replace("'", "''")
        what = look.written(node.this)
        rows = look.count(f"({look.written(node)}) AND NOT ({what} LIKE '{plain}' ESCAPE '!')")
        if rows:
            yield (
                "wildcard",
                look.written(node),
                f"In LIKE an underscore stands for any character: {rows:,} rows match by that "
                "alone. If the "
                f"character itself is meant: {what} LIKE '{plain}' ESCAPE '!'.",
            )


def _days_and_moments(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Between, exp.LTE):
        end = node.args["high"] if isinstance(node, exp.Between) else node.expression
        column = look.scopes.column(node.this)
        is_day = isinstance(end, exp.Literal) and end.is_string and _DAY.fullmatch(end.this)
        if column is None or column.family is not Family.TIMESTAMP or not is_day:
            continue
        what = look.written(node.this)
        rows = (
            look.count(f"{what} > '{end.this}' AND {what} LIKE '{end.this}%'")
            if look.quirks & {Quirk.UNTYPED}
            else None
        )
        told = f" {rows:,} rows of that day are left out." if rows else ""
        if rows != 0:
            yield (
                "end-of-day",
                look.written(node),
                f"{column.name} holds moments, and the day {end.this} alone means its "
                f"midnight.{told} Write "
                f"{what} < the day after.",
            )


def _approximate(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    if Quirk.UNTYPED in look.quirks:
        return
    for node in tree.find_all(exp.EQ):
        column = look.scopes.column(node.this)
        value = node.expression
        is_fraction = isinstance(value, exp.Literal) and not value.is_string and "." in value.this
        if column and is_fraction and _APPROXIMATE.search(column.type):
            yield (
                "approximate-number",
                look.written(node),
                f"{column.name} is a {column.type} and holds {value.this} only approximately, so "
                "= may miss it. "
                "Compare with a small range.",
            )


def _changing(look: Look, tree: exp.Expr) -> Iterator[Finding]:
    for node in tree.find_all(exp.Func):
        name = (node.name if isinstance(node, exp.Anonymous) else node.sql_name()).lower()
        argument = str(node.args.get("this") or "").lower()
        if name in _CHANGING:
            yield (
                "changing-condition",
                look.written(node),
                f"{look.written(node)} is another value for every row and every time, so the rows "
                "that match now are "
                "not those of the next time. Choose rows by their own values.",
            )
        elif name in _CLOCKS or (
            name in ("date", "datetime", "tsordstodate", "cast") and "'now'" in argument
        ):
            yield (
                "changing-condition",
                look.written(node),
                f"{look.written(node)} moves on, so a later run matches other rows. Give the day "
                "as a value if the "
                "same rows are meant.",
            )


_CHECKS = (
    _always_true,
    _never_true,
    _null_in_list,
    _nulls_left_out,
    _outer_column,
    _quoted_word,
    _mixed_and_or,
    _converted,
    _mixed_types,
    _case_blind,
    _wildcards,
    _days_and_moments,
    _approximate,
    _changing,
)


def _parts(tree: exp.Expr) -> Iterator[exp.Expr]:
    """The conditions that AND, OR, NOT and brackets put together."""
    if isinstance(tree, exp.And | exp.Or):
        yield from _parts(tree.left)
        yield from _parts(tree.right)
    elif isinstance(tree, exp.Paren | exp.Not):
        yield from _parts(tree.this)
    else:
        yield tree


def _is_true(node: exp.Expr) -> bool:
    if isinstance(node, exp.Boolean):
        return bool(node.this)
    if isinstance(node, exp.Literal):
        return not node.is_string and bool(_NUMERIC.fullmatch(node.this)) and float(node.this) != 0
    if isinstance(node, exp.EQ):
        return bool(node.left == node.right)
    return (
        isinstance(node, exp.NEQ)
        and node.left != node.right
        and type(node.left) is type(node.right)
    )


def pins_a_row(selection: Selection) -> bool:
    """Whether the conditions fix every column of some unique index, or the key."""
    fixed: set[str] = set()
    for condition in selection.conditions:
        for node in ands(condition.tree) if condition.tree else ():
            if (
                isinstance(node, exp.EQ)
                and isinstance(node.this, exp.Column)
                and not node.expression.find(exp.Column)
            ):
                fixed.add(node.this.name.lower())
    sets = [
        selection.table.key,
        *(index.columns for index in selection.table.indexes if index.unique),
    ]
    return bool(selection.listed) or any(
        columns and {name.lower() for name in columns} <= fixed for columns in sets
    )

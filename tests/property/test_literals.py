"""The law of literals: a text that a script holds is the same text in the database, whatever its
client does."""

from __future__ import annotations

import re
from contextlib import closing
from pathlib import Path

from hypothesis import given
from hypothesis import strategies as st

from tests.property.test_laws import server as server
from tests.servers import Server
from yeldro.core.database.row_block import RowBlock
from yeldro.engines.mariadb.values import write_block
from yeldro.engines.postgresql.archive import make_lines
from yeldro.engines.shared.literals import write_for_mariadb, write_for_postgresql, write_for_sqlite
from yeldro.store.copy_text import pack

WRITERS = {
    "sqlite": write_for_sqlite,
    "postgresql": write_for_postgresql,
    "mariadb": write_for_mariadb,
}
# Ends of lines and of texts, what clients read themselves, and names of ours.
SIGNS = "\0\t\n\v\f\r\x1a\x1b\x7f\x85\xa0\u2028\u2029\ufeff'\"`\\;%$:-#/é表\N{PILE OF POO}"
WORDS = [
    "\r\n",
    " \n",
    "\n.quit\n",
    "\n\\q\n",
    "--",
    "$$",
    "/*",
    "*/",
    "DELIMITER $$\n",
    "yeldro_1",
]
HOSTILE = st.sampled_from([*SIGNS, *WORDS])
TEXTS = st.lists(HOSTILE | st.text(max_size=5), max_size=12).map("".join)
SETS: dict[str, list[list[str]]] = {
    "sqlite": [[]],
    "postgresql": [
        ["PGCLIENTENCODING=UTF8"],
        ["PGCLIENTENCODING=SJIS"],
        ["PGCLIENTENCODING=LATIN1"],
    ],
    "mariadb": [
        [],
        ["--default-character-set=gbk"],
        ["--default-character-set=sjis"],
        ["--default-character-set=latin1"],
    ],
}


@given(data=st.data())
def test_a_literal_is_the_text(server: Server, data: st.DataObject) -> None:
    texts = data.draw(st.lists(TEXTS, min_size=1, max_size=20))
    if server.engine == "postgresql":  # whose texts hold no NUL
        texts = [text.replace("\0", "") for text in texts]
    write = WRITERS[server.engine]
    start = {
        "sqlite": "CREATE TABLE t (id INTEGER, x TEXT);",
        "postgresql": "SET client_encoding = 'UTF8'; CREATE TABLE t (id INTEGER, x TEXT);",
        "mariadb": "SET NAMES utf8mb4; CREATE TABLE t (id INTEGER, x TEXT CHARACTER SET utf8mb4);",
    }[server.engine]
    lines = [
        start,
        *(f"INSERT INTO t VALUES ({place}, {write(text)});" for place, text in enumerate(texts)),
    ]
    server.clear()
    done = server.client("\n".join(lines), settings=data.draw(st.sampled_from(SETS[server.engine])))
    assert (done.returncode, done.stderr) == (0, ""), lines
    with closing(server.connect()) as connection, closing(connection.cursor()) as cursor:
        cursor.execute("SELECT x FROM t ORDER BY id")
        assert [row[0] for row in cursor.fetchall()] == texts


MARKS = st.sampled_from(["a", '"', "\\", ",", "[", "]", "null", "\t", "\n", "\f", "\v", "\\N", "'"])
CELLS = st.none() | st.lists(MARKS, max_size=5).map("".join)
BLOCKS = st.integers(1, 4).flatmap(
    lambda width: st.lists(st.lists(CELLS, min_size=width, max_size=width), min_size=1, max_size=4)
)
ESCAPES = {"b": "\b", "f": "\f", "n": "\n", "r": "\r", "t": "\t", "v": "\v"}


def plain(text: str) -> str:
    return re.sub(r"\\(.)", lambda one: ESCAPES.get(one[1], one[1]), text)


def read_copy(lines: str) -> list[list[str | None]]:
    cells = [line.split("\t") for line in lines.split("\n")[:-1]]
    return [[None if cell == r"\N" else plain(cell) for cell in row] for row in cells]


def read_values(text: str) -> list[list[str | None]]:
    cell = r'NULL|"(?:[^"\\]|\\.)*"'
    rows = re.findall(rf"\(((?:{cell})(?:,(?:{cell}))*)\)(?:,|$)", text, re.DOTALL)
    found = [re.findall(cell, row, re.DOTALL) for row in rows]
    return [[None if one == "NULL" else plain(one[1:-1]) for one in row] for row in found]


@given(BLOCKS)
def test_a_block_of_archived_rows_is_rewritten_as_it_is(rows: list[list[str | None]]) -> None:
    marks = {"\\": "\\\\"} | {sign: f"\\{name}" for name, sign in ESCAPES.items()}
    text = "".join(
        "\t".join(
            r"\N" if cell is None else "".join(marks.get(sign, sign) for sign in cell)
            for cell in row
        )
        + "\n"
        for row in rows
    )
    block = RowBlock(pack([text.encode()]), Path("rows.sqlite"))
    assert block.read() == rows
    assert read_copy(make_lines(block)) == rows
    values = write_block(block)
    if values is not None:
        assert read_values(values) == rows
    texts = [cell for row in rows for cell in row if cell is not None]
    unusual = not texts or any({"\f", "\v"} & set(text) for text in texts)
    assert (values is None) == unusual

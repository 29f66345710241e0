"""The law of literals: a text that a script holds is the same text in the database, whatever its
client does."""

from __future__ import annotations

from contextlib import closing

from hypothesis import given
from hypothesis import strategies as st

from tests.property.test_laws import server as server
from tests.servers import Server
from yeldro.engines.shared.literals import write_for_mariadb, write_for_postgresql, write_for_sqlite

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

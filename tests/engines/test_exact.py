"""What is archived and restored is the same to the last bit: every type, every extreme, on the
three engines."""

from __future__ import annotations

import math
import sqlite3
from typing import Any

import pytest

from tests.conftest import Yeldro
from tests.servers import Server

POSTGRESQL: dict[str, list[str]] = {
    "smallint": ["-32768", "32767"], "integer": ["-2147483648", "2147483647"],
    "bigint": ["-9223372036854775808", "9223372036854775807"],
    "numeric": ["1.10", "1.1", "'NaN'", "'-Infinity'", "1e-1000", "0." + "1" * 300],
    "numeric(20,5)": ["123.45600", "'NaN'"],
    "real": ["16777217", "1.17549435e-38", "'-0'", "'NaN'", "'Infinity'", "0.1"],
    "double precision": ["0.1::float8 + 0.2", "5e-324", "1.7976931348623157e308", "'-0'", "'-Infinity'"],
    "money": ["'-92233720368547758.08'", "1.01"], "boolean": ["true", "false"],
    '"char"': ["'a'", "''", "-56", "'\\'"], "char(5)": ["'ab'", "''"], "bpchar": ["'ab   '", "'ab'"],
    "varchar(9)": ["'ab  '", "''"],
    "text": ["''", "E'tab\\t nl\\n cr\\r bs\\\\ \\\\N'",
      '\'"q","r"\'', "E'\\x01\\x1f\\v\\f\\b'", "'😀 é e\u0301'", "'null'"],
    "name": ["'a name'"], "bytea": ["''", "'\\x00ff5c'"],
    "date": ["'infinity'", "'4713-01-01 BC'", "'5874897-12-31'"], "time": ["'24:00'", "'00:00:00.000001'"],
    "timetz": ["'24:00+15:59'", "'00:00-15:59'"],
    "timestamp": ["'-infinity'", "'4713-01-01 00:00:00 BC'", "'294276-12-31 23:59:59.999999'", "'2024-03-31 02:30'"],
    "timestamptz": ["'infinity'", "'2024-10-27 01:30:00.000001+00'", "'0044-03-15 BC'"],
    "interval": ["'1 mon'", "'30 days'", "'720:00'", "'-1 mon +2 days -00:00:00.000001'", "'178000000 years'"],
    "uuid": ["'00000000-0000-0000-0000-000000000000'"], "json": ["'null'", '\'{"b":1, "a":  1.0, "b":2}\''],
    "jsonb": ["'null'", "'{\"a\": 1.00}'"], "jsonpath": ["'$.a[*] ? (@ > 1)'"],
    "xml": ['\'<?xml version="1.0" encoding="latin1"?><a/>\'', "'text &amp; <b/>'"],
    "inet": ["'10.0.0.1/8'", "'::1'"], "cidr": ["'10.0.0.0/8'"], "macaddr": ["'08:00:2b:01:02:03'"],
    "macaddr8": ["'08:00:2b:01:02:03:04:05'"], "bit(3)": ["B'101'"], "varbit": ["B''", "B'0011'"],
    "point": ["'(0.1,-0)'", "'(NaN,Infinity)'"], "line": ["'{1,2,3}'"], "lseg": ["'[(0,0),(1,0.3)]'"],
    "box": ["'(2,2),(0,0)'"], "path": ["'[(0,0),(1,1)]'", "'((0,0),(1,1))'"], "polygon": ["'((0,0),(1,1),(1,0))'"],
    "circle": ["'<(0,0),2.5>'"], "tsvector": ["'a:1A fat:2B,4C'"], "tsquery": ["'fat:AB & (rat:* | !cat)'"],
    "integer[]": ["'{}'", "'[0:1]={1,NULL}'", "'{{1,2},{3,4}}'"],
    "text[]": [r"""'{NULL,"NULL","","a,b","{","\"","\\"}'"""], "int4range": ["'empty'", "'(,5)'"],
    "numrange": ["'[1.10,2.0]'"], "tstzrange": ["'[2024-01-01,infinity)'"],
    "datemultirange": ["'{}'", "'{[2024-01-01,2024-02-01),[2024-03-01,)}'"], "oid": ["4294967295"],
    "xid": ["'4294967295'"], "cid": ["'7'"], "xid8": ["'18446744073709551615'"], "tid": ["'(1,2)'"],
    "pg_lsn": ["'FFFFFFFF/FFFFFFFF'"], "pg_snapshot": ["'10:20:10,14'"], "txid_snapshot": ["'10:20:10,14'"],
    "refcursor": ["'c'"], "oidvector": ["'1 2 3'"], "int2vector": ["'1 2 3'"], "regclass": ["'pg_class'", "'0'"],
    "regtype": ["'integer'"], "regproc": ["'now'", "'abs(integer)'::regprocedure::oid"],
    "regprocedure": ["'abs(integer)'"], "regoper": ["'pg_catalog.||/(none,float8)'::regoperator::oid"],
    "regoperator": ["'+(integer,integer)'"], "regrole": ["'postgres'"], "regnamespace": ["'pg_catalog'"],
    "regconfig": ["'english'"], "regdictionary": ["'simple'"], "regcollation": ["'\"C\"'"],
    "aclitem": ["'postgres=r/postgres'"], "mood": ["'sad'", "'a \"b\", c'"],
    "pair": [r"""'(1,"a,""b\\")'""", "'(,)'"], "positive": ["7"],
}  # fmt: skip
MARIADB: dict[str, list[str]] = {
    "tinyint": ["-128", "127"], "bigint": ["-9223372036854775808"], "bigint unsigned": ["18446744073709551615"],
    "int(6) zerofill": ["42"],
    "decimal(65,30)": ["-12345678901234567890123456789012345.000000000000000000000000000001"],
    "float": ["16777217", "0.1", "1.17549435e-38", "-3.40282347e38"], "float(7,3)": ["1.234"],
    "double": ["0.1e0 + 0.2e0", "5e-324", "1.7976931348623157e308", "1/3e0", "123456789012345680000"],
    "bit(1)": ["b'1'", "b'0'"], "bit(13)": ["b'1000000000001'"], "bit(64)": ["X'FFFFFFFFFFFFFFFF'"],
    "year": ["0", "2155"], "date": ["'0000-00-00'", "'2024-02-00'", "'9999-12-31'"],
    "time(6)": ["'-838:59:59.999999'", "'00:00:00.000001'"],
    "datetime(6)": ["'0000-00-00'", "'9999-12-31 23:59:59.999999'", "'2024-03-31 02:30:00'"],
    "timestamp(6) null": ["'1970-01-01 00:00:01'", "'2024-10-27 01:30:00.000001'", "'2038-01-19 03:14:07'", "0"],
    "char(5)": ["'ab'", "'ab  '", "''"],
    "varchar(40)": ["'ab  '", "'tab\\t nl\\n cr\\r bs\\\\ \\\\N'", '\'"q","r"\'', "'\\0 \\Z \\b'", "'😀 é e\u0301'"],
    "varchar(9) collate utf8mb4_bin": ["'ÁÀ'"],
    "text character set latin1": ["CONVERT(X'00017F80818D8F90FF' USING latin1)", "'\\\\'"],
    "varchar(9) character set sjis": ["_sjis X'835C'"], "varchar(9) character set cp932": ["_cp932 X'8790FA4AED40'"],
    "varchar(9) character set utf16": ["'😀'"], "longtext": ["repeat('é', 300)"], "binary(5)": ["'ab'", "X'0001'"],
    "varbinary(9)": ["''", "X'00FF5C27'"], "tinyblob": ["X'5C4E'"], "longblob": ["repeat(X'00', 300)"],
    "enum('a','B c','d''e','')": ["'a'", "'d''e'", "''", "0"], "enum('x','y') character set latin1": ["'y'", "0"],
    "set('a','b','c')": ["''", "'a,c'"], "json": ['\'{"b":1, "a":  "\\\\\\\\"}\''],
    "uuid": ["'123e4567-e89b-12d3-a456-426655440000'"], "inet6": ["'::ffff:10.0.0.1'"], "inet4": ["'10.0.0.1'"],
    "point": ["ST_GeomFromText('POINT(0.1 -2)', 4326)"],
    "geometry": ["ST_GeomFromText('GEOMETRYCOLLECTION(POINT(1 1),LINESTRING(0 0,1 1))')"],
    "polygon": ["ST_GeomFromText('POLYGON((0 0,1 0,1 1,0 0))')"],
    **{name: ["'é'"] for name in ("tinytext", "mediumtext", "text")},
    **{name: ["X'00FF'"] for name in ("blob", "mediumblob")},
    **{name: ["-7"] for name in ("smallint", "mediumint", "double(10,4)", "decimal(5)", "dec(9,2)")},
    "linestring": ["ST_GeomFromText('LINESTRING(0 0,0.1 1)')"],
    "multipoint": ["ST_GeomFromText('MULTIPOINT(0 0,1 1)')"],
    "multilinestring": ["ST_GeomFromText('MULTILINESTRING((0 0,1 1))')"],
    "multipolygon": ["ST_GeomFromText('MULTIPOLYGON(((0 0,1 0,1 1,0 0)))')"],
    "geometrycollection": ["ST_GeomFromText('GEOMETRYCOLLECTION(POINT(1 1))')"], "int invisible": ["7"],
}  # fmt: skip
SQLITE: list[Any] = [
    *(
        None,
        0,
        1,
        -(2**63),
        2**63 - 1,
        2**53 + 1,
        -0.0,
        0.1,
        1e300,
        5e-324,
        math.inf,
        -math.inf,
        1.0,
        0.1 + 0.2,
    ),
    *(
        "",
        "a",
        "1",
        "1.0",
        "é😀",
        "nul\0in it",
        "tab\t\n\\N",
        b"",
        b"\x00\xff",
        b"text",
        b"\xc3\x28 invalid",
        True,
    ),
]


def check(yeldro: Yeldro, server: Server, image: str, *arguments: str) -> None:
    """All rows of a table go and come back, and their images are the same; a second time there is
    nothing to do."""
    before = server.query(image)
    options = ["--db", server.place, "--all-rows", "--yes", "--sample", "0"]
    result = yeldro("delete", "kinds", *options, *arguments)
    assert result.status == 0, result.err
    assert server.query("SELECT count(*) FROM kinds") == [(0,)]
    for said in ("Committed", "nothing to restore"):
        result = yeldro("restore", "last", "--yes")
        assert (result.status, said in result.out) == (0, True), result.err + result.out
        assert server.query(image) == before


def build_postgresql(server: Server, key: str) -> str:
    columns = [f"c{place} {type_}" for place, type_ in enumerate(POSTGRESQL)]
    server.run(
        "CREATE TYPE mood AS ENUM ('sad', 'a \"b\", c')",
        "CREATE TYPE pair AS (a int, b text)",
        "CREATE DOMAIN positive AS int CHECK (value > 0)",
        f"CREATE TABLE kinds (id int GENERATED ALWAYS AS IDENTITY {key}, {', '.join(columns)},"
        " twice bigint GENERATED ALWAYS AS (id * 2) STORED)",
        *(
            f"INSERT INTO kinds (c{place}) VALUES (CAST({value} AS {type_}))"
            for place, (type_, values) in enumerate(POSTGRESQL.items())
            for value in values
        ),
    )
    sent = [f"c{place}" for place, type_ in enumerate(POSTGRESQL) if type_ != "aclitem"]
    return (
        f"SELECT id, twice, kinds::text, record_send(ROW({', '.join(sent)})) FROM kinds ORDER BY id"
    )


def build_mariadb(server: Server, _: str) -> str:
    """Always with a key: it is the only engine that has no other name for a row."""
    columns = [f"c{place} {type_}" for place, type_ in enumerate(MARIADB)]
    server.run(
        "SET NAMES utf8mb4, sql_mode = 'NO_AUTO_VALUE_ON_ZERO', time_zone = '+00:00'",
        f"CREATE TABLE kinds (id int PRIMARY KEY AUTO_INCREMENT, {', '.join(columns)},"
        " touched timestamp(6) NOT NULL DEFAULT '2001-02-03' ON UPDATE current_timestamp(6),"
        " twice int AS (c0 * 2) STORED, thrice int AS (c0 * 3) VIRTUAL)",
        "INSERT INTO kinds (id) VALUES (0)",
        *(
            f"INSERT INTO kinds (c{place}) VALUES ({value})"
            for place, values in enumerate(MARIADB.values())
            for value in values
        ),
    )

    def image(place: int, type_: str) -> str:
        if "float" in type_:
            return f"CONCAT(CAST(c{place} AS DOUBLE))"
        is_number = (
            any(word in type_ for word in ("int", "decimal", "double")) and "point" not in type_
        )
        cast = (
            f"CONCAT(c{place}{' + 0' if 'enum' in type_ else ''})"
            if is_number or "enum" in type_
            else f"c{place}"
        )
        return f"HEX({cast})"

    images = [image(place, type_) for place, type_ in enumerate(MARIADB)]
    return f"SELECT id, touched, twice, thrice, {', '.join(images)} FROM kinds ORDER BY id"


def build_sqlite(server: Server, key: str) -> str:
    """Every value in a column of every affinity, where it fits a STRICT one, and as a key without
    row numbers."""
    connection = sqlite3.connect(server.place)
    connection.execute(f"PRAGMA encoding = 'UTF-{'8' if key else '16be'}'")
    connection.execute(f"PRAGMA journal_mode = {'WAL' if key else 'DELETE'}")
    connection.execute(
        f"CREATE TABLE kinds (id INTEGER {key}, a INTEGER, b REAL, c TEXT, d NUMERIC, e BLOB, f,"
        " _rowid_ TEXT, g AS (id * 2) STORED)"
    )
    for number, value in enumerate(SQLITE, 1):
        slot = "CAST(? AS TEXT)" if isinstance(value, bytes) and b"invalid" in value else "?"
        slots = ", ".join(slot for _ in range(7))
        names = 'id, a, b, c, d, e, f, "_rowid_"'
        connection.execute(f"INSERT INTO kinds ({names}) VALUES ({number}, {slots})", [value] * 7)
    connection.commit()
    connection.close()
    cells = ", ".join(
        f"typeof({name}), hex(CAST({name} AS BLOB)), printf('%!.17g', {name}), {name} = '-0.0'"
        for name in "abcdef"
    )
    return f"SELECT id, g, typeof(_rowid_), hex(_rowid_), {cells} FROM kinds ORDER BY id"


BUILD = {"postgresql": build_postgresql, "mariadb": build_mariadb, "sqlite": build_sqlite}


@pytest.mark.parametrize(
    ("key", "arguments"), [("PRIMARY KEY", []), ("", ["--truncate"])], ids=["key", "no key"]
)
def test_every_type_comes_back_as_it_was(
    yeldro: Yeldro, server: Server, key: str, arguments: list[str]
) -> None:
    check(yeldro, server, BUILD[server.engine](server, key), *arguments)


ONLY = {
    # A key of any type, down to texts that are no UTF-8, in a table without row numbers.
    "sqlite": (
        "CREATE TABLE kinds (id PRIMARY KEY NOT NULL, name TEXT COLLATE NOCASE UNIQUE ON CONFLICT REPLACE)"
        " WITHOUT ROWID",
        "INSERT INTO kinds VALUES (1, 'a'), (-1.5, 'b'), ('1', NULL), (x'31', NULL), (CAST(x'c328' AS TEXT), 'c'),"
        " ('nul' || char(0) || 'x', 'd'), ('', 'e'), (9223372036854775807, 'f')",
    ),
    # No column at all that could tell two rows apart, and two rows that are alike.
    "postgresql": (
        "CREATE TABLE kinds (id numeric, doc json, tag xml)",
        "INSERT INTO kinds VALUES (1.10, '{}', '<a/>'), (1.1, '{}', '<a/>'), (1.10, '{}', '<a/>'), (NULL, NULL, NULL)",
    ),
    # A key that is a float.
    "mariadb": (
        "CREATE TABLE kinds (id FLOAT PRIMARY KEY, name VARCHAR(9) UNIQUE)",
        "INSERT INTO kinds VALUES (16777217, 'a'), (0.1, 'b'), (-1e-30, NULL)",
    ),
}
IMAGE = {
    "sqlite": "SELECT typeof(id), hex(CAST(id AS BLOB)), name FROM kinds ORDER BY 1, 2",
    "postgresql": "SELECT kinds::text FROM kinds ORDER BY 1",
    "mariadb": "SELECT CAST(id AS DOUBLE), name FROM kinds ORDER BY 1",
}


def test_odd_keys_and_none(yeldro: Yeldro, server: Server) -> None:
    server.run(ONLY[server.engine])
    check(yeldro, server, IMAGE[server.engine])


@pytest.mark.parametrize("any_server", ["postgresql"], indirect=True)
def test_what_cannot_be_kept_is_refused_before_the_run(yeldro: Yeldro, server: Server) -> None:
    """The other engines have no value that their texts would not hold."""
    server.run(
        "CREATE TABLE kinds (id int PRIMARY KEY, tree pg_node_tree)",
        "INSERT INTO kinds (id) VALUES (1)",
    )
    line = ["delete", "kinds", "--db", server.place, "--key", "1", "--yes"]
    refused = yeldro(*line)
    assert (refused.status, "kinds.tree cannot be kept exactly" in refused.err) == (3, True), (
        refused.err
    )
    assert "Stopped before the first change" in refused.out
    assert yeldro(*line, "--leave-out", "tree").status == 0


@pytest.mark.parametrize("copied", [[], ["--archive-table", "co'p\"%y"]], ids=["file", "table"])
def test_odd_names(yeldro: Yeldro, server: Server, copied: list[str]) -> None:
    """Names that need quoting, that differ in case only, that SQLite or the archive itself uses,
    and partitions."""
    name = "Odd '%s:na`m\"e"
    columns = ["a%b", "select", "ünï'c;--", "_rowid_", "rowid", "value", "q'x"]
    columns += ["Value", "VALUE"] if server.engine == "postgresql" else []
    table, child = server.quoted(name), server.quoted("yeldro_blocks")
    typed = ", ".join(f"{server.quoted(column)} INTEGER" for column in columns)
    kids = "(id INTEGER, up INTEGER REFERENCES {} (id) ON DELETE CASCADE, PRIMARY KEY (id))"
    server.run(
        f"CREATE TABLE {table} (id INTEGER PRIMARY KEY, {typed})",
        f"CREATE TABLE {child} {kids.format(table)}{' PARTITION BY HASH (id)' * (server.engine == 'postgresql')}",
        *(
            f"CREATE TABLE part_{n} PARTITION OF {child} FOR VALUES WITH (MODULUS 2, REMAINDER {n})"
            for n in range(2 * (server.engine == "postgresql"))
        ),
        *(
            f"INSERT INTO {table} VALUES ({n}, {', '.join('7' for _ in columns)})"
            for n in (1, 2, 3)
        ),
        f"INSERT INTO {child} VALUES (1, 1), (2, 2), (3, 3), (4, 2)",
    )
    before = [server.query(f"SELECT * FROM {one} ORDER BY id") for one in (table, child)]
    result = yeldro("delete", name, "--db", server.place, "--where", "id < 3", "--yes", *copied)
    assert (result.status, server.query(f"SELECT * FROM {child}")) == (0, [(3, 3)]), result.err
    assert yeldro("restore", "last", "--yes").status == 0
    assert [server.query(f"SELECT * FROM {one} ORDER BY id") for one in (table, child)] == before


@pytest.mark.parametrize("any_server", ["sqlite"], indirect=True)
def test_keys_travel_in_chunks(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Ranges, gaps, both ends of what a row number can be, and a second column that others
    reference."""
    monkeypatch.setattr("yeldro.engines.sqlite.archive._KEYS_AT_ONCE", 3)
    keys = [-(2**63), -(2**63) + 1, -5, -4, -3, 1, 2, 3, 5, 9, 2**63 - 2, 2**63 - 1]
    server.run(
        "CREATE TABLE kinds (id INTEGER PRIMARY KEY, code INTEGER UNIQUE)",
        "CREATE TABLE under (code INTEGER REFERENCES kinds (code) ON DELETE CASCADE, id INTEGER PRIMARY KEY)",
        *(
            f"INSERT INTO kinds VALUES ({key}, {place if place else 'NULL'})"
            for place, key in enumerate(keys)
        ),
        *(f"INSERT INTO under VALUES ({place}, {key})" for place, key in enumerate(keys) if place),
    )
    for options in ([], ["--dependents", "delete"]):
        check(
            yeldro,
            server,
            "SELECT * FROM kinds LEFT JOIN under USING (code) ORDER BY 1, 2",
            *options,
        )

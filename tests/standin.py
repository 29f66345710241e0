"""PostgreSQL in the place of servers that are not there: each statement of a script for one of them is transpiled, and
run on the same data.

What cannot be transpiled is written here: the words around the statements (variables, IF, WHILE, errors), the # of
SQL Server's temporary tables, Oracle's DUAL, and how a table is made of a query.
"""

from __future__ import annotations

from collections.abc import Sequence

import psycopg
import sqlglot
from sqlglot import exp

from tests.servers import Server
from yeldro.offline.script_entries import Change, Check, Entry, Fill, Finish, Make, Repeat


class Stopped(Exception):
    """A check failed, or a change touched another number of rows."""


class StandIn:
    def __init__(self, connection: psycopg.Connection, dialect: str) -> None:
        self.connection = connection
        self.dialect = dialect

    def send(self, text: str) -> psycopg.Cursor:
        text = text.removesuffix(" FROM DUAL")
        (written,) = sqlglot.transpile(
            text.replace("#yeldro", "yeldro"), read=self.dialect, write="postgres"
        )
        return self.connection.execute(written.encode())

    def number(self, query: str) -> int:
        row = self.send(query).fetchone()
        return int(row[0]) if row else 0

    def do(self, entry: Entry) -> None:
        match entry:
            case Make(name, query, _, lasting):
                (rows,) = sqlglot.transpile(query, read=self.dialect, write="postgres")
                kind = "TABLE" if lasting else "TEMP TABLE"
                place = sqlglot.parse_one(name.lstrip("#"), read=self.dialect, into=exp.Table)
                made = f"CREATE {kind} {place.sql('postgres')} AS {rows}"
                self.connection.execute(made.encode())
            case Fill(statement) | Finish(statement):
                self.send(statement)
            case Repeat(fills):
                while sum(self.send(fill.statement).rowcount for _, fill in fills):
                    pass
            case Change(statement, wanted, message):
                expected = self.number(wanted)
                if self.send(statement).rowcount != expected:
                    raise Stopped(message)
            case Check(wrong, message):
                if self.number(wrong):
                    raise Stopped(message)


def run_on_stand_in(server: Server, entries: Sequence[Entry], dialect: str) -> str:
    """Run a script in one transaction. Returns why it stopped, "" where it was committed."""
    with psycopg.connect(server.place) as connection:
        stand_in = StandIn(connection, dialect)
        try:
            for entry in entries:
                stand_in.do(entry)
            connection.commit()
        except (Stopped, psycopg.Error) as error:
            connection.rollback()
            return str(error) or type(error).__name__
    return ""

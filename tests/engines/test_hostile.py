"""Data, names, conditions and accounts of somebody else: what they are given must not reach further
than it says."""

from __future__ import annotations

import signal
import subprocess
import sys
import time
from pathlib import Path
from subprocess import PIPE
from urllib.parse import urlsplit

import pytest

from tests.conftest import Yeldro
from tests.engines.test_unseen import on, there_and_back
from tests.liars import Liar, lying
from tests.servers import Server
from yeldro.engines.mariadb import link as mariadb_link

# Whatever fits a column of one of these types better than what comes with the server.
HIJACKED = """
DO $$ DECLARE one record; kind text; BEGIN
  FOREACH kind IN ARRAY ARRAY['varchar', 'name', 'works.mood', 'works.short'] LOOP
    FOR one IN SELECT DISTINCT proname FROM pg_catalog.pg_proc WHERE pronamespace = 'pg_catalog'::regnamespace
        AND pronargs = 1 AND proname ~ '^(max|min|count|lower|length|octet|char_|btrim|md5|pg_get|quote|to_|abs)' LOOP
      BEGIN EXECUTE format('CREATE FUNCTION public.%I(%s) RETURNS text LANGUAGE plpgsql AS ''BEGIN RAISE
        ''''hijacked %s''''; END''', one.proname, kind, one.proname);
      EXCEPTION WHEN OTHERS THEN NULL; END;
    END LOOP;
    FOR one IN SELECT DISTINCT oprname, other FROM pg_catalog.pg_operator,
        unnest(ARRAY[kind, 'varchar', 'text', 'name']) AS other WHERE oprname IN
        ('=', '<>', '<', '>', '<=', '>=', '||', '~', '!~', '~~', '%', '+') LOOP
      BEGIN EXECUTE format('CREATE OPERATOR public.%s (LEFTARG = %s, RIGHTARG = %s, FUNCTION = public.hijack)',
        one.oprname, kind, one.other);
      EXCEPTION WHEN OTHERS THEN NULL; END;
    END LOOP;
  END LOOP;
END $$"""


@on("postgresql")
def test_nobody_elses_function_or_operator_is_called(
    yeldro: Yeldro, server: Server, tmp_path: Path
) -> None:
    """And what the person and the triggers wrote goes by the search path all the same, as do names
    of tables."""
    place = f"{server.place}?options=-csearch_path%3Dworks,public"
    server.run(
        "CREATE SCHEMA works",
        "CREATE TYPE works.mood AS ENUM ('dry', 'wet')",
        "CREATE DOMAIN works.short AS varchar(20)",
        "CREATE EXTENSION citext SCHEMA public",
        "CREATE TABLE works.duty (id varchar(20) PRIMARY KEY, mood works.mood, word works.short, mark citext UNIQUE)",
        "CREATE TABLE works.turn (id INT PRIMARY KEY, duty varchar(20) REFERENCES works.duty ON DELETE CASCADE,"
        " mark citext REFERENCES works.duty (mark) ON DELETE SET NULL)",
        "CREATE TABLE works.gone (id text)",
        "CREATE TABLE public.duty (id INT)",
        "CREATE FUNCTION works.log() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN INSERT INTO gone VALUES (OLD.id);"
        " RETURN OLD; END $$",
        "CREATE TRIGGER log AFTER DELETE ON works.duty FOR EACH ROW EXECUTE FUNCTION works.log()",
        "CREATE FUNCTION works.is_old(varchar) RETURNS bool IMMUTABLE LANGUAGE sql"
        " AS 'SELECT pg_catalog.starts_with($1, ''a'')'",
        "INSERT INTO works.duty VALUES ('a', 'dry', 'x', 'M'), ('b', 'wet', 'x', 'N'), ('c', 'dry', 'y', 'O')",
        "INSERT INTO works.turn VALUES (1, 'a', 'm'), (2, 'b', 'm'), (3, 'c', 'o'), (4, 'c', NULL)",
    )
    hijacks = "CREATE FUNCTION public.hijack({0}) RETURNS bool LANGUAGE plpgsql AS 'BEGIN RAISE ''hijacked''; END'"
    kinds = ["varchar", "text", "name", "works.mood", "works.short"]
    server.run([hijacks.format(f"{one}, {two}") for one in kinds for two in kinds])
    server.run("SET search_path = pg_catalog", HIJACKED)
    tables = ("works.duty", "works.turn")
    (tmp_path / "keys.csv").write_text("id\na\nz\n")
    for line in (
        "survey",
        "survey duty",
        "map duty",
        "duplicates turn --same duty --keep lowest,id",
        "duplicates duty --same word,mood --ignore case,space --keep fullest",
        "preview duty --not-found-in turn --on id=duty",
        "preview duty --order-by word,id --limit 1",
        "preview turn --orphans",
        "preview public.duty --all-rows",
    ):
        done = yeldro(*(part.replace("lowest,", "lowest ") for part in line.split()), "--db", place)
        assert done.status == 0, (line, done.err)
    for words in (
        ["delete", "duty", "--where", "is_old(id)"],
        ["delete", "duty", "--keys-from", "keys.csv"],
        ["dedupe", "duty", "--same", "word", "--keep", "newest mark", "--fill"],
    ):
        there_and_back(yeldro, Server("postgresql", place, '"'), tables, *words)
    for where in (
        "id = 'a'",
        "id IN ('a')",
        "id LIKE 'a'",
        "id BETWEEN 'a' AND 'b'",
        "is_old(max(id))",
    ):
        done = yeldro("preview", "duty", "--where", where, "--db", place)
        assert (done.status, "hijack does" in done.err or "max does" in done.err) == (2, True), (
            where,
            done.err,
        )
    assert server.query("SELECT count(*) FROM works.gone") == [(3,)]
    with pytest.raises(Exception, match="hijacked"):  # the trap is set: a bare name falls into it
        server.run("SELECT max(id) FROM works.duty")


MADE = {
    "postgresql": [
        "CREATE TABLE weirs (id INT PRIMARY KEY, name varchar(20))",
        "INSERT INTO weirs VALUES (1, 'a'), (2, 'b')",
        "CREATE FUNCTION stale(text) RETURNS bool LANGUAGE sql AS 'SELECT true'",
        "CREATE FUNCTION hides(text) RETURNS bool IMMUTABLE LANGUAGE plpgsql AS $$ BEGIN"
        " PERFORM lo_from_bytea(0, 'x'); RETURN true; END $$",
        "CREATE FUNCTION makes(text) RETURNS bool STABLE LANGUAGE plpgsql AS $$ BEGIN EXECUTE $1; RETURN true; END $$",
        "CREATE FUNCTION row_of(weirs) RETURNS bool LANGUAGE sql AS 'SELECT true'",
        "CREATE FUNCTION plain(text) RETURNS bool IMMUTABLE LANGUAGE sql AS $$ SELECT length($1) > 0 $$",
        "CREATE FUNCTION texts(text, text) RETURNS bool LANGUAGE sql AS 'SELECT true'",
        "CREATE FUNCTION stalest_step(text, text) RETURNS text LANGUAGE sql AS 'SELECT $1'",
        "CREATE OPERATOR @@@ (LEFTARG = text, RIGHTARG = text, FUNCTION = public.texts)",
        "CREATE VIEW seen AS SELECT id FROM weirs WHERE stale(name)",
        "CREATE AGGREGATE stalest (text) (SFUNC = stalest_step, STYPE = text)",
    ],
    "mariadb": [
        "CREATE TABLE weirs (id INT PRIMARY KEY, name varchar(20))",
        "INSERT INTO weirs VALUES (1, 'a'), (2, 'b')",
        "CREATE FUNCTION stale(t TEXT) RETURNS INT RETURN SLEEP(0)",
        "CREATE FUNCTION hides(t TEXT) RETURNS INT RETURN stale(t)",
        "CREATE FUNCTION plain(t TEXT) RETURNS INT RETURN LENGTH(t) > 0",
        "CREATE VIEW seen AS SELECT id FROM weirs WHERE stale(name)",
    ],
}
CALLS = {
    "postgresql": [
        *(
            "dblink_send_query('x', 'y') > 0",
            "query_to_xml('DELETE FROM weirs', true, true, '') IS NULL",
        ),
        *(
            "lo_from_bytea(0, 'x') > 0",
            "lo_get(1) IS NULL",
            "pg_read_binary_file('x') IS NULL",
            "pg_sleep(0) IS NULL",
        ),
        *(
            "id IN (SELECT 1 FROM pg_ls_dir('.'))",
            "pg_logical_emit_message(true, 'x', 'y') IS NULL",
        ),
        *(
            "pg_create_restore_point('x') IS NULL",
            "pg_advisory_lock(1) IS NULL",
            '"pg_advisory_lock" (1) IS NULL',
        ),
        *("stale(name)", "hides(name)", "makes('SELECT 1')", "name @@@ 'x'", "public.stale(name)"),
        *(
            "id IN (SELECT id FROM seen)",
            "name = (SELECT stalest(name) FROM weirs)",
            "pg_catalog.setseed(0) IS NULL",
        ),
        "id IN (SELECT 1 FROM weirs AS w WHERE w.row_of)",
        'id IN (SELECT U&"p\\0067_sleep"(0))',
    ],
    "mariadb": [
        *(
            "SLEEP(0) = 0",
            "GET_LOCK('x', 0) = 1",
            "LOAD_FILE('x') IS NULL",
            "BENCHMARK(1, 1) = 0",
            "stale(name) = 0",
        ),
        *(
            "hides(name) = 0",
            "id IN (SELECT id FROM seen)",
            "RELEASE_ALL_LOCKS() = 0",
            "sys_exec('x') = 0",
        ),
    ],
}


@on(*CALLS)
def test_a_condition_only_looks(yeldro: Yeldro, server: Server) -> None:
    if server.engine == "postgresql":
        server.run("CREATE EXTENSION dblink")
    server.run(MADE[server.engine])
    for call in CALLS[server.engine]:
        line = ("preview", "weirs", "--where", call, "--unparsed", "--db", server.place)
        looked = yeldro(*line)
        assert (looked.status, "only look" in looked.err or "plainly" in looked.err) == (2, True), (
            call,
            looked.err,
        )
        if call.startswith(("stale", "hides", "name @", "id IN (SELECT id")):
            name = looked.err.partition("--allow-function ")[2].partition(".")[0]
            allowed = yeldro(*line, "--allow-function", name)
            assert allowed.status in (0, 3), (call, allowed.err)
            assert "Next" not in allowed.out or f"--allow-function {name}" in allowed.out
    for fine in ("coalesce(name, '') <> 'sleep(1)' AND id = 1", "plain(name) AND id IN (1)"):
        done = yeldro("preview", "weirs", "--where", fine, "--db", server.place)
        assert done.status == 0, done.err


@on("postgresql")
def test_a_preview_leaves_nothing_behind(yeldro: Yeldro, server: Server) -> None:
    """Not even what a transaction that cannot write may leave, when the person allows it."""
    server.run(MADE["postgresql"][:2])
    before = server.query("SELECT oid FROM pg_largeobject_metadata")
    line = (
        "weirs",
        "--where",
        "id > 1 AND lo_from_bytea(0, 'x') > 0",
        "--allow-function",
        "lo_from_bytea",
    )
    assert yeldro("preview", *line, "--db", server.place).status in (0, 2, 5)
    assert yeldro("delete", *line, "--rehearse", "--db", server.place).status in (0, 2, 3, 5)
    assert server.query("SELECT oid FROM pg_largeobject_metadata") == before


def before(server: Server) -> tuple[str, int]:
    url = urlsplit(server.place)
    return str(url.hostname), int(url.port or 0)


def through(server: Server, liar: Liar, login: str = "") -> str:
    """The same database, through a server that lies."""
    url = urlsplit(server.place)
    return f"{url.scheme}://{login or url.username}@127.0.0.1:{liar.port}{url.path}"


ANSWERS = [*range(1, 12), 15, 20, 30, 45]


@on("postgresql", "mariadb")
@pytest.mark.parametrize("trick", ["cut", "noise"])
def test_a_server_that_breaks_off_or_talks_nonsense_is_told(
    yeldro: Yeldro, server: Server, trick: str
) -> None:
    server.run(MADE["postgresql"][:2])
    for at in ANSWERS:
        for line in (["survey"], ["delete", "weirs", "--key", "1", "--yes"]):
            with lying(before(server), trick, at) as liar:
                done = yeldro(*line, "--db", through(server, liar), "--wait", "2")
            assert done.status in (0, 5), (at, line, done.out, done.err)
            assert "Traceback" not in done.err


@on("postgresql", "mariadb")
@pytest.mark.parametrize("trick", ["silent", "drip"])
def test_logging_in_ends_in_time(yeldro: Yeldro, server: Server, trick: str) -> None:
    for at in (1, 2):
        with lying(before(server), trick, at) as liar:
            began = time.monotonic()
            done = yeldro("survey", "--db", through(server, liar), "--wait", "1")
        assert (done.status, time.monotonic() - began < 6) == (5, True), (at, done.err)


def heed() -> None:
    """The workers that run tests side by side ignore interrupts, and so would what they start."""
    signal.signal(signal.SIGINT, signal.SIG_DFL)


TALK = [("postgresql", "silent"), ("postgresql", "notices"), ("mariadb", "silent")]


@pytest.mark.parametrize(("any_server", "trick"), TALK, indirect=["any_server"])
def test_an_interrupt_ends_everything_at_once(server: Server, tmp_path: Path, trick: str) -> None:
    server.run(MADE["postgresql"][:2])
    with lying(before(server), trick, 12) as liar:
        command = [sys.executable, "-m", "yeldro", "survey", "--db", through(server, liar)]
        asked = subprocess.Popen(command, cwd=tmp_path, stdout=PIPE, stderr=PIPE, preexec_fn=heed)
        assert liar.playing.wait(60)
        time.sleep(0.5)
        assert asked.poll() is None
        asked.send_signal(signal.SIGINT)
        _, told = asked.communicate(timeout=15)
    assert (asked.returncode, b"Interrupted" in told) == (130, True), told


@on("mariadb")
def test_a_server_gets_neither_files_nor_a_password_in_clear(
    yeldro: Yeldro, server: Server, monkeypatch: pytest.MonkeyPatch
) -> None:
    for at in (4, 8, 15):
        with lying(before(server), "file", at) as liar:
            done = yeldro("survey", "--db", through(server, liar), "--wait", "2")
        assert done.status == 5, done.err
        assert Path("/etc/hostname").read_bytes().strip() not in liar.told
    monkeypatch.setattr(
        mariadb_link, "_is_local", lambda host: host != "127.0.0.1"
    )  # as if it were elsewhere
    with lying(before(server), "clear", 2) as liar:
        done = yeldro("survey", "--db", through(server, liar, "root:s3cr3t"), "--wait", "2")
    assert (done.status, "clear text" in done.err, b"s3cr3t" in liar.told) == (5, True, False), (
        done.err
    )

"""Files, names and texts of somebody else, on the demo database: what they may steer, show, write
or take."""

from __future__ import annotations

import json
import os
import sqlite3
import time
from pathlib import Path

import pytest
from msgspec.structs import replace

from tests.conftest import Yeldro
from yeldro.core.model.address import read_address
from yeldro.errors import UsageError

SECRET = "s3cr3t"
# Ways to write an address with a password, and what may be shown of it; None where it cannot be
# right.
ADDRESSES = [
    *((f"{scheme}://u:{SECRET}@h/d", f"{scheme}://u@h/d") for scheme in ("postgresql", "postgres", "mariadb", "mysql")
     ),
    (f"POSTGRESQL://u:{SECRET}@h/d", "postgresql://u@h/d"),
    (f"postgresql://u:{SECRET}@h:5433/d", "postgresql://u@h:5433/d"),
    (f"postgresql://u:a@{SECRET}@h/d", "postgresql://u@h/d"),
    (f"postgresql://u:a:{SECRET}@h/d", "postgresql://u@h/d"),
    (f"postgresql://u:%40{SECRET}%2F@h/d", "postgresql://u@h/d"),
    (f"postgresql://u:{SECRET}@[::1]:5432/d", "postgresql://u@[::1]:5432/d"),
    (f"postgresql://u:{SECRET}@/d?host=/run/pg", "postgresql://u@/d?host=/run/pg"),
    (f"postgresql://:{SECRET}@h/d", "postgresql://h/d"),
    (f"postgresql://u@h/d?password={SECRET}", "postgresql://u@h/d"),
    (f"postgresql://u@h/d?sslmode=require&sslpassword={SECRET}", "postgresql://u@h/d?sslmode=require"),
    (f"postgresql://h/d?user=u&password={SECRET}&options=-cx%3Dy", "postgresql://h/d?user=u&options=-cx%3Dy"),
    (f"mariadb://u@h/d?passwd={SECRET}", "mariadb://u@h/d"),
    (f"mariadb://u:{SECRET}@h/d?unix_socket=/run/m.sock", "mariadb://u@h/d?unix_socket=/run/m.sock"),
    (f"postgresql://u:{SECRET}@h/d%20e", "postgresql://u@h/d%20e"),
    *((f"{start}u:{SECRET}@h/d", None) for start in ("postgresql:/", "postgresql:", "postgres:/", "mysql:/", "sqlite:"
     , "")),
    *((f"{start}://u:{SECRET}@h/d", None) for start in ("pg", "oracle", "sqlite", "http", SECRET, f"u:{SECRET}@x")),
    (f"postgresql://u:a/{SECRET}@h/d", None),
    (f"postgresql://u:a?{SECRET}@h/d", None),
    (f"postgresql://u:a#{SECRET}@h/d", None),
    (f"postgresql://u:{SECRET}@h:port/d", None),
    (f"postgresql://u:{SECRET}@h:123456/d", None),
    (f"postgresql://u:{SECRET}@[::1/d", None),
    (f"postgresql://u:{SECRET}@h", None),
    (f"postgresql://u:{SECRET}@h/", None),
    (f"mariadb://u:{SECRET}@h", None),
    (f"mariadb://u:{SECRET}@h/d?local_infile=1", None),
    (f"postgresql://u@h/d?passfile={SECRET}", None),
    (f"postgresql://u@h/d?{SECRET}=1", None),
]  # fmt: skip


@pytest.mark.parametrize(("written", "shown"), ADDRESSES)
def test_an_address_never_shows_its_password(
    yeldro: Yeldro, tmp_path: Path, written: str, shown: str | None
) -> None:
    if shown is None:
        with pytest.raises(UsageError) as error:
            read_address(written)
        told = error.value.message + error.value.hint
    else:
        address = read_address(written)
        told = f"{address} {address!r} {[address]}"
        assert str(address) == shown
        assert SECRET in "".join(address.secrets.values())
        assert read_address(shown) == replace(address, secrets={})
    assert SECRET not in told
    # A host of this name does not exist, and the scheme's own driver must not tell either.
    done = yeldro("survey", "--db", written.replace("@h", "@h.invalid"), "--wait", "1")
    assert (done.status in (0, 2, 5), SECRET in done.out + done.err) == (True, False), done.err
    (tmp_path / "one.toml").write_text(
        f'database = "{written}"\n[[steps]]\nname = "s"\ndelete = "t"\nkey = "1"\n'
    )
    (tmp_path / "gone.db").touch()
    for line in (
        ["run", "one.toml", "--explain"],
        ["survey", written, "--db", "gone.db"],
        [written],
    ):
        wrong = yeldro(*line)
        told = (wrong.out + wrong.err).replace(f"{SECRET}://", "")
        assert SECRET not in told or (
            line[0] != "run" and written.endswith((f"file={SECRET}", f"{SECRET}=1"))
        ), line
    run = yeldro("run", "one.toml", "--yes", "--log", "log")
    assert (run.status, SECRET in run.out + run.err + (tmp_path / "log").read_text()) == (
        2,
        False,
    ), run.err


@pytest.mark.usefixtures("gauges")
def test_a_file_elsewhere_redirects_nothing(yeldro: Yeldro, tmp_path: Path) -> None:
    """Neither a path nor a URL is looked up as a name, and a name that is a file too is nobody's
    guess."""
    for name in ("mine.db", "postgresql://u@h/d"):
        (tmp_path / "yeldro.toml").write_text(
            f'[databases."{name}"]\nurl = "sqlite:///gauges.db"\n'
        )
        done = yeldro("survey", "--db", name)
        assert (done.status, "no path is taken for it" in done.err) == (2, True), done.err
    (tmp_path / "yeldro.toml").write_text('[databases.mine]\nurl = "sqlite:///gauges.db"\n')
    assert yeldro("survey", "--db", "mine").out.startswith("mine (gauges.db): 12 tables")
    (tmp_path / "mine").touch()
    assert "a file here and a name" in yeldro("survey", "--db", "mine").err
    assert yeldro("survey", "--db", "./mine").out.startswith("./mine: 0 tables")


@pytest.mark.parametrize("what", ["yeldro.toml", "yeldro-runs"])
@pytest.mark.parametrize(
    ("mode", "owner", "said"),
    [(0o777, 0, "others may"), (0o775, 9, "its group"), (0o755, 65534, "")],
)
def test_what_others_could_have_written_is_not_used(
    yeldro: Yeldro, gauges: Path, what: str, mode: int, owner: int, said: str
) -> None:
    path = gauges.parent / what
    line = ["history"] if what == "yeldro-runs" else ["survey"]
    if what == "yeldro-runs":
        assert yeldro("delete", "readings", "--key", "1", "--yes").status == 0
    assert yeldro(*line).status == 0
    path.chmod(mode)
    if os.geteuid() == 0:
        os.chown(path, owner if owner == 65534 else 0, owner)
    elif owner:
        pytest.skip("only an administrator can give files away")
    done = yeldro(*line)
    assert (done.status, said or "another user") == (2, said or "another user"), done.err
    assert (said or "another user") in done.err


HOSTILE = [
    *(
        "\x1b[31m",
        "\x1b]0;title\x07",
        "\x9b31m",
        "\x07",
        "\x08",
        "\r",
        "\x7f",
        "\x85",
        "\u202e",
        "\u2066",
        "\u200b",
    ),
    *("\u2060", "\ufeff", "\u2028", "\u3164"),
]


@pytest.mark.parametrize("text", HOSTILE, ids=ascii)
def test_nothing_steers_the_terminal(
    yeldro: Yeldro, gauges: Path, tmp_path: Path, text: str
) -> None:
    """As a name of a table and its parts, a value, a file and what stands in one, an option, and a
    server's word."""
    name = f"x{text}y"
    quoted = '"' + name.replace('"', '""') + '"'
    with sqlite3.connect(gauges) as file:
        file.execute(f"CREATE TABLE {quoted} ({quoted} INTEGER PRIMARY KEY, b REFERENCES {quoted})")
        file.execute(f"CREATE TABLE other (id INTEGER PRIMARY KEY, {quoted} TEXT DEFAULT '{text}')")
        file.execute(
            f"CREATE TRIGGER {quoted[:-1]}z\" AFTER DELETE ON other BEGIN SELECT RAISE(FAIL, '{text}'); END"
        )
        file.execute("INSERT INTO other VALUES (1, ?), (2, 'b'), (3, ?)", (name, name))
        file.execute(f"INSERT INTO {quoted} VALUES (1, NULL), (2, 1)")
    file.close()
    called, told = json.dumps(name), json.dumps(f"a\n{text}\nb")
    steps = f'[[steps]]\nname = {called}\ndelete = {called}\nkey = "1"\n'
    (tmp_path / "c.toml").write_text(f"title = {called}\ndescription = {told}\n{steps}")
    (tmp_path / "bad.toml").write_text(f"{called} = 1\n{steps}")
    (tmp_path / "keys.csv").write_text(f"{name.replace(chr(13), '')},id\n1,{text}\n")
    lines = [
        "survey",
        "survey NAME other",
        "map",
        "preview NAME --key 1 --dependents delete",
        "preview NAMEq --key NAME",
    ]
    lines += [
        "preview other --keys-from keys.csv",
        "delete other --key 1 --yes",
        "delete NAME --key 2 --yes",
        "history NAME",
    ]
    lines += [
        "duplicates other --same QUOTED --keep lowest_id",
        "run c.toml --explain",
        "run c.toml --rehearse --log log",
    ]
    lines += [
        "run bad.toml --yes",
        "run NAME.toml --yes --log log",
        "history",
        "script c.toml --format json",
        "NAME",
    ]
    lines += [
        "preview other --where id<3 --format json",
        "survey --db NAME",
        "preview other --where id<3_AND_'TEXT'<>'q'",
    ]
    lines += ["preview other --where nothing='TEXT'"]
    for words in lines:
        line = [word.replace("_", " ") for word in words.split()]
        line = [
            word.replace("NAME", name).replace("QUOTED", quoted).replace("TEXT", text)
            for word in line
        ]
        done = yeldro(*line)
        told = done.out + done.err
        assert text not in told.replace("\r\n", "\n"), (line, told)
        assert "Something unexpected" not in done.err, (line, done.err)
    assert text not in (tmp_path / "log").read_text()
    found = yeldro("preview", "other", "--where", "id < 3", "--format", "json").document
    assert name in found["sample"][0].values()  # exact all the same


@pytest.mark.usefixtures("gauges")
def test_a_description_cannot_pass_for_what_the_file_does(yeldro: Yeldro, tmp_path: Path) -> None:
    (tmp_path / "c.toml").write_text(
        'title = "t\\nStep 1, none"\ndescription = """Fine.\\n\\nStep 1, looks only\\n  It deletes nothing."""\n'
        '[[steps]]\nname = "s"\ndelete = "readings"\nkey = "1"\n'
    )
    lines = yeldro("run", "c.toml", "--explain").out.splitlines()
    assert [line for line in lines if line.startswith("Step 1")] == ["Step 1, s"]
    assert [line for line in lines if "deletes nothing" in line] == ["  |   It deletes nothing."]


@pytest.mark.usefixtures("gauges")
def test_what_is_written_is_private_and_follows_no_link(yeldro: Yeldro, tmp_path: Path) -> None:
    """A log cannot be added to through a link, a saved file takes the place of one, and a name
    makes no second line."""
    target = tmp_path / "target"
    target.write_text("as it was")
    for link in ("log", "c.toml", "c.seal"):
        (tmp_path / link).symlink_to(target)
    line = ("readings", "--key", "1")
    assert yeldro("preview", *line, "--save", "c.toml", "--replace", "--seal").status in (0, 2)
    (tmp_path / "c.toml").unlink()
    assert yeldro("preview", *line, "--save", "c.toml", "--seal").status == 0
    assert yeldro("run", "c.toml", "--rehearse", "--log", "log").status == 2
    (tmp_path / "log").unlink()
    assert yeldro("run", "c.toml", "--yes", "--log", "log").status == 0
    assert yeldro("run", "no\nINFO run c.toml: committed.toml", "--yes", "--log", "log").status == 2
    assert target.read_text() == "as it was"
    assert len((tmp_path / "log").read_text().splitlines()) == 2
    made = [
        tmp_path / "log",
        tmp_path / "c.toml",
        tmp_path / "c.seal",
        *tmp_path.glob("yeldro-runs/*/*"),
    ]
    assert {oct(path.stat().st_mode & 0o777) for path in made} == {"0o600"}
    assert not list(tmp_path.glob(".*new*"))


def test_json_is_json(yeldro: Yeldro, tmp_path: Path) -> None:
    with sqlite3.connect(tmp_path / "g.db") as file:
        file.execute("CREATE TABLE weirs (id INTEGER PRIMARY KEY, depth REAL, name TEXT)")
        file.execute(
            "INSERT INTO weirs VALUES (1, 9e999, 'a'), (2, -9e999, CAST(x'eda080' AS TEXT)), (3, 0.5, 'c')"
        )
    file.close()
    for line in (
        ["preview", "weirs", "--where", "id < 3"],
        ["survey", "weirs"],
        ["duplicates", "weirs", "--same", "name"],
    ):
        out = yeldro(*line, "--db", "g.db", "--format", "json").out
        assert not any("\ud800" <= sign <= "\udfff" for sign in out)
        json.loads(out, parse_constant=lambda word: pytest.fail(f"a bare {word}"))


DEEP = "[" * 3000
BURSTS = [
    # what is asked, a file that it names and what is in it, what is said
    (["preview", "readings", "--where", " OR ".join(["id = 1"] * 5000)], "", "", "too many parts"),
    (
        ["preview", "readings", "--where", "(" * 3000 + "id = 1" + ")" * 3000],
        "",
        "",
        "brackets within brackets",
    ),
    (["preview", "readings", "--where", "id = :n", "-p", f"n={'9' * 10000}"], "", "", "n"),
    (["preview", "readings", "--where", f"id = {'9' * 10000}"], "", "", ""),
    (["preview", "readings", "--order-by", "id", "--limit", "9" * 30], "", "", "--limit"),
    (["preview", "readings", "--key", "1\n2"], "", "", "CSV"),
    (["preview", "readings", "--key", "9" * 30], "", "", ""),
    (["preview", "readings", "--keys-from", "/dev/zero"], "", "", "device"),
    (["preview", "readings", "--keys-from", "k"], "k", "id\n" + "1" * 3_000_000, "longer than"),
    (["preview", "readings", "--keys-from", "k"], "k", 'id\n"' + "1\n" * 300_000, "not CSV"),
    (["run", "c.toml", "--yes"], "c.toml", f"x = {DEEP}{']' * 3000}", "deeply"),
    (["run", "c.toml", "--yes"], "c.toml", f"x = {'9' * 10000}", "too long"),
    (["run", "c.toml", "--yes"], "c.toml", "[" + " " * 20000 + "x", "TOML"),
    (["run", "c.toml", "--yes"], "c.toml", f"x = 1\n[{' ' * 20000}y{' ' * 20000}]\n", "fault"),
    (["survey"], "yeldro.toml", f"x = {DEEP}", "cannot be read"),
    (["history", "r"], "r/run.json", DEEP, "no run record"),
]


@pytest.mark.usefixtures("gauges")
@pytest.mark.parametrize(("line", "file", "text", "said"), BURSTS, ids=range(len(BURSTS)))
def test_too_much_of_anything_is_a_clear_error(
    yeldro: Yeldro, tmp_path: Path, line: list[str], file: str, text: str, said: str
) -> None:
    if file:
        (tmp_path / file).parent.mkdir(exist_ok=True)
        (tmp_path / file).write_text(text)
    began = time.monotonic()
    done = yeldro(*line)
    assert (done.status in (0, 2, 5), said in done.err) == (True, True), done.err[:500]
    assert "unexpected" not in done.err
    assert time.monotonic() - began < 5
    assert len(done.out + done.err) < 60_000


@pytest.mark.usefixtures("gauges")
def test_an_archive_of_somebody_else(yeldro: Yeldro, tmp_path: Path) -> None:
    """A view without an end in place of a table, and bytes that were changed."""
    assert yeldro("delete", "readings", "--key", "1", "--yes").status == 0
    (path,) = tmp_path.glob("yeldro-runs/*/rows.sqlite")
    whole = path.read_bytes()
    endless = "WITH RECURSIVE n (i) AS (SELECT 1 UNION ALL SELECT i + 1 FROM n LIMIT 3000000)"  # all but endless
    for table in ("yeldro_archive", "yeldro_portions", "yeldro_columns", "readings"):
        with sqlite3.connect(path) as file:
            names = [
                row[0] for row in file.execute(f"SELECT name FROM pragma_table_info('{table}')")
            ]
            file.execute(f"ALTER TABLE {table} RENAME TO aside")
            file.execute(
                f"CREATE VIEW {table} AS {endless} SELECT {', '.join(f'i AS {name}' for name in names)} FROM n"
            )
        file.close()
        began = time.monotonic()
        assert yeldro("restore", "last", "--yes").status == 3
        done = yeldro("restore", "last", "--yes", "--even-if-altered")
        assert (done.status, "damaged" in done.err, time.monotonic() - began < 2) == (
            5,
            True,
            True,
        ), (table, done.err)
        path.write_bytes(whole)
    path.write_bytes(whole[:5000] + b"\xff" * 200 + whole[5200:])
    assert yeldro("restore", "last", "--yes").status in (0, 3, 5)

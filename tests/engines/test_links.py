"""How servers are reached: TLS with certificates of the test's own making, and poolers that stand
between."""

from __future__ import annotations

import os
import pwd
import shutil
import socket
import subprocess
import tempfile
import time
from collections.abc import Iterator
from contextlib import closing, contextmanager
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import pytest

from tests.conftest import Yeldro
from tests.engines.test_accounts import TABLES, compare
from tests.engines.test_unseen import on
from tests.servers import Server
from yeldro.core.database.abilities import Mode
from yeldro.core.model.address import Link
from yeldro.engines.open import open_database
from yeldro.errors import DatabaseFailed

PROGRAMS = Path("/usr/lib/postgresql")


def find(name: str) -> str:
    """A server's program, wherever the system keeps it; the test is skipped where it has none."""
    found = shutil.which(
        name, path=os.pathsep.join([os.environ["PATH"], "/usr/sbin", "/usr/local/sbin"])
    )
    for path in sorted(PROGRAMS.glob(f"*/bin/{name}"), reverse=True):
        found = found or str(path)
    return found or pytest.skip(f"{name} is not installed on this machine")


def free_port() -> int:
    with socket.create_server(("127.0.0.1", 0)) as found:
        return int(found.getsockname()[1])


@contextmanager
def running(
    command: list[str], user: str, folder: Path, port: int, ready: str = ""
) -> Iterator[None]:
    """A server of the test's own, under another account than the administrator's, which servers
    refuse. It listens before it lets anybody in: `ready` is what its log says then."""
    with (folder / "log").open("wb") as log:
        server = subprocess.Popen(as_user(user, command), stdout=log, stderr=log)
    try:
        for _ in range(200):
            assert server.poll() is None, (folder / "log").read_text()
            with socket.socket() as tried:
                listens = tried.connect_ex(("127.0.0.1", port)) == 0
            if listens and ready in (folder / "log").read_text(errors="replace"):
                break
            time.sleep(0.1)
        yield
    finally:
        server.terminate()
        server.wait(20)


def as_user(user: str, command: list[str]) -> list[str]:
    return ["runuser", "-u", user, "--", *command] if os.geteuid() == 0 else command


@pytest.fixture(scope="module")
def place() -> Iterator[Path]:
    """A folder that other accounts can reach."""
    folder = Path(tempfile.mkdtemp(prefix="yeldro-test-"))
    folder.chmod(0o755)
    yield folder
    shutil.rmtree(folder)


def own(folder: Path, user: str) -> Path:
    folder.mkdir()
    if os.geteuid() == 0:
        entry = pwd.getpwnam(user)
        os.chown(folder, entry.pw_uid, entry.pw_gid)
    return folder


def certify(folder: Path) -> None:
    """Two authorities, and a server and a client that the first of them vouches for. The server is
    localhost."""

    def run(*arguments: str) -> None:
        subprocess.run([find("openssl"), *arguments], cwd=folder, check=True, capture_output=True)

    for name in ("ca", "other"):
        run(
            *(
                "req",
                "-x509",
                "-newkey",
                "rsa:2048",
                "-nodes",
                "-subj",
                f"/CN=larkwater {name}",
                "-days",
                "2",
            ),
            *("-addext", "keyUsage=critical,keyCertSign,cRLSign"),
            *("-keyout", f"{name}.key", "-out", f"{name}.pem"),
        )
    for name in ("server", "client"):
        (folder / f"{name}.ext").write_text("subjectAltName = DNS:localhost\n")
        run(
            "req",
            "-newkey",
            "rsa:2048",
            "-nodes",
            "-subj",
            "/CN=localhost",
            "-keyout",
            f"{name}.key",
            "-out",
            "csr",
        )
        signed = (
            "-CA",
            "ca.pem",
            "-CAkey",
            "ca.key",
            "-CAcreateserial",
            "-days",
            "2",
            "-extfile",
            f"{name}.ext",
        )
        run("x509", "-req", "-in", "csr", *signed, "-out", f"{name}.pem")


@pytest.fixture(scope="module", params=["postgresql", "mariadb"])
def secured(request: pytest.FixtureRequest, place: Path) -> Iterator[tuple[str, int, Path]]:
    """A server that offers TLS: its engine, its port, and the folder of the certificates."""
    engine = request.param
    user = "postgres" if engine == "postgresql" else "mysql"
    folder, port = own(place / engine, user), free_port()
    certify(folder)
    for path in folder.iterdir():
        shutil.chown(path, user)
        path.chmod(0o600 if path.name == "server.key" else 0o644)
    data = folder / "data"
    if engine == "postgresql":
        made = [find("initdb"), "-D", str(data), "-A", "trust", "-U", "postgres", "--no-sync"]
        subprocess.run(as_user(user, made), check=True, capture_output=True, cwd=folder)
        command = [
            find("postgres"),
            "-D",
            str(data),
            "-p",
            str(port),
            "-c",
            f"unix_socket_directories={folder}",
        ]
        for name, value in (
            ("ssl", "on"),
            ("ssl_cert_file", folder / "server.pem"),
            ("ssl_key_file", folder / "server.key"),
        ):
            command += ["-c", f"{name}={value}"]
    else:
        made = [
            find("mariadb-install-db"),
            f"--datadir={data}",
            "--auth-root-authentication-method=normal",
        ]
        subprocess.run(
            as_user(user, [*made, "--skip-test-db"]), check=True, capture_output=True, cwd=folder
        )
        command = [
            find("mariadbd"),
            "--no-defaults",
            f"--datadir={data}",
            f"--port={port}",
            f"--socket={folder}/m.sock",
        ]
        command += [
            "--bind-address=127.0.0.1",
            f"--pid-file={folder}/pid",
            f"--ssl-ca={folder}/ca.pem",
        ]
        command += [f"--ssl-cert={folder}/server.pem", f"--ssl-key={folder}/server.key"]
    with running(command, user, folder, port, "ready "):
        yield engine, port, folder


LINKS = [
    # tls, authority, host, whether it is encrypted, or what is said
    ("", "", "127.0.0.1", True),
    ("off", "", "127.0.0.1", False),
    ("prefer", "", "127.0.0.1", True),
    ("require", "", "127.0.0.1", True),
    ("verify", "ca.pem", "localhost", True),
    ("verify", "ca.pem", "127.0.0.1", "certificate"),
    ("verify", "other.pem", "localhost", "certificate"),
]


@pytest.mark.parametrize(("tls", "authority", "host", "wanted"), LINKS, ids=str)
def test_tls(
    yeldro: Yeldro,
    secured: tuple[str, int, Path],
    tmp_path: Path,
    tls: str,
    authority: str,
    host: str,
    wanted: bool | str,
) -> None:
    engine, port, folder = secured
    name, account = ("postgres", "postgres") if engine == "postgresql" else ("mysql", "root")
    url = f"{engine}://{account}@{host}:{port}/{name}"
    given: dict[str, Any] = {"tls": tls, "tls_ca": str(folder / authority) if authority else ""}
    lines = [f'url = "{url}"', *(f'{key} = "{value}"' for key, value in given.items() if value)]
    (tmp_path / "yeldro.toml").write_text("[databases.far]\n" + "\n".join(lines))
    done = yeldro("preview", "nothing", "--all-rows", "--db", "far")
    if isinstance(wanted, str):
        assert (done.status, wanted in done.err) == (5, True), done.err
        return
    assert "There is no table" in done.err, done.err
    database = open_database(url, Mode.READ, 5, None, Link(**given))
    query = "SELECT ssl FROM pg_stat_ssl WHERE pid = pg_backend_pid()"
    if engine == "mariadb":
        query = "SELECT VARIABLE_VALUE <> '' FROM information_schema.SESSION_STATUS WHERE VARIABLE_NAME = 'SSL_CIPHER'"
    assert bool(database.gate.read(query)[0][0]) is wanted  # type: ignore[attr-defined]  # an engine has one
    database.close()


def test_a_client_with_a_certificate_of_its_own(secured: tuple[str, int, Path]) -> None:
    engine, port, folder = secured
    files: dict[str, Any] = {
        "tls_cert": str(folder / "client.pem"),
        "tls_key": str(folder / "client.key"),
    }
    if engine == "postgresql":
        (folder / "client.key").chmod(0o600)
        shutil.chown(folder / "client.key", os.geteuid())
        link = Link("require", **files)
        open_database(
            f"postgresql://postgres@127.0.0.1:{port}/postgres", Mode.READ, 5, None, link
        ).close()
        return
    admin = open_database(f"mariadb://root@127.0.0.1:{port}/mysql", Mode.WRITE, 5)
    for statement in ("CREATE USER far REQUIRE X509", "GRANT SELECT ON mysql.* TO far"):
        admin.gate.run_text(statement)  # type: ignore[attr-defined]  # an engine has one
    admin.close()
    url = f"mariadb://far@127.0.0.1:{port}/mysql"
    with pytest.raises(DatabaseFailed, match="Access denied"):
        open_database(url, Mode.READ, 5, None, Link("require"))
    open_database(url, Mode.READ, 5, None, Link("require", **files)).close()


@on("mariadb")
def test_a_server_without_tls(server: Server) -> None:
    for tls in ("require", "verify"):
        with pytest.raises(DatabaseFailed, match=r"(?i)ssl"):
            open_database(server.place, Mode.READ, 5, None, Link(tls))
    open_database(server.place, Mode.READ, 5, None, Link("prefer")).close()


@pytest.mark.parametrize("secured", ["postgresql"], indirect=True)
def test_a_standby(
    yeldro: Yeldro, secured: tuple[str, int, Path], place: Path, tmp_path: Path
) -> None:
    """It can be looked at, and nothing else."""
    _, port, _ = secured
    folder, other = own(place / "standby", "postgres"), free_port()
    primary = Server("postgresql", f"postgresql://postgres@127.0.0.1:{port}/gauges", '"')
    Server("postgresql", f"postgresql://postgres@127.0.0.1:{port}/postgres", '"').run(
        "CREATE DATABASE gauges"
    )
    primary.run(TABLES)
    (tmp_path / "s.sql").write_text(
        "DELETE FROM weirs WHERE id < 3; DELETE FROM gates WHERE note = 'n'"
    )
    copy = [find("pg_basebackup"), "-R", "-h", "127.0.0.1", "-p", str(port), "-U", "postgres"]
    copy += ["-c", "fast", "--no-sync", "-D", str(folder / "data")]
    subprocess.run(as_user("postgres", copy), check=True, capture_output=True, cwd=folder)
    command = [
        find("postgres"),
        "-D",
        str(folder / "data"),
        "-p",
        str(other),
        "-c",
        f"unix_socket_directories={folder}",
    ]
    with running(command, "postgres", folder, other, "ready to accept"):
        standby = primary.place.replace(str(port), str(other))
        compare(yeldro, standby, primary.place)
        done = yeldro("delete", "weirs", "--key", "1", "--yes", "--db", standby)
    assert (done.status, "It is a standby" in done.err) == (5, True), done.err


@on("mariadb")
def test_a_proxy_that_hands_the_session_on(server: Server, monkeypatch: pytest.MonkeyPatch) -> None:
    """Faked: none is among Debian's packages. The server then has another number for each
    transaction."""
    with closing(server.open(Mode.READ)) as database:
        monkeypatch.setattr(type(database), "_find_session", lambda _: -1)
        with pytest.raises(DatabaseFailed, match="A pooler stands between"):
            database.begin(Mode.READ)
    with pytest.raises(DatabaseFailed, match="A pooler stands between"):
        server.open(Mode.READ)


FAULTS = [
    'tls = "maybe"',
    'tls = "verify"',
    'tls_cert = "c.pem"',
    'pooled = "transaction"',
    "tls = true",
]


@pytest.mark.parametrize("line", FAULTS)
def test_a_wrong_link_is_wrong_usage(yeldro: Yeldro, tmp_path: Path, line: str) -> None:
    (tmp_path / "yeldro.toml").write_text(f'[databases.far]\nurl = "postgresql://u@h/d"\n{line}\n')
    done = yeldro("survey", "--db", "far")
    assert (done.status, line.partition(" =")[0] in done.err) == (2, True), done.err


@on("postgresql")
@pytest.mark.parametrize("mode", ["session", "transaction", "statement"])
def test_a_pooler_between_us_and_the_server(
    yeldro: Yeldro, server: Server, place: Path, tmp_path: Path, mode: str
) -> None:
    program, url, port = find("pgbouncer"), urlsplit(server.place), free_port()
    folder = own(place / mode, "postgres")
    (folder / "ini").write_text(
        f"[databases]\n* = host={url.hostname} port={url.port} user={url.username}\n[pgbouncer]\nlisten_port = {port}\n"
        f"listen_addr = 127.0.0.1\nauth_type = any\npool_mode = {mode}\nunix_socket_dir =\ndefault_pool_size = 2\n"
    )
    server.run("CREATE TABLE weirs (id INT PRIMARY KEY)", "INSERT INTO weirs VALUES (1), (2)")
    through = f"postgresql://postgres@127.0.0.1:{port}{url.path}"
    (tmp_path / "yeldro.toml").write_text(
        f'[databases.far]\nurl = "{through}"\npooled = "session"\n'
    )
    line = ("delete", "weirs", "--key", "1", "--yes")
    with running([program, str(folder / "ini")], "postgres", folder, port):
        done = yeldro(*line, "--db", through)
        assert (done.status, "A pooler stands between" in done.err) == (5, True), done.err
        assert yeldro("survey", "--db", through).status == 5
        said = yeldro(*line, "--db", "far")
        if mode == "session":
            assert said.status == 0, said.err
            assert yeldro("restore", "last", "--yes").status == 0
        else:
            assert said.status in (0, 5), said.err
            assert "unexpected" not in said.err
    kept = {(1,), (2,)} if mode == "session" or said.status else {(2,)}
    assert set(server.query("SELECT id FROM weirs")) == kept

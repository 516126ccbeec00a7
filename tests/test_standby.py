"""A server that follows another one: rows can be looked at there, and nothing else."""

from __future__ import annotations

import contextlib
import getpass
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import psycopg
import pytest
from conftest import Yeldro, need

pytestmark = pytest.mark.slow


@pytest.fixture
def folder() -> Iterator[Path]:
    """A short path that the servers' user may write to."""
    path = Path(tempfile.mkdtemp(prefix="yeldro"))
    path.chmod(0o777)
    yield path
    shutil.rmtree(path)


def program(folder: Path, name: str, *words: str) -> None:
    """Run one of PostgreSQL's programs, as its own user where root may not."""
    found = sorted(Path("/usr/lib/postgresql").glob(f"*/bin/{name}"))
    command = str(found[-1]) if found else name
    user = ["runuser", "-u", "postgres", "--"] if getpass.getuser() == "root" else []
    log = (folder / f"{name}.log").open("w")
    subprocess.run([*user, command, *words], check=True, cwd=folder, stdout=log, stderr=log)


def free_port() -> int:
    with socket.socket() as opened:
        opened.bind(("127.0.0.1", 0))
        return int(opened.getsockname()[1])


@contextlib.contextmanager
def started(folder: Path, data: str, port: int) -> Iterator[str]:
    """A running server's URL."""
    options = f"-p {port} -k {folder} -c listen_addresses=''"
    program(folder, "pg_ctl", "-D", data, "-o", options, "-l", f"{data}.log", "-w", "start")
    try:
        yield f"postgresql://yeldro@/postgres?host={folder}&port={port}"
    finally:
        program(folder, "pg_ctl", "-D", data, "-m", "immediate", "stop")


def test_a_standby_shows_rows_and_names_the_primary_for_the_rest(
    yeldro: Yeldro, folder: Path
) -> None:
    need("postgresql")
    program(folder, "initdb", "-D", "first", "-A", "trust", "-U", "yeldro")
    with started(folder, "first", free_port()) as url:
        with psycopg.connect(url) as connection:
            connection.execute("CREATE TABLE mast (id int PRIMARY KEY, g int)")
            connection.execute("CREATE TABLE lamp (mast_id int REFERENCES mast ON DELETE CASCADE)")
            connection.execute("INSERT INTO mast VALUES (1, 1), (2, 1), (3, 2)")
            connection.execute("INSERT INTO lamp VALUES (1), (1), (2)")
        program(folder, "pg_basebackup", "-d", url, "-D", "second", "-R", "-c", "fast")
        with started(folder, "second", free_port()) as standby:
            for look in (
                ("preview", "lamp", "--where", "mast_id = 1", "--json"),
                ("duplicates", "mast", "--by", "g", "--json"),
                ("plan", "lamp", "--where", "mast_id = 1", "--json"),
                ("survey", "--json"),
            ):
                assert yeldro(*look, db=standby).json() == yeldro(*look, db=url).json()
            words = ("mast", "--where", "id = 1", "--expect", "total=3")
            for command in (("plan", *words), ("rehearse", *words), ("run", *words, "--yes")):
                refused = yeldro(*command, db=standby, code=5).err
                assert refused.startswith("Nothing was changed.")
                assert "a standby" in refused
                assert "Name the primary" in refused
        assert not list(yeldro.folder.rglob("*.receipt"))
        yeldro("run", *words, "--yes", db=url)

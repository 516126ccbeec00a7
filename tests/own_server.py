"""A PostgreSQL server that a test starts for itself, with settings of its own."""

from __future__ import annotations

import contextlib
import getpass
import shutil
import socket
import subprocess
import tempfile
from collections.abc import Iterator
from pathlib import Path

import pytest


@pytest.fixture
def server_folder() -> Iterator[Path]:
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
def started(folder: Path, data: str, port: int, settings: str = "") -> Iterator[str]:
    """A running server's URL.

    Args:
        settings: more options of the server, such as `-c max_connections=9`.
    """
    options = f"-p {port} -k {folder} -c listen_addresses='' {settings}"
    program(folder, "pg_ctl", "-D", data, "-o", options, "-l", f"{data}.log", "-w", "start")
    try:
        yield f"postgresql://yeldro@/postgres?host={folder}&port={port}"
    finally:
        program(folder, "pg_ctl", "-D", data, "-m", "immediate", "stop")

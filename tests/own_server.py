"""Servers that a test starts for itself, with settings of their own."""

from __future__ import annotations

import contextlib
import getpass
import os
import shutil
import socket
import subprocess
import time
from collections.abc import Iterator
from pathlib import Path


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


@contextlib.contextmanager
def mariadb_started(folder: Path, *settings: str) -> Iterator[str]:
    """The URL of a running MariaDB server that asks for no password.

    Args:
        folder: a short path, for the socket.
        settings: options of the server, such as `--general-log`.
    """
    own = ["--no-defaults", f"--datadir={folder}/data", f"--user={getpass.getuser()}"]
    login = "--auth-root-authentication-method=normal"
    made = ["mariadb-install-db", *own, "--skip-test-db", login]
    path = f"/usr/sbin:{os.environ['PATH']}"
    subprocess.run(made, check=True, stdout=subprocess.DEVNULL, env=os.environ | {"PATH": path})
    port, small = free_port(), "--innodb-buffer-pool-size=8M"
    words = [*own, f"--socket={folder}/s", f"--port={port}", "--bind-address=127.0.0.1", small]
    found = shutil.which("mariadbd", path=path) or "mariadbd"
    with (folder / "log").open("w") as log:
        server = subprocess.Popen([found, *words, *settings], stderr=log)
    try:
        ends = time.monotonic() + 60
        while not (folder / "s").exists():
            assert server.poll() is None, (folder / "log").read_text()
            assert time.monotonic() < ends
            time.sleep(0.1)
        yield f"mariadb://root@127.0.0.1:{port}/test"
    finally:
        server.kill()
        server.wait()

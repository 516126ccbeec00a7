"""The program, loaded once: each command line runs in a new process that begins where loading ends.

The same entry point as the installed program's, without the second that Python takes to load the
packages. Run as a file, this is the process that waits for command lines on a socket.
"""

from __future__ import annotations

import atexit
import importlib
import json
import os
import signal
import socket
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path

MODULES = (
    "psycopg",
    "pymysql",
    *(f"sqlalchemy.dialects.{each}"
      for each in ("mysql.pymysql", "postgresql.psycopg", "sqlite.pysqlite")),
    *(f"sqlglot.dialects.{each}" for each in ("mysql", "postgres", "sqlite")),
    *(f"yeldro.cli.{each}" for each in ("demo", "main")),
    *(f"yeldro.cli.commands.{each}"
      for each in ("batching", "files", "inspect", "receipts", "remove")),
    *(f"yeldro.cli.declared.{each}" for each in ("files", "inspect", "receipts", "remove")),
    *(f"yeldro.core.inspection.{each}" for each in ("orphans", "preview", "repeats", "survey")),
    *(f"yeldro.formats.{each}" for each in ("cleanup_file", "plan_file", "project", "sql_in")),
    "yeldro.core.restore.restore",
    "yeldro.core.selection.views",
    "yeldro.cli.given.what",
    "rich.console",
    *(f"yeldro.engines.{each}" for each in ("mariadb", "postgresql", "sqlite")),
)  # fmt: skip


def run(
    words: Sequence[str], environment: Mapping[str, str], folder: Path, seconds: int
) -> tuple[int, str, str]:
    """Run one command line; its exit code and what it printed and said.

    Args:
        seconds: it is ended if it takes longer.
    """
    with (
        socket.socket(socket.AF_UNIX) as line,
        tempfile.NamedTemporaryFile() as out,
        tempfile.NamedTemporaryFile() as err,
    ):
        line.connect(_waiting())
        asked = {"words": list(words), "environment": dict(environment), "folder": str(folder),
                 "out": out.name, "err": err.name, "seconds": seconds}  # fmt: skip
        line.sendall(json.dumps(asked).encode() + b"\n")
        code = int(line.makefile().readline())
        return code, Path(out.name).read_text("utf-8"), Path(err.name).read_text("utf-8")


@cache
def _waiting() -> str:
    """Start the process that waits; where it listens."""
    folder = tempfile.TemporaryDirectory()
    place = str(Path(folder.name) / "line")
    process = subprocess.Popen([sys.executable, __file__, place], stdout=subprocess.PIPE)
    assert process.stdout is not None
    assert process.stdout.readline() == b"ready\n"

    def end() -> None:
        process.kill()
        process.wait()
        folder.cleanup()

    atexit.register(end)
    return place


def _wait_for_command_lines(place: str) -> None:
    for name in MODULES:
        importlib.import_module(name)
    with socket.socket(socket.AF_UNIX) as door:
        door.bind(place)
        door.listen(64)
        signal.signal(signal.SIGCHLD, signal.SIG_IGN)
        os.write(1, b"ready\n")
        while True:
            line, _ = door.accept()
            if os.fork() == 0:
                door.close()
                _answer(line)
            line.close()


def _answer(line: socket.socket) -> None:
    """Run what is asked for in one more process, and tell how that ended."""
    signal.signal(signal.SIGCHLD, signal.SIG_DFL)
    asked = json.loads(line.makefile().readline())
    child = os.fork()
    if child == 0:
        line.close()
        _become(asked)
        code = 1
        try:
            from yeldro.cli.main import execute

            code = execute(asked["words"])
            sys.stdout.flush()
            sys.stderr.flush()
        finally:
            os._exit(code)
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    line.sendall(f"{code}\n".encode())
    os._exit(0)


def _become(asked: Mapping[str, object]) -> None:
    """Take on the folder, the environment and the files of a command line."""
    signal.alarm(int(str(asked["seconds"])))
    os.chdir(str(asked["folder"]))
    os.environ.clear()
    os.environ.update(asked["environment"])  # type: ignore[call-overload]
    for number, path, how in ((0, os.devnull, os.O_RDONLY), (1, asked["out"], os.O_WRONLY),
                              (2, asked["err"], os.O_WRONLY)):  # fmt: skip
        os.dup2(os.open(str(path), how), number)


if __name__ == "__main__":
    _wait_for_command_lines(sys.argv[1])

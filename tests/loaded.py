"""The program, loaded once: each command line runs in a new process that begins where loading ends.

The same entry point as the installed program's, without the second that Python takes to load the
packages. Run as a file, this is the process that waits for command lines on a socket.
"""

from __future__ import annotations

import atexit
import gc
import importlib
import json
import os
import pkgutil
import selectors
import signal
import socket
import sqlite3
import subprocess
import sys
import tempfile
from collections.abc import Mapping, Sequence
from functools import cache
from pathlib import Path

LATE = (
    *(f"sqlalchemy.dialects.{name}"
      for name in ("mysql.pymysql", "postgresql.psycopg", "sqlite.pysqlite")),
    *(f"sqlglot.dialects.{name}" for name in ("mysql", "postgres", "sqlite")),
    "rich.console", "rich.progress", "rich.table",
)  # fmt: skip
DRAWING = ("igraph", "jinja2", "matplotlib.backends.backend_svg", "matplotlib.figure", "openpyxl",
           "resvg_py")  # fmt: skip


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
        line.connect(
            _waiting(draws=any(word in ("--map", "--report", "--review") for word in words))
        )
        asked = {"words": list(words), "environment": dict(environment), "folder": str(folder),
                 "out": out.name, "err": err.name, "seconds": seconds}  # fmt: skip
        line.sendall(json.dumps(asked).encode() + b"\n")
        code = int(line.makefile().readline())
        return code, *(Path(each.name).read_bytes().decode() for each in (out, err))


@cache
def _waiting(*, draws: bool) -> str:
    """Start the process that waits; where it listens.

    Args:
        draws: it has loaded what draws, too; a larger process takes longer to be doubled.
    """
    folder = tempfile.TemporaryDirectory()
    place = str(Path(folder.name) / "line")
    words = [sys.executable, __file__, place, *(DRAWING if draws else ())]
    process = subprocess.Popen(words, stdout=subprocess.PIPE)
    assert process.stdout is not None
    assert process.stdout.readline() == b"ready\n"

    def end() -> None:
        process.kill()
        process.wait()
        folder.cleanup()

    atexit.register(end)
    return place


def _wait_for_command_lines(place: str) -> None:
    _load_everything()
    with socket.socket(socket.AF_UNIX) as door, selectors.DefaultSelector() as events:
        door.bind(place)
        door.listen(64)
        events.register(door, selectors.EVENT_READ)
        os.write(1, b"ready\n")
        while True:
            for event, _ in events.select():
                if event.fileobj is door:
                    line, _ = door.accept()
                    child = _started(line)
                    events.register(os.pidfd_open(child), selectors.EVENT_READ, (child, line))
                else:
                    events.unregister(event.fd)
                    os.close(event.fd)
                    _answer(*event.data)


def _started(line: socket.socket) -> int:
    """Run what is asked for in a process of its own; return its number."""
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
    return child


def _answer(child: int, line: socket.socket) -> None:
    """Tell how a process ended."""
    code = os.waitstatus_to_exitcode(os.waitpid(child, 0)[1])
    line.sendall(f"{code}\n".encode())
    line.close()


def _load_everything() -> None:
    """Import every module, and let one cleanup make what the libraries make at their first use."""
    import yeldro

    for module in pkgutil.walk_packages(yeldro.__path__, "yeldro."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    for name in (*LATE, *sys.argv[2:]):
        importlib.import_module(name)
    from yeldro.api import cleanup, connect

    with tempfile.TemporaryDirectory() as folder:
        connection = sqlite3.connect(f"{folder}/warm.db")
        connection.executescript(
            "CREATE TABLE mast (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id REFERENCES mast ON DELETE CASCADE);"
            "INSERT INTO mast VALUES (1, 'a'); INSERT INTO lamp VALUES (1, 1);"
        )
        connection.close()
        opened = connect(f"{folder}/warm.db")
        done = opened.run(cleanup("mast", where="name = 'a'", expect=1), receipts=Path(folder))
        opened.restore(str(done.receipt))
    gc.collect()
    gc.freeze()


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

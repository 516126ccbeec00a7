"""Nothing in the program needs what only POSIX has: the whole job is done without it."""

from __future__ import annotations

import os
import sqlite3
import subprocess
import sys
from pathlib import Path

import pytest

from yeldro.completion import places
from yeldro.core.model.messages import machine, names

# A process as on Windows: no POSIX modules or signals, no fork, folders cannot be opened, only what
# is open for writing is synchronised, and an open file can be neither replaced nor removed.
WITHOUT_POSIX = """
import errno, os, signal, sys

for name in ("fcntl", "grp", "pwd", "resource", "termios", "tty", "pty", "syslog"):
    sys.modules[name] = None
for name in ("SIGALRM", "SIGHUP", "SIGKILL", "SIGPIPE", "SIGQUIT", "SIGUSR1", "SIGUSR2",
             "setitimer", "pthread_sigmask", "sigwait", "alarm"):
    delattr(signal, name)
for name in ("fork", "forkpty", "getuid", "geteuid", "getgid", "chown", "mkfifo", "setsid"):
    delattr(os, name)
os.environ.pop("LOGNAME", None)
for name in ("USER", "LNAME", "USERNAME"):
    os.environ.pop(name, None)

opened, fsync, close, replace, unlink = os.open, os.fsync, os.close, os.replace, os.unlink
writable = {}

def open_no_folder(path, flags, *more, **named):
    if os.path.isdir(path):
        raise PermissionError(errno.EACCES, "Permission denied", path)
    handle = opened(path, flags, *more, **named)
    writable[handle] = bool(flags & (os.O_WRONLY | os.O_RDWR))
    return handle

def sync_what_is_written(handle):
    if not writable.get(handle, True):
        raise OSError(errno.EBADF, "Bad file descriptor")
    fsync(handle)

def held(path):
    named = os.path.realpath(path)
    folder = "/proc/self/fd"
    return any(os.path.realpath(f"{folder}/{each}") == named for each in os.listdir(folder))

def free(change):
    def changed(path, *more, **named):
        if any(held(each) for each in (path, *more) if isinstance(each, (str, os.PathLike))):
            raise PermissionError(errno.EACCES, "The file is used by another process", str(path))
        return change(path, *more, **named)
    return changed

os.open, os.fsync = open_no_folder, sync_what_is_written
os.replace, os.unlink, os.remove, os.rename = map(free, (replace, unlink, unlink, os.rename))

from yeldro.core.model.messages import machine
machine.ON_WINDOWS = True
from yeldro.cli.main import main
main()
"""


def run(folder: Path, *words: str, code: int = 0, typed: str = "") -> str:
    own = {"XDG_DATA_HOME": str(folder), "XDG_STATE_HOME": str(folder), "PATH": os.environ["PATH"]}
    done = subprocess.run(
        [sys.executable, "-c", WITHOUT_POSIX, *words],
        cwd=folder, env=own, capture_output=True, text=True, input=typed, check=False,
    )  # fmt: skip
    assert done.returncode == code, done.stdout + done.stderr
    return done.stdout


def test_the_whole_job_needs_no_posix(tmp_path: Path) -> None:
    said = run(tmp_path, "demo", "sea")
    assert '$env:YELDRO_DB="buoys.db"' in said
    db = ("--db", "sea/buoys.db")
    alert = ("alert", "--where", "level = 'notice'")
    assert f'yeldro plan alert --where "{alert[2]}"' in run(tmp_path, "preview", *alert, *db)
    run(tmp_path, "new", "notices.toml", "--from-last", *db)
    run(tmp_path, "plan", "notices.toml", "-o", "plan.json", "--report", "plan.html", *db)
    run(tmp_path, "run", "plan.json", "--yes", *db)
    assert "all gone" in run(tmp_path, "receipt", "check", "last", *db)
    run(tmp_path, "receipt", "export", "last", "--to", "rows")
    run(tmp_path, "restore", "last", "--yes", *db)
    run(tmp_path, "run", *alert, "--expect", "total=0..", "--batch", "30", "--yes", *db)
    run(tmp_path, "run", "alert", "--all-rows", "--expect", "3", "--yes", *db, code=4)
    by = ("duplicates", "buoy", "--by", "name", "--review")
    run(tmp_path, *by, "buoys.csv", *db)
    run(tmp_path, *by, "buoys.xlsx", *db)
    run(tmp_path, "receipt", "forget", "last", "--yes")
    with sqlite3.connect(tmp_path / "sea" / "buoys.db") as file:
        assert file.execute("SELECT count(*) FROM alert WHERE level = 'notice'").fetchone() == (0,)


def test_a_failed_file_leaves_nothing_where_open_files_stay(tmp_path: Path) -> None:
    run(tmp_path, "demo", "sea", "--only-data")
    words = ("plan", "alert", "--all-rows", "--db", "sea/buoys.db", "-o", "nowhere/plan.json")
    run(tmp_path, *words, code=5)
    assert sorted(path.name for path in tmp_path.iterdir()) == ["sea"]


@pytest.mark.parametrize(
    ("word", "typed"),
    [
        ("buoys.db", "buoys.db"),
        ("C:\\data\\my buoys.db", '"C:\\data\\my buoys.db"'),
        ("level = 'notice'", "\"level = 'notice'\""),
        ('"level" < 3', '"\\"level\\" < 3"'),
        ("", '""'),
    ],
)
def test_a_word_is_typed_in_double_quotes_on_windows(
    monkeypatch: pytest.MonkeyPatch, word: str, typed: str
) -> None:
    monkeypatch.setattr(names, "ON_WINDOWS", True)
    assert names.as_typed(word) == typed


def test_windows_keeps_the_program_s_files_in_its_own_folder(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    monkeypatch.delenv("XDG_DATA_HOME", raising=False)
    monkeypatch.setenv("LOCALAPPDATA", "C:/local")
    assert "C:" not in places.own_folder("XDG_DATA_HOME", "share")
    monkeypatch.setattr(places, "ON_WINDOWS", True)
    assert places.own_folder("XDG_DATA_HOME", "share") == os.path.join("C:/local", "yeldro")
    assert machine.user()

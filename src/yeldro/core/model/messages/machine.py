"""The machine that the program runs on: its user, and how it keeps files."""

from __future__ import annotations

import getpass
import os
from pathlib import Path

ON_WINDOWS = os.name == "nt"


def user() -> str:
    """Return the name of whoever runs the program."""
    try:
        return getpass.getuser()
    except (KeyError, OSError, ImportError):  # as where there is no list of users
        return "unknown"


def sync(path: Path) -> None:
    """Make the operating system put a file, or a folder's list of files, on disk.

    Windows opens no folders; there a file's name is on disk with the file.
    """
    if ON_WINDOWS and path.is_dir():
        return
    handle = os.open(path, os.O_RDONLY if path.is_dir() else os.O_RDWR)
    try:
        os.fsync(handle)
    finally:
        os.close(handle)

"""Where things are: the project file, the database, the receipts. No core is needed to know it."""

from __future__ import annotations

import os

PROJECT = "yeldro.toml"

ON_WINDOWS = os.name == "nt"


class Places:
    """What the project file and the environment say.

    Attributes:
        databases: the URLs of named databases.
        db: the default database; empty if there is none.
        receipts: the folder for receipts.
    """

    def __init__(self) -> None:
        self.databases: dict[str, str] = {}
        self.db = os.environ.get("YELDRO_DB", "")
        self.receipts = os.path.join(own_folder("XDG_DATA_HOME", "share"), "receipts")
        path = _project(os.getcwd())
        if path:
            self._read(path)
        self.receipts = os.environ.get("YELDRO_RECEIPTS", self.receipts)

    def url(self, typed: str) -> str:
        """Return the URL or path that --db, the environment or the project file names."""
        named = typed or self.db
        return self.databases.get(named, named)

    def _read(self, path: str) -> None:
        import tomllib

        folder = os.path.dirname(path)
        try:
            with open(path, "rb") as file:
                found = tomllib.load(file)
            for name, each in found.get("database", {}).items():
                self.databases[name] = from_folder(each["url"], folder)
            own = found.get("db", "")
            if own and not self.db:
                self.db = own if own in self.databases else from_folder(own, folder)
            if "receipts" in found:
                self.receipts = os.path.join(folder, found["receipts"])
        except (OSError, ValueError, KeyError, TypeError, AttributeError):
            return  # the command itself tells what is wrong with the file


def own_folder(variable: str, kind: str) -> str:
    """Return the program's folder: below a variable's, or where the system keeps such files."""
    usual = os.environ.get("LOCALAPPDATA") if ON_WINDOWS else None
    usual = usual or os.path.expanduser(f"~/.local/{kind}")
    return os.path.join(os.environ.get(variable) or usual, "yeldro")


def _project(folder: str) -> str:
    """Return the project file of a folder or of the nearest one above it; empty if none has it."""
    while True:
        path = os.path.join(folder, PROJECT)
        if os.path.isfile(path):
            return path
        above = os.path.dirname(folder)
        if above == folder:
            return ""
        folder = above


def from_folder(url: str, folder: str) -> str:
    """Return a URL whose relative SQLite path is counted from a folder."""
    if "://" not in url:
        return os.path.join(folder, os.path.expanduser(url))
    head, _, rest = url.partition(":///")
    if head.startswith("sqlite") and rest and not rest.startswith("/"):
        return f"{head}:///{os.path.join(folder, rest)}"
    return url

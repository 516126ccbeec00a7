"""The project file `yeldro.toml`: named databases, and limits for them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from yeldro.completion.places import from_folder
from yeldro.core.changes.limits import Limits
from yeldro.formats.fields import Field

NAME = "yeldro.toml"

_LIMITS = (
    Field("protect", "texts", "Tables of which no row may be removed or changed."),
    Field("most_rows", "count", "The most rows that one run may remove or change."),
)
_TOP = (
    Field("db", "text", "The default database: a name from this file, a URL or a path."),
    Field("receipts", "text", "The folder for receipts."),
    Field("database", "table", "Databases by name."),
    *_LIMITS,
)
_DATABASE = (Field("url", "text", "Its URL, or a path.", required=True), *_LIMITS)


@dataclass(frozen=True)
class Setting:
    """One setting, and where it comes from."""

    name: str
    value: str
    said_in: str


@dataclass(frozen=True)
class Project:
    """The contents of a project file.

    Args:
        urls: databases by name; relative paths start at the file's folder.
        limits: limits by database name; those under "" are for any other database.
        receipts: the folder for receipts.
    """

    path: Path | None = None
    db: str | None = None
    urls: Mapping[str, str] = field(default_factory=dict)
    limits: Mapping[str, Limits] = field(default_factory=dict)
    receipts: Path | None = None

    def limits_of(self, name: str) -> Limits:
        """Return the limits for the database of this name, or for one without a name."""
        return self.limits.get(name) or self.limits.get("", Limits())


def find_project(folder: Path) -> Project:
    """Return the project of a folder or of the nearest folder above it; else an empty one.

    Raises:
        UsageError: the file cannot be read, or has mistakes.
    """
    for each in (folder, *folder.parents):
        path = each / NAME
        if path.is_file():
            return read_project(path)
    return Project()


def read_project(path: Path) -> Project:
    """Read a project file.

    Raises:
        UsageError: something in it is wrong; the line is named.
    """
    from yeldro.formats.toml import read_toml  # most folders have no such file

    file = read_toml(path)
    top = file.checked((), _TOP, "the project file")
    urls, limits = {}, {"": _limits(top, path)}
    for name in top.get("database", {}):
        at = ("database", name)
        found = file.checked(at, _DATABASE, f"[database.{name}]")
        if "/" in name or name.endswith((".toml", ".json")):
            raise file.mistake(at, f"{name!r} looks like a path.", "Use a plain name.")
        urls[name] = from_folder(found["url"], str(path.parent))
        limits[name] = _limits(top | found, path)
    db = top.get("db")
    if db is not None and db not in urls:
        db = from_folder(db, str(path.parent))
    receipts = path.parent / top["receipts"] if "receipts" in top else None
    return Project(path, db, urls, limits, receipts)


def _limits(found: Mapping[str, Any], path: Path) -> Limits:
    protect = found.get("protect", ())
    names = (protect,) if isinstance(protect, str) else tuple(protect)
    return Limits(names, found.get("most_rows"), str(path))

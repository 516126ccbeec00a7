"""Settings from the environment and the project file."""

from __future__ import annotations

import os
from dataclasses import replace
from pathlib import Path
from typing import TYPE_CHECKING

import click

from yeldro.completion.places import own_folder
from yeldro.core.model.messages.errors import UsageError

if TYPE_CHECKING:
    from yeldro.core.changes.limits import Limits
    from yeldro.core.database.protocol import Database
    from yeldro.formats.project import Project, Setting

TIME_LIMIT, _PROJECT = "yeldro.time_limit", "yeldro.project"  # of a command line
LOCK_WAIT = 10.0


def project() -> Project:
    """Return the project file in the working folder or above, read once for a command line."""
    from yeldro.formats.project import find_project

    read: dict[str, Project] = click.get_current_context().meta
    if _PROJECT not in read:
        read[_PROJECT] = find_project(Path.cwd())
    return read[_PROJECT]


def database_of(typed: str | None) -> Database:
    """Return the database that --db, the environment or the project file names.

    Raises:
        UsageError: none of them names one.
    """
    wanted = named(typed)
    return opened(project().urls.get(wanted, wanted))


def named(typed: str | None) -> str:
    """Return the name, path or URL of the database that --db or the project file gives.

    Raises:
        UsageError: neither does.
    """
    wanted = typed or project().db
    if not wanted:
        raise UsageError(
            "No database is named.", "Add --db PATH, or set YELDRO_DB for this terminal."
        )
    return wanted


def limits_of(database: Database, *, allow_more: bool = False) -> Limits:
    """Return the project file's limits for a database, by whatever name it was opened.

    Args:
        allow_more: any number of rows may go or change.
    """
    from yeldro.engines import open_database

    found = project()
    names = (name for name, url in found.urls.items()
             if open_database(url).shown == database.shown)  # fmt: skip
    limits = found.limits_of(next(names, ""))
    return replace(limits, most_rows=None) if allow_more else limits


def opened(text: str) -> Database:
    """Return the database for a URL or path, with the time limit of this command line."""
    from yeldro.engines import open_database

    database = open_database(text)
    context = click.get_current_context(silent=True)
    if context is None:
        return database
    seconds = context.meta.get(TIME_LIMIT)
    if seconds is not None:
        database.limit_statements(seconds)
    database.keep_connection()
    context.call_on_close(database.close)
    return database


def receipts_folder(typed: Path | None) -> Path:
    """Return the folder for receipts: as typed, from the project file, or in the data folder."""
    found = typed or project().receipts
    if found is not None:
        return found
    return Path(own_folder("XDG_DATA_HOME", "share")) / "receipts"


def holding(typed: str | None) -> list[Setting]:
    """Return the settings in force, each with where it comes from."""
    from yeldro.formats.project import Setting

    found, own = project(), str(project().path)
    source = click.get_current_context().get_parameter_source("db")
    said = "$YELDRO_DB" if source is click.core.ParameterSource.ENVIRONMENT else "--db"
    settings = [Setting("project file", own if found.path else "none", "")]
    name = typed or found.db
    if name:
        database = opened(found.urls.get(name, name))
        limits = limits_of(database)
        settings.append(Setting("database", database.shown, said if typed else own))
        if limits.protected:
            settings.append(Setting("protected tables", ", ".join(limits.protected), own))
        if limits.most_rows is not None:
            settings.append(Setting("most rows in one run", f"{limits.most_rows:,}", own))
    else:
        settings.append(Setting("database", "none", ""))
    from_environment = os.environ.get("YELDRO_RECEIPTS")
    folder = receipts_folder(Path(from_environment) if from_environment else None)
    from_file = own if found.receipts else "default"
    settings.append(
        Setting("receipts", str(folder), "$YELDRO_RECEIPTS" if from_environment else from_file)
    )
    for each, url in found.urls.items():
        settings.append(Setting(f"database {each}", opened(url).shown, own))
    return settings

"""What SQLite's errors mean for the data, and what to do."""

from __future__ import annotations

import os
import re
import sqlite3
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from yeldro.core.model.messages.errors import (
    ROLLED_BACK,
    UNCHANGED,
    AccessDenied,
    DatabaseFailure,
    Interrupted,
    LockTimeout,
    OutOfSpace,
    Refused,
)
from yeldro.engines.causes import Cause, explained_by, seconds, too_slow

INTERRUPTED = "interrupted"
_HALF_WRITTEN = (sqlite3.SQLITE_READONLY_ROLLBACK, sqlite3.SQLITE_READONLY_RECOVERY)
_RAISED = "user-defined function raised exception"  # only `well_formed` raises any


# What only the program that made the file can define.
_OF_A_PROGRAM = re.compile(r"no such (?:collation sequence|function|module)|unknown function")
_INTEGRITY = "Look at it with PRAGMA integrity_check before anything else."
# By result code (sqlite.org/rescode.html).
_CAUSES = (
    Cause(
        _HALF_WRITTEN,
        "A program ended while it was writing {shown}. SQLite must undo that before anybody reads "
        "the file, and looking may write nothing.",
        "Open it once with the program that uses it, or with the sqlite3 shell: .tables",
        AccessDenied, UNCHANGED,
    ),
    Cause(
        [sqlite3.SQLITE_READONLY, sqlite3.SQLITE_CANTOPEN, sqlite3.SQLITE_PERM],
        "The file {shown} or its folder cannot be written ({reason}).",
        "Check the permissions of both.", AccessDenied, UNCHANGED,
    ),
    Cause(
        [sqlite3.SQLITE_CORRUPT, sqlite3.SQLITE_NOTADB, sqlite3.SQLITE_FORMAT],
        "The file {shown} is damaged ({reason}).", _INTEGRITY, data=UNCHANGED,
    ),
    Cause(
        [sqlite3.SQLITE_FULL, sqlite3.SQLITE_NOMEM],
        "There is no room for {shown}, its journal or what SQLite sorts: {reason}.",
        "Make room on the disk, or take fewer rows at once with ‹batch›.", OutOfSpace,
    ),
    Cause(
        [sqlite3.SQLITE_IOERR],
        "The file {shown}, or one beside it, could not be read or written: {reason}.",
        "Check the disk and the room on it, then run it again.",
    ),
    Cause(
        [sqlite3.SQLITE_CONSTRAINT, sqlite3.SQLITE_ABORT], "SQLite refused: {reason}.",
        "Look at the rows and the trigger or constraint that it names.",
    ),
    Cause(
        [sqlite3.SQLITE_TOOBIG, sqlite3.SQLITE_RANGE, sqlite3.SQLITE_MISMATCH],
        "A value cannot be used in this way: {reason}.",
        "Narrow the condition to the rows whose values can.",
    ),
    Cause(
        [sqlite3.SQLITE_SCHEMA, sqlite3.SQLITE_ERROR],
        "SQLite refused: {reason}.", "Survey the tables again, then plan again.",
    ),
    Cause(
        [sqlite3.SQLITE_PROTOCOL, sqlite3.SQLITE_NOLFS],
        "The file system of {shown} cannot hold its locks: {reason}.",
        "Copy the file to a local disk.",
    ),
)  # fmt: skip


@dataclass(frozen=True)
class Explained:
    """What can go wrong with one file.

    Args:
        lock_wait: seconds that were waited for a lock.
        limit: seconds that one statement may take.
        writes: the session may change the file.
    """

    path: Path
    lock_wait: float
    limit: float
    writes: bool

    def error(self, error: sa.exc.DBAPIError, *, in_time: bool) -> Exception:
        """Return what a failure of SQLite means.

        Args:
            in_time: no statement has reached its time limit.
        """
        reason = str(error.orig)
        if reason == INTERRUPTED and in_time:
            return Interrupted("The statement was stopped.")
        if reason == INTERRUPTED:
            return too_slow(self.limit)
        extended = getattr(error.orig, "sqlite_errorcode", 0)
        code = extended & 0xFF  # which an extended one begins with
        if code in (sqlite3.SQLITE_BUSY, sqlite3.SQLITE_LOCKED):
            holders = _holders(self.path)
            who = f" It is open in: {'; '.join(holders)}." if holders else ""
            longer = ", or wait longer with ‹lock_wait› SECONDS" if self.writes else ""
            return LockTimeout(
                f"Another program held the lock on {self.path} for {seconds(self.lock_wait)}.{who}",
                f"Let that program finish or close it{longer}.",
            )
        if reason == _RAISED:
            return Refused(
                "A text in these rows could not be restored: SQLite reads or writes it as another "
                "text, as it is not well-formed UTF-16, or contains U+FFFE or U+FFFF.",
                "Correct that text, or run it without keeping rows: ‹without_rows›.",
                data=ROLLED_BACK,
            )
        if code == sqlite3.SQLITE_ERROR and _OF_A_PROGRAM.match(reason):
            return DatabaseFailure(
                f"SQLite refused: {reason}. Only the program that uses this file defines it.",
                "Work on this table in that program.",
                data=ROLLED_BACK if self.writes else UNCHANGED,
            )
        told = extended if extended in _HALF_WRITTEN else code
        return explained_by(_CAUSES, told, reason, str(self.path), "SQLite")


def _holders(path: Path) -> list[str]:
    """Return the other processes that have the file open, as far as the system shows them."""
    found = []
    for process in Path("/proc").glob("[0-9]*"):
        if int(process.name) == os.getpid():
            continue
        try:
            opened = any(os.path.samefile(path, entry) for entry in (process / "fd").iterdir())
            command = (process / "comm").read_text().strip()
        except OSError:
            continue
        if opened:
            found.append(f"{command} (process {process.name})")
    return found

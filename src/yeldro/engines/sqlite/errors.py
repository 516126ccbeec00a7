"""What SQLite's errors mean for the data, and what to do."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path

import sqlalchemy as sa

from yeldro.core.model.errors import (
    ROLLED_BACK,
    AccessDenied,
    DatabaseFailure,
    Interrupted,
    LockTimeout,
    Refused,
    StatementTimeout,
)

INTERRUPTED = "interrupted"
_RAISED = "user-defined function raised exception"  # only `well_formed` raises any


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
            return StatementTimeout(
                f"A statement took longer than {self.limit:g} seconds and was stopped.",
                "Allow more with ‹time_limit› SECONDS, or look for a missing index.",
                data=ROLLED_BACK,
            )
        if "locked" in reason or "busy" in reason:
            holders = _holders(self.path)
            who = f" It is open in: {'; '.join(holders)}." if holders else ""
            longer = ", or wait longer with ‹lock_wait› SECONDS" if self.writes else ""
            return LockTimeout(
                f"Another program held the lock on {self.path} for {self.lock_wait:g} seconds."
                f"{who}",
                f"Let that program finish or close it{longer}.",
            )
        if "readonly" in reason or "unable to open" in reason:
            return AccessDenied(
                f"The file {self.path} or its folder cannot be written ({reason}).",
                "Check the permissions of both.",
            )
        if "malformed" in reason or "not a database" in reason:
            return DatabaseFailure(
                f"The file {self.path} is damaged ({reason}).",
                "Look at it with PRAGMA integrity_check before anything else.",
            )
        if reason == _RAISED:
            return Refused(
                "A text in these rows could not be restored: SQLite reads or writes it as another "
                "text, as it is not well-formed UTF-16, or contains U+FFFE or U+FFFF.",
                "Correct that text, or run it without keeping rows: ‹without_rows›.",
                data=ROLLED_BACK,
            )
        return DatabaseFailure(f"SQLite refused: {reason}.", data=ROLLED_BACK)


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

"""What SQL Server's errors mean for the data, and what to do."""

from __future__ import annotations

import re
from typing import TYPE_CHECKING

from yeldro.core.database.facts import RowRefusal
from yeldro.core.model.messages.errors import (
    NOT_COMMITTED,
    UNCHANGED,
    AccessDenied,
    ConcurrentChange,
    ConnectionLost,
    LockTimeout,
    OutOfReach,
    OutOfSpace,
    YeldroError,
)
from yeldro.engines.causes import Cause, explained_by, too_slow

if TYPE_CHECKING:
    import sqlalchemy as sa

DEADLOCK, LOCK_WAIT = 1205, 1222
TIMED_OUT = 20003
_OF_THE_CLIENT = 20000  # numbers from here on are the client library's, not the server's
_LOST = (0, 20002, 20004, 20006, 20008, 20017, 20020, 20047, 596, 6005, 10053, 10054)
_UNREACHED = 20009
_RAISED = 50000  # numbers from here on are those of RAISERROR and THROW
_CONSTRAINT = re.compile(r"""(?:constraint|unique index) ["'](.+?)["']""")
# Null, a constraint, two unique keys, too long, out of range, no such value, ended in a trigger.
_ABOUT_ROWS = {515, 547, 2601, 2627, 2628, 8152, 8115, 220, 232, 241, 242, 245, 3609, 8114}
_OWN_LINE = re.compile(r"DB-Lib error message \d+, severity \d+:?")  # of the client's library
_CAUSES = (
    Cause(
        [DEADLOCK],
        "Another session and this one waited for each other's locks (a deadlock).",
        "Look at the rows again, then run it again.", ConcurrentChange,
    ),
    Cause(
        [3960, 3961], "Somebody changed these rows at the same time.",
        "Look at the rows again, then run it again.", ConcurrentChange,
    ),
    Cause(
        [LOCK_WAIT], "Another session held a lock on these rows for too long.",
        "Wait longer with ‹lock_wait› SECONDS; sys.dm_tran_locks shows who holds it.",
        LockTimeout,
    ),
    Cause(
        [229, 230, 262, 297, 300, 916], "A privilege is missing: {reason}.",
        "Ask for it, or use another user. Yeldro needs SELECT, DELETE, UPDATE (to detach) and "
        "VIEW DEFINITION on the database.", AccessDenied, UNCHANGED,
    ),
    Cause(
        [3906, 3908], "This database may only be read: {reason}.",
        "Name the primary server, or a database that may be changed.",
    ),
    Cause(
        [18456, 18452, 4060, 20009, 20014, 17809, 18401], "{shown} cannot be reached: {reason}.",
        "Check host, port, database, user and password.", OutOfReach,
    ),
    Cause(
        [1101, 1105, 9002, 802, 701, 8645, 1204], "The server has no room: {reason}.",
        "Make room on its disk or in its memory, or take fewer rows at once with ‹batch›.",
        OutOfSpace,
    ),
    Cause(
        _LOST, "The connection to {shown} was lost: {reason}.",
        "Look at the rows when the server can be reached again, then repeat the run.",
        ConnectionLost, NOT_COMMITTED,
    ),
    Cause(
        [207, 208, 4104, 4902, 2812, 195], "A name is not there, or not any more: {reason}.",
        "Survey the tables again, then plan again.",
    ),
    Cause(
        [515, 547, 2601, 2627], "A constraint forbids it: {reason}.",
        "Look at the rows that it names; a trigger or another session may have made them.",
    ),
    Cause(
        [220, 232, 241, 242, 245, 402, 468, 529, 2628, 8114, 8115, 8117, 8134, 8152, 9420],
        "A value cannot be used in this way: {reason}.",
        "Narrow the condition to the rows whose values can.",
    ),
    Cause(
        [3609, 3616, 3930, 3931], "A trigger or an error ended the transaction: {reason}.",
        "Look at what it asks for; survey TABLE shows the triggers.",
    ),
)  # fmt: skip


def explained(
    error: sa.exc.DBAPIError, shown: str, limit: float | None, *, connected: bool = True
) -> YeldroError:
    """Return what a failure of the server means for the data, and what to do.

    Args:
        connected: a session had begun; else the server let nobody in, whatever the driver says.
    """
    code, reason = told(error)
    if code == TIMED_OUT and connected:
        return too_slow(limit)
    if error.connection_invalidated:
        code = _LOST[0]
    if not connected and (code in _LOST or code >= _OF_THE_CLIENT):
        code = _UNREACHED
    return explained_by(_CAUSES, code, reason, shown, "SQL Server")


def told(error: sa.exc.DBAPIError) -> tuple[int, str]:
    """Return the number of an error, and its words without those of the client library."""
    found = getattr(error.orig, "args", ())
    while found and isinstance(found[0], tuple):
        found = found[0]
    code = found[0] if found and isinstance(found[0], int) else 0
    words = found[-1] if found else str(error.orig)
    if isinstance(words, bytes):
        words = words.decode("utf-8", "replace")
    lines = (line.strip() for line in _OWN_LINE.sub("\n", str(words)).splitlines())
    return code, next(filter(None, lines), "no reason given").rstrip(".")


def row_refusal(error: sa.exc.DBAPIError) -> RowRefusal | None:
    """Return what the server has against a row; None if an error is about something else."""
    code, reason = told(error)
    if code not in _ABOUT_ROWS and not code >= _RAISED:
        return None
    named = _CONSTRAINT.search(reason)
    return RowRefusal(reason, named[1] if named else "")


def was_stopped(error: sa.exc.DBAPIError) -> bool:
    """True if a statement was stopped, by a limit, by others, or with its connection."""
    code = told(error)[0]
    return code in (DEADLOCK, LOCK_WAIT, TIMED_OUT, 1101, 1105, 9002) or code in _LOST


def leaves_doubt(error: BaseException) -> bool:
    """True if a commit may have taken effect; not if the server itself says why it could not."""
    code = told(error)[0] if hasattr(error, "orig") else 0  # type: ignore[arg-type]
    return code in _LOST or code >= _OF_THE_CLIENT

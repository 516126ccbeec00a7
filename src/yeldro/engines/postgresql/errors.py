"""What PostgreSQL's errors mean for the data, and what to do."""

from __future__ import annotations

import sqlalchemy as sa

from yeldro.core.model.messages.errors import (
    NOT_COMMITTED,
    ROLLED_BACK,
    UNCHANGED,
    AccessDenied,
    ConcurrentChange,
    ConnectionLost,
    DatabaseFailure,
    Interrupted,
    LockTimeout,
    OutOfReach,
    OutOfSpace,
    YeldroError,
)
from yeldro.engines.causes import Cause, explained_by, too_slow

STOPPED = "57014"  # query_canceled
_NO_ROOM = "53200"  # out_of_memory
_CONNECT = "Check host, port, database and password; PG* variables count too."
_LOST = "Look at the rows when the server can be reached again, then repeat the run."
_LOG = "Look at the server's log before anything else."
# By class and code of SQLSTATE (postgresql.org/docs/current/errcodes-appendix.html).
_CAUSES = (
    Cause(
        ["40"], "Somebody changed these rows at the same time.",
        "Look at them again, then run it again.", ConcurrentChange,
    ),
    Cause(
        ["55P03"], "Another session held a lock on these rows for too long.",
        "Wait longer with ‹lock_wait› SECONDS; pg_locks shows who holds it.", LockTimeout,
    ),
    Cause(
        ["55"], "An object is in use, or not ready: {reason}.",
        "Let the session that uses it end, then run it again.",
    ),
    Cause(
        ["25006"], "This session may only read: {reason}. Yeldro keeps keys in temporary tables, "
        "which neither a standby nor a role with default_transaction_read_only can make.",
        "Name the primary server, or a role that may write.", data=UNCHANGED,
    ),
    Cause(
        ["42501"], "A privilege is missing: {reason}.", "Ask for it, or use another role.",
        AccessDenied,
    ),
    Cause(
        ["53300"], "{shown} takes no more connections: {reason}.", "Try again later.", OutOfReach
    ),
    Cause(
        ["53"], "The server has no room: {reason}.",
        "Make room on its disk or in its memory, or take fewer rows at once with ‹batch›.",
        OutOfSpace,
    ),
    Cause(["28", "3D", "57P03"], "{shown} cannot be reached: {reason}.", _CONNECT, OutOfReach),
    Cause(["08", "57P"], "The connection to {shown} was lost: {reason}.", _LOST, ConnectionLost,
          NOT_COMMITTED),
    Cause(
        ["42P01", "42703", "42704", "42883", "3F", "34", "26"],
        "A name is not there, or not any more: {reason}.",
        "Survey the tables again, then plan again.",
    ),
    Cause(
        ["23", "44"], "A constraint forbids it: {reason}.",
        "Look at the rows that it names; a trigger or another session may have made them.",
    ),
    Cause(
        ["22021", "22P05"], "A text in these rows is in another encoding: {reason}.",
        "A database in SQL_ASCII holds texts of any encoding. Convert these, leave their rows out, "
        "or run it without keeping rows: ‹without_rows›.",
    ),
    Cause(
        ["22", "21", "42804", "42846"], "A value cannot be used in this way: {reason}.",
        "Narrow the condition to the rows whose values can.",
    ),
    Cause(
        ["54"], "A limit of the server is reached: {reason}.",
        "Follow fewer tables, or take fewer rows at once with ‹batch›.",
    ),
    Cause(
        ["P0", "38", "39", "2F", "09", "27"], "A trigger or function stopped it: {reason}.",
        "Look at what it asks for; survey TABLE shows the triggers.",
    ),
    Cause(["XX001", "XX002"], "The server says that a table or index is damaged: {reason}.", _LOG),
    Cause(["58", "XX", "F0"], "The server failed: {reason}.", _LOG),
)  # fmt: skip


def explained(error: sa.exc.DBAPIError, shown: str, limit: float | None) -> YeldroError:
    """Return what a failure of the server means for the data, and what to do."""
    state = getattr(error.orig, "sqlstate", None) or ""
    reason = str(error.orig).splitlines()[0].rstrip(".") if str(error.orig) else "no reason given"
    if state == STOPPED and limit is None:
        return Interrupted("The statement was stopped.")
    if state == STOPPED:
        return too_slow(limit)
    if state == _NO_ROOM and "shared memory" in reason:
        return DatabaseFailure(
            "The server has no room for more locks: a transaction locks every table that it looks "
            "at and all of its indexes, and this one reaches too many.",
            "Raise max_locks_per_transaction and restart the server, or name fewer tables with "
            "‹follow›.",
            data=ROLLED_BACK,
        )
    if "during recovery" in reason:
        state = "25006"
    elif error.connection_invalidated and not state.startswith("40"):
        state = "08"
    elif isinstance(error, sa.exc.OperationalError) and not state:
        state = "3D"
    return explained_by(_CAUSES, state, reason, shown, "PostgreSQL")

"""What PostgreSQL's errors mean for the data, and what to do."""

from __future__ import annotations

import sqlalchemy as sa

from yeldro.core.model.errors import (
    NOT_COMMITTED,
    ROLLED_BACK,
    AccessDenied,
    ConcurrentChange,
    ConnectionLost,
    DatabaseFailure,
    Interrupted,
    LockTimeout,
    OutOfReach,
    StatementTimeout,
    YeldroError,
)

STOPPED = "57014"  # query_canceled
_NO_ROOM = "53200"  # out_of_memory


def explained(error: sa.exc.DBAPIError, shown: str, limit: float | None) -> YeldroError:
    """Return what a failure of the server means for the data, and what to do."""
    state = getattr(error.orig, "sqlstate", None) or ""
    reason = str(error.orig).splitlines()[0] if str(error.orig) else "no reason given"
    if state.startswith("40"):
        return ConcurrentChange(
            "Somebody changed these rows at the same time.",
            "Look at them again, then run it again.",
            data=ROLLED_BACK,
        )
    if state == "55P03":
        return LockTimeout(
            "Another session held a lock on these rows for too long.",
            "Wait longer with ‹lock_wait› SECONDS; pg_locks shows who holds it.",
            data=ROLLED_BACK,
        )
    if state == STOPPED and limit is None:
        return Interrupted("The statement was stopped.")
    if state == STOPPED:
        return StatementTimeout(
            f"A statement took longer than {limit:g} seconds and was stopped.",
            "Allow more with ‹time_limit› SECONDS, or look for a missing index.",
            data=ROLLED_BACK,
        )
    if state == _NO_ROOM and "shared memory" in reason:
        return DatabaseFailure(
            "The server has no room for more locks: a transaction locks every table that it looks "
            "at and all of its indexes, and this one reaches too many.",
            "Raise max_locks_per_transaction and restart the server, or name fewer tables with "
            "‹follow›.",
            data=ROLLED_BACK,
        )
    if state == "25006" or "during recovery" in reason:
        return DatabaseFailure(
            f"This session may only read: {reason}. Yeldro keeps keys in temporary tables, which "
            f"neither a standby nor a role with default_transaction_read_only can make.",
            "Name the primary server, or a role that may write.",
        )
    if state == "42501":
        return AccessDenied(
            f"A privilege is missing: {reason}.", "Ask for it, or use another role."
        )
    if isinstance(error, sa.exc.OperationalError) and error.connection_invalidated:
        return ConnectionLost(
            f"The connection to {shown} was lost: {reason}.",
            "Look at the rows when the server can be reached again, then repeat the run.",
            data=NOT_COMMITTED,
        )
    if isinstance(error, sa.exc.OperationalError) and not state:
        return OutOfReach(
            f"{shown} cannot be reached: {reason}.",
            "Check host, port, database and password; PG* variables count too.",
        )
    return DatabaseFailure(f"PostgreSQL refused: {reason}.", data=ROLLED_BACK)

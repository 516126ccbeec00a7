"""What MariaDB's errors and warnings mean for the data, and what to do."""

from __future__ import annotations

import re
from typing import Any

import pymysql
import sqlalchemy as sa

from yeldro.core.database.facts import RowRefusal
from yeldro.core.model.errors import (
    NOT_COMMITTED,
    ROLLED_BACK,
    AccessDenied,
    ConcurrentChange,
    ConnectionLost,
    DatabaseFailure,
    LockTimeout,
    OutOfReach,
    StatementTimeout,
    UsageError,
    YeldroError,
)

OPTION_FILE = "~/.my.cnf"
LOCK_WAIT, DEADLOCK = 1205, 1213
_STOPPED = (1317, 1969, 2006, 2013)  # by somebody, by the time limit, with the connection
_STOPPING = (1053, 1927)  # the server shuts down, or ends the session
_TRUNCATED = 1292
# Null, out of range, no such label, date or number, too long, a check, raised by a trigger.
_ABOUT_ROWS = (1048, 1264, 1265, 1292, 1364, 1366, 1406, 1411, 1644, 4025)
_KEY_NAMED = re.compile(r"^Duplicate entry .* for key '(?:.*\.)?(.*)'$", re.DOTALL)


def explained(error: sa.exc.DBAPIError, shown: str, limit: float | None) -> YeldroError:
    """Return what a failure of the server means for the data, and what to do."""
    code, reason = told(error)
    if code in (1020, DEADLOCK):
        what = "Somebody changed these rows at the same time."
        if code == DEADLOCK:
            what = "Another session and this one waited for each other's locks (a deadlock)."
        return ConcurrentChange(
            what, "Look at the rows again, then run it again.", data=ROLLED_BACK
        )
    if code == LOCK_WAIT:
        return LockTimeout(
            "Another session held a lock on these rows for too long.",
            "Wait longer with ‹lock_wait› SECONDS; SHOW ENGINE INNODB STATUS shows who holds it.",
            data=ROLLED_BACK,
        )
    if code == 1969:
        return StatementTimeout(
            f"A statement took longer than {limit or 0:g} seconds and was stopped.",
            "Allow more with ‹time_limit› SECONDS, or look for a missing index.",
            data=ROLLED_BACK,
        )
    if code in (1044, 1142, 1143, 1227):
        return AccessDenied(
            f"A privilege is missing: {reason}.",
            "Ask for it, or use another user. Yeldro needs SELECT, DELETE, UPDATE (to detach) "
            "and CREATE TEMPORARY TABLES.",
        )
    if code == _TRUNCATED:
        return no_comparison(reason)
    if code in (2006, 2013) or error.connection_invalidated:
        return ConnectionLost(
            f"The connection to {shown} was lost: {reason}.",
            "Look at the rows when the server can be reached again, then repeat the run.",
            data=NOT_COMMITTED,
        )
    if code in (1045, 1049, 1698, 2002, 2003, 2005, 2059):
        return OutOfReach(
            f"{shown} cannot be reached: {reason}.",
            f"Check host, port, database, user and password; {OPTION_FILE} counts too.",
        )
    return DatabaseFailure(f"MariaDB refused: {reason}.", data=ROLLED_BACK)


def heed_warnings(
    connection: sa.Connection, cursor: Any, statement: str, parameters: Any, context: Any, _: bool
) -> None:
    """Fail if the server warns that it changed a value in order to compare it."""
    del connection, statement, parameters, context
    if isinstance(cursor, pymysql.cursors.SSCursor) or not cursor.warning_count:
        return
    for _level, code, words in cursor.connection.show_warnings():
        if code == _TRUNCATED:
            raise no_comparison(str(words))


def no_comparison(words: str) -> UsageError:
    return UsageError(
        f"A value does not fit what it is compared with: {words}.",
        "Compare text with text, as in serial = '0'; MariaDB reads other text than numbers as 0.",
    )


def told(error: sa.exc.DBAPIError) -> tuple[int, str]:
    """Return the server's number for an error, and its words."""
    arguments = getattr(error.orig, "args", ())
    code = arguments[0] if arguments and isinstance(arguments[0], int) else 0
    words = str(arguments[-1] if arguments else error.orig).splitlines() or ["no reason given"]
    return code, words[0].rstrip(".")


def row_refusal(error: sa.exc.DBAPIError) -> RowRefusal | None:
    """Return what the server has against a row; None if an error is about something else."""
    code, reason = told(error)
    about_rows = isinstance(error.orig, pymysql.err.IntegrityError | pymysql.err.DataError)
    if not about_rows and code not in _ABOUT_ROWS:
        return None
    named = _KEY_NAMED.search(reason)
    if named:
        return RowRefusal("another row has the same unique key", named[1])
    return RowRefusal(reason)


def tells_of_a_stop(error: sa.exc.DBAPIError) -> bool:
    """True if a statement was stopped."""
    return told(error)[0] in _STOPPED


def leaves_doubt(error: BaseException) -> bool:
    """True if a commit may have taken effect; not if the server says why it could not."""
    if not isinstance(error, sa.exc.DBAPIError):
        return True
    code = told(error)[0]
    refused = 1000 <= code < 2000 and code not in _STOPPING
    return not refused or tells_of_a_stop(error)

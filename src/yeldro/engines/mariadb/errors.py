"""What MariaDB's errors and warnings mean for the data, and what to do."""

from __future__ import annotations

import re
from typing import Any

import pymysql
import sqlalchemy as sa

from yeldro.core.database.facts import RowRefusal
from yeldro.core.model.messages.errors import (
    NOT_COMMITTED,
    UNCHANGED,
    AccessDenied,
    ConcurrentChange,
    ConnectionLost,
    Interrupted,
    LockTimeout,
    OutOfReach,
    OutOfSpace,
    UsageError,
    YeldroError,
)
from yeldro.engines.causes import Cause, explained_by, too_slow

OPTION_FILE = "~/.my.cnf"
LOCK_WAIT, DEADLOCK = 1205, 1213
_STOPPED = (1317, 1969, 2006, 2013)  # by somebody, by the time limit, with the connection
_STOPPING = (1053, 1927)  # the server shuts down, or ends the session
_TRUNCATED = 1292
# Null, out of range, no such label, date or number, too long, a check, raised by a trigger.
_ABOUT_ROWS = (1048, 1264, 1265, 1292, 1364, 1366, 1406, 1411, 1644, 4025)
_KEY_NAMED = re.compile(r"^Duplicate entry .* for key '(?:.*\.)?(.*)'$", re.DOTALL)


_CONNECT = f"Check host, port, database, user and password; {OPTION_FILE} counts too."
_LOST = "Look at the rows when the server can be reached again, then repeat the run."
_LOG = "Look at the server's error log before anything else."
# By number (mariadb.com/kb/en/mariadb-error-code-reference).
_CAUSES = (
    Cause(
        [1020], "Somebody changed these rows at the same time.",
        "Look at the rows again, then run it again.", ConcurrentChange,
    ),
    Cause(
        [DEADLOCK],
        "Another session and this one waited for each other's locks (a deadlock).",
        "Look at the rows again, then run it again.", ConcurrentChange,
    ),
    Cause(
        [LOCK_WAIT], "Another session held a lock on these rows for too long.",
        "Wait longer with ‹lock_wait› SECONDS; SHOW ENGINE INNODB STATUS shows who holds it.",
        LockTimeout,
    ),
    Cause(
        [1044, 1142, 1143, 1227, 1370, 1419, 1698], "A privilege is missing: {reason}.",
        "Ask for it, or use another user. Yeldro needs SELECT, DELETE, UPDATE (to detach) and "
        "CREATE TEMPORARY TABLES.", AccessDenied, UNCHANGED,
    ),
    Cause(
        [1036, 1290, 1792, 1836], "This server or session may only read: {reason}.",
        "Name the primary server, or a user who may write.",
    ),
    Cause(
        [1040, 1203, 1226], "{shown} takes no more connections: {reason}.", "Try again later.",
        OutOfReach,
    ),
    Cause(
        [1021, 1037, 1038, 1041, 1114, 1206, 1534], "The server has no room: {reason}.",
        "Make room on its disk or in its memory, or take fewer rows at once with ‹batch›.",
        OutOfSpace,
    ),
    Cause(
        [1045, 1049, 1129, 1130, 1251, 2002, 2003, 2005, 2026, 2054, 2059],
        "{shown} cannot be reached: {reason}.", _CONNECT, OutOfReach,
    ),
    Cause(
        [1053, 1152, 1153, 1158, 1159, 1160, 1161, 1184, 1927, 2006, 2013, 2014, 2027, 2055],
        "The connection to {shown} was lost: {reason}.", _LOST, ConnectionLost, NOT_COMMITTED,
    ),
    Cause([1317], "The statement was stopped: {reason}.", "Run it again.", Interrupted),
    Cause(
        [1051, 1054, 1091, 1109, 1146, 1176, 1305, 1356, 1360, 1932],
        "A name is not there, or not any more: {reason}.",
        "Survey the tables again, then plan again.",
    ),
    Cause(
        [1022, 1048, 1062, 1169, 1216, 1217, 1364, 1369, 1451, 1452, 1557, 1586, 1761, 1762, 4025],
        "A constraint forbids it: {reason}.",
        "Look at the rows that it names; a trigger or another session may have made them.",
    ),
    Cause(
        [1242, 1264, 1265, 1267, 1270, 1366, 1367, 1406, 1411, 1690],
        "A value cannot be used in this way: {reason}.",
        "Narrow the condition to the rows whose values can.",
    ),
    Cause(
        [1116, 1118, 1104, 1119, 1135, 1390, 1436, 1462],
        "A limit of the server is reached: {reason}.",
        "Follow fewer tables, or take fewer rows at once with ‹batch›.",
    ),
    Cause(
        [1336, 1415, 1422, 1442, 1456, 1643, 1644, 1645],
        "A trigger or function stopped it: {reason}.",
        "Look at what it asks for; survey TABLE shows the triggers.",
    ),
    Cause(
        [1030, 1034, 1035, 1105, 1180, 1181, 1194, 1195, 1712, 1877],
        "The server failed: {reason}.", _LOG,
    ),
)  # fmt: skip


def explained(error: sa.exc.DBAPIError, shown: str, limit: float | None) -> YeldroError:
    """Return what a failure of the server means for the data, and what to do."""
    code, reason = told(error)
    if code == 1969:
        return too_slow(limit)
    if code == _TRUNCATED:
        return no_comparison(reason)
    if error.connection_invalidated:
        code = 2013
    return explained_by(_CAUSES, code, reason, shown, "MariaDB")


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

"""Refusals and failures as data; the command line turns them into words and exit codes.

Four types tell the consequence, and with it the exit code. The types under them tell the cause.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from typing import Any, ClassVar

UNCHANGED = "Nothing was changed."
ROLLED_BACK = "Everything was rolled back; the database is as it was."
ROWS_ROLLED_BACK = "The rows were rolled back."
NOT_COMMITTED = "Nothing was committed, and the server rolls back what was begun."


class Fault(Exception):
    """A state that the program itself rules out: a mistake in its code, not of its user."""


class YeldroError(Exception):
    """Why a command stopped, and what that means for the data.

    Args:
        why: what was found, as one or two sentences.
        next_step: what the user can type or do next.
        data: what happened to the data.
        evidence: the rows, cycles, counts or names behind the refusal, as values that JSON knows.

    Attributes:
        code: the name of the cause, for programs: the type's name in lower case.
    """

    exit_code: ClassVar[int] = 1
    data_default: ClassVar[str] = UNCHANGED
    code: ClassVar[str] = "yeldro_error"

    def __init_subclass__(cls) -> None:
        cls.code = re.sub(r"(?<!^)(?=[A-Z])", "_", cls.__name__).lower()

    def __init__(
        self, why: str, next_step: str = "", *, data: str | None = None, **evidence: Any
    ) -> None:
        self.why = why
        self.next_step = next_step
        self.data = self.data_default if data is None else data
        self.evidence = evidence
        super().__init__(why)

    def __str__(self) -> str:
        from yeldro.core.model.messages.options import with_fields

        return with_fields(self.said)

    @property
    def said(self) -> str:
        """All of it, with choices and commands marked as `options` says."""
        return " ".join(part for part in (self.data, self.why, self.next_step) if part)


class UsageError(YeldroError):
    """Options or SQL that cannot be understood, or that contradict each other."""

    exit_code = 2


class UnknownName(UsageError):
    """A table, column, foreign key, trigger or receipt that does not exist.

    Args:
        name: as it was typed.
        known: the names that exist; the nearest are shown, and are in the evidence.
        next_step: what to do where no name is near.
    """

    def __init__(self, why: str, name: str, known: Iterable[str] = (), next_step: str = "") -> None:
        from yeldro.core.model.messages.names import nearest, suggestion

        names = list(known)
        hint = suggestion(name, names) if names else next_step
        super().__init__(why, hint, name=name, nearest=nearest(name, names), known=sorted(names))


class Refused(YeldroError):
    """The request is clear, and was refused before anything was changed."""

    exit_code = 3


class NoSelection(Refused):
    """Nothing says which rows are meant, not even that all of them are."""


class BlockedByForeignKey(Refused):
    """Rows that stay reference rows that would go; evidence: `blocked`, or the `cycle`."""


class PlanChanged(Refused):
    """The database has changed since the plan was made."""


class LimitReached(Refused):
    """A limit of the project file or of the program is exceeded; evidence: `table` or `total`."""


class MissingPrivilege(Refused):
    """The user lacks a privilege, found before anything was changed; evidence: `missing`."""


class NoWayBack(Refused):
    """What would be done could not be undone, and nobody has accepted that; evidence: `name`."""


class RestoreConflict(Refused):
    """Something stands in the way of rows to be put back; evidence: `conflicts`."""


class KeyTaken(RestoreConflict):
    """Other rows have the keys of rows to be put back, and nothing else is in the way."""


class ParentGone(RestoreConflict):
    """Rows to be put back have no parent row, and nothing else is in the way."""


class CountMismatch(YeldroError):
    """A count differs from what was expected; everything was rolled back."""

    exit_code = 4
    data_default = ROLLED_BACK


class UnplannedChange(CountMismatch):
    """The database changed rows that no step accounts for; evidence: `unplanned`."""


class RowsDiffer(CountMismatch):
    """Rows would not come back as they were; evidence: `differences`."""


class CheckFailed(CountMismatch):
    """What a cleanup file says must hold afterwards does not hold; evidence: `failed`."""


class DatabaseFailure(YeldroError):
    """The database refused or was lost; everything was rolled back unless `data` says otherwise."""

    exit_code = 5


class FileNotWritten(DatabaseFailure):
    """A file that was asked for could not be written."""


class FileNotUsable(DatabaseFailure):
    """A file could not be looked at, read or written."""


class OutOfSpace(DatabaseFailure):
    """A disk or the memory of the database is full."""


class LockTimeout(DatabaseFailure):
    """Another session held a lock for longer than the cleanup waits."""


class StatementTimeout(DatabaseFailure):
    """A statement took longer than it may, and was stopped."""


class ConcurrentChange(DatabaseFailure):
    """Another session changed the same rows at the same time."""


class AccessDenied(DatabaseFailure):
    """The server denied a statement because a privilege is missing."""


class ConnectionLost(DatabaseFailure):
    """The server went away; `data` says what is known of the commit."""


class OutOfReach(DatabaseFailure):
    """The database could not be opened."""


class ReceiptNotClosed(DatabaseFailure):
    """Everything is committed, and only the receipt could not be closed; it is complete."""


class PageNotWritten(DatabaseFailure):
    """Everything is done, and only the page about it could not be written."""


class InternalFault(YeldroError):
    """A mistake in Yeldro itself."""


class Interrupted(YeldroError):
    """The user stopped the work."""

    exit_code = 130
    data_default = ROLLED_BACK

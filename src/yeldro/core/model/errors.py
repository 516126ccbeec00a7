"""Refusals and failures, as data: the command line turns them into words and exit codes."""

from __future__ import annotations

UNCHANGED = "Nothing was changed."
ROLLED_BACK = "Everything was rolled back; the database is as it was."
NOT_COMMITTED = "Nothing was committed, and the server rolls back what was begun."


class Fault(Exception):
    """A state that the program itself rules out: a mistake in its code, not of its user."""


class YeldroError(Exception):
    """Why a command stopped, and what that means for the data.

    Args:
        why: what was found, as one or two sentences.
        next_step: what the user can type or do next.
        data: what happened to the data.
        evidence: the rows, cycles, counts or names behind the refusal, for programs.
    """

    exit_code = 1
    data_default = UNCHANGED

    def __init__(
        self, why: str, next_step: str = "", *, data: str | None = None, **evidence: object
    ) -> None:
        self.why = why
        self.next_step = next_step
        self.data = self.data_default if data is None else data
        self.evidence = evidence
        super().__init__(why)

    def __str__(self) -> str:
        return " ".join(part for part in (self.data, self.why, self.next_step) if part)


class UsageError(YeldroError):
    """Options or SQL that cannot be understood, or that contradict each other."""

    exit_code = 2


class Refused(YeldroError):
    """The request is clear, and was refused before anything was changed."""

    exit_code = 3


class CountMismatch(YeldroError):
    """A count was not as expected; everything was rolled back."""

    exit_code = 4
    data_default = ROLLED_BACK


class DatabaseFailure(YeldroError):
    """The database refused or was lost; everything was rolled back unless `data` says otherwise."""

    exit_code = 5


class Interrupted(YeldroError):
    """The user stopped the work."""

    exit_code = 130
    data_default = ROLLED_BACK

"""What the error codes of a system mean for the data, and what to do: one table for each system."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass

from yeldro.core.model.messages.errors import (
    ROLLED_BACK,
    DatabaseFailure,
    StatementTimeout,
    YeldroError,
)


@dataclass(frozen=True)
class Cause:
    """What some error codes mean.

    Args:
        codes: the codes; a text stands for all that begin with it.
        why: a sentence, in which {reason} is what the system says, {code} its code, and {shown}
            the database's address.
        next_step: what the user can do.
        kind: the type of the error.
        data: what happened to the data.
    """

    codes: Sequence[int | str]
    why: str
    next_step: str
    kind: type[YeldroError] = DatabaseFailure
    data: str = ROLLED_BACK

    def has(self, code: int | str) -> bool:
        """True if it is about this code."""
        return any(
            code.startswith(each)
            if isinstance(code, str) and isinstance(each, str)
            else code == each
            for each in self.codes
        )

    def error(self, code: int | str, reason: str, shown: str) -> YeldroError:
        """Return the error for people."""
        why = self.why.format(reason=reason, code=code, shown=shown)
        return self.kind(why, self.next_step, data=self.data)


def explained_by(
    causes: Iterable[Cause], code: int | str, reason: str, shown: str, system: str
) -> YeldroError:
    """Return what an error means by the first cause that has its code.

    An error that no cause has is shown as the system words it.
    """
    for cause in causes:
        if cause.has(code):
            return cause.error(code, reason, shown)
    return DatabaseFailure(
        f"{system} refused: {reason}.",
        f"Its code for this is {code}; look it up in {system}'s manual.",
        data=ROLLED_BACK,
    )


def too_slow(limit: float | None) -> StatementTimeout:
    """Return the error for a statement that was stopped at its time limit, in seconds."""
    return StatementTimeout(
        f"A statement took longer than {seconds(limit)} and was stopped.",
        "Allow more with ‹time_limit› SECONDS, or look for a missing index.",
        data=ROLLED_BACK,
    )


def seconds(number: float | None) -> str:
    """Return a time in words."""
    return f"{number or 0:g} second{'' if number == 1 else 's'}"

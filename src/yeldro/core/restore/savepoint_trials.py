"""Finding the rows that a database refuses, by trying parts of a step in savepoints."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database.facts import RowRefusal
from yeldro.core.database.protocol import Session
from yeldro.core.model.messages.errors import RestoreConflict
from yeldro.core.model.messages.names import told_rows
from yeldro.core.restore.comparing.conflicts import Conflict, ConflictKind, sample

if TYPE_CHECKING:
    from yeldro.core.restore.staged.undoing import UndoneRows

_MOST_REFUSED = 1000


@dataclass(frozen=True)
class Savepoint:
    """A named point in a transaction to go back to."""

    session: Session
    name: str

    def set(self) -> None:
        self.session.savepoint(self.name)

    def release(self) -> None:
        self.session.release(self.name)

    def go_back(self) -> None:
        """Undo what was done since; the savepoint stays."""
        self.session.back_to(self.name)


@dataclass
class Refusals:
    """The staged rows that a database refuses, by reason."""

    step: UndoneRows
    rows: dict[RowRefusal, list[int]] = field(default_factory=dict)

    def conflicts(self) -> list[Conflict]:
        """Return a conflict for each reason."""
        return [self._conflict(refusal, numbers) for refusal, numbers in self.rows.items()]

    def _conflict(self, refusal: RowRefusal, numbers: Sequence[int]) -> Conflict:
        table = self.step.table
        chosen = self.step.staged.c.yeldro_row.in_(numbers)
        said = f"{told_rows(len(numbers), table.name, 'is', 'are')} refused by the database"
        if refusal.constraint:
            drop = self.step.session.dropping(table, refusal.constraint)
            said += f" because of {refusal.constraint} ('{drop};' drops it)"
        said += f": {refusal.reason}{sample(self.step, chosen)}"
        return Conflict(ConflictKind.REFUSED, str(table.name), len(numbers), said, chosen)


class StepRefused(Exception):
    """The database refused rows of a step.

    Args:
        refusals: the rows, by reason.
    """

    def __init__(self, refusals: Refusals) -> None:
        self.n = refusals.step.step.n
        self.numbers = [number for some in refusals.rows.values() for number in some]
        self.conflicts = refusals.conflicts()
        super().__init__("; ".join(conflict.said for conflict in self.conflicts))


def find_refused(step: UndoneRows, put_back: Callable[[], int]) -> Refusals:
    """Try the rows of a step in ever smaller parts until each refused row is known.

    Accepted rows stay, so that rows in conflict with one another are found too.

    Args:
        put_back: puts back the rows of `step.part`.

    Raises:
        RestoreConflict: too many rows are refused.
        DBAPIError: the database fails for a reason that no row causes.
    """
    found = Refusals(step)
    numbers = step.row_numbers()
    waiting = [numbers]
    place = Savepoint(step.session, "yeldro_part")
    try:
        while waiting:
            part = waiting.pop()
            step.part = (part[0], part[-1])
            place.set()
            try:
                put_back()
            except sa.exc.DBAPIError as error:
                refusal = step.session.row_refusal(error)
                if refusal is None:
                    raise
                place.go_back()
                half = len(part) // 2
                waiting += [part[half:], part[:half]] if half else []
                if not half:
                    found.rows.setdefault(_without_values(refusal), []).append(part[0])
            place.release()
            if sum(map(len, found.rows.values())) > _MOST_REFUSED:
                raise RestoreConflict(
                    f"The database refuses more than {_MOST_REFUSED:,} rows of "
                    f"{step.table.name}: {next(iter(found.rows)).reason}.",
                    "Remove what stands in the way, then restore again.",
                )
    finally:
        step.part = None
    return found


def _without_values(refusal: RowRefusal) -> RowRefusal:
    """Return the refusal without its values, so that those of one constraint are one."""
    if not refusal.constraint:
        return refusal
    return RowRefusal(refusal.reason.partition(" (")[0], refusal.constraint)

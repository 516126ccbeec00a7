"""Options of a selection that cannot go together."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import NoSelection, UsageError
from yeldro.core.model.tables.equality import EqualityRules

if TYPE_CHECKING:
    from yeldro.core.selection.asked import Selection


def check_parts(selection: Selection) -> None:
    """Refuse options of a selection that contradict each other.

    Raises:
        UsageError: two of them do.
        NoSelection: nothing says which rows are meant.
    """
    if selection.all_rows and selection.narrows:
        raise UsageError(
            "‹all_rows› means every row, and another option narrows the rows.",
            "Drop ‹all_rows›, or everything else that chooses rows.",
        )
    if not selection.all_rows and not selection.narrows:
        raise NoSelection(
            f"Nothing says which rows of {selection.table} are meant.",
            "Say ‹where›, ‹matching›, ‹missing_in› or ‹duplicates_by›; or ‹all_rows›.",
        )
    if (selection.limit is None) != (selection.order_by is None):
        raise UsageError(
            "‹order_by› and ‹limit› go together: a limit without an order picks arbitrary rows.",
            "Give both, such as ‹order_by› taken_at ‹limit› 5.",
        )
    if selection.limit is not None and selection.limit < 1:
        raise UsageError(f"‹limit› {selection.limit} leaves no rows.", "Give a number from 1 up.")
    if selection.same != EqualityRules() and not selection.duplicates_by:
        raise UsageError(
            "There are options for comparing duplicates, and no ‹duplicates_by›.",
            "Add ‹duplicates_by› COLUMNS, or drop those that say how they are compared.",
        )
    if selection.decisions is not None and not selection.duplicates_by:
        raise UsageError(
            "‹decisions› chooses among duplicates, and no ‹duplicates_by› says what they are.",
            "Add ‹duplicates_by› COLUMNS: those that the review was written with.",
        )
    others = selection.where, selection.matching, selection.missing_in, selection.orphans
    if selection.decisions is not None and any((*others, selection.limit, selection.batch)):
        raise UsageError(
            "‹decisions› says of every row whether it goes, and another option narrows the rows or "
            "takes them in batches.",
            "Drop ‹decisions›, or everything else that chooses rows.",
        )
    if selection.keep and not selection.duplicates_by:
        raise UsageError(
            "‹keep› chooses among duplicates, and no ‹duplicates_by› says what they are.",
            "Add ‹duplicates_by› COLUMNS, or drop ‹keep›.",
        )


def check_without_key(selection: Selection) -> None:
    """Refuse what takes an order of rows, in a table that has none.

    Raises:
        UsageError: the selection does.
    """
    if selection.batch is not None:
        raise UsageError(
            f"{selection.table} has no key, so there is no order in which its rows go in batches.",
            "Drop ‹batch›, or give the table a key.",
        )
    if selection.duplicates_by and selection.limit is not None:
        raise UsageError(
            f"{selection.table} has no key, so the first {selection.limit} of its duplicates "
            f"cannot be told from the others.",
            "Drop ‹limit›, or narrow them with ‹where›.",
        )

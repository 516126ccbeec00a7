"""Restores that are undone by their own receipts, and undone again."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.database.protocol import Database
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.restore.restore import NOTHING, compare, restore


def back_and_forth(
    database: Database,
    path: Path,
    contents: Callable[[], object],
    allowed: Acceptances = NOTHING,
) -> None:
    """Restore a receipt, undo that, and undo the undoing; each time all is as it was."""
    gone = contents()
    receipt = read_receipt(path)
    first = restore(database, receipt, 5, allowed=allowed)
    whole = contents()
    assert whole != gone
    verdict = "all undone" if receipt.is_of_restore else "all back"
    assert compare(database, receipt).verdict == verdict
    assert first.receipt is not None
    second = restore(database, read_receipt(first.receipt), 5, allowed=allowed)
    assert contents() == gone
    assert second.receipt is not None
    assert second.total <= first.total  # a row that came back and got its link again counted twice
    third = restore(database, read_receipt(second.receipt), 5, allowed=allowed)
    assert contents() == whole
    assert third.total == second.total

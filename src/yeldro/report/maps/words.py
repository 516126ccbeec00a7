"""What a map says of its tables and foreign keys, the same in every form."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.chains import Fate
from yeldro.report.text import visible

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap, MapKey, MapTable

_DONE = {
    Fate.REMOVED: "removed",
    Fate.DETACHED: "detached",
    Fate.REPOINTED: "repointed",
    Fate.BLOCKS: "BLOCK",
    Fate.REMOVED_ELSEWHERE: "removed elsewhere",
    Fate.FILLED: "filled",
}


def rows_of(table: MapTable) -> str:
    """Return how many rows a table has, and how many go or change; of a view, that it is one."""
    if table.kind != "table":
        return table.kind
    if not table.is_affected:
        return "" if table.rows is None else counted(table.rows, "row")
    said = []
    if table.gone:
        said.append(f"{table.gone:,} of {counted(table.rows or 0, 'row')} go")
    if table.changed:
        whole = "" if said else f" of {counted(table.rows or 0, 'row')}"
        said.append(f"{table.changed:,}{whole} change")
    return ", ".join(said)


def steps_of(table: MapTable) -> str:
    """Return the numbers of the steps for a table."""
    return ", ".join(label for label, _ in table.steps)


def columns_of(each: MapKey) -> str:
    """Return a foreign key without its child: `buoy_id → buoy`."""
    return visible(f"{', '.join(each.key.columns)} → {each.parent}")


def fate_of(each: MapKey) -> str:
    """Return what happens to the rows of a foreign key: `31 removed`; empty if nothing does."""
    return ", ".join(f"{rows:,} {_DONE[fate]}" for fate, rows in each.fates)


def summary(drawn: KeyMap) -> str:
    """Return the last line under a map."""
    parts = []
    if drawn.total is not None:
        gone = counted(drawn.total, "row")
        gone += " went or changed" if drawn.done else " would go or change"
        parts.append("Blocked: nothing runs." if drawn.is_blocked else f"{gone}.")
    if drawn.left_out:
        left = counted(drawn.left_out, "table")
        parts.append(f"{left} of this database {'is' if drawn.left_out == 1 else 'are'} not drawn.")
    return " ".join(parts)

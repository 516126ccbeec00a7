"""Quicker ways than DELETE to remove many rows of one table: what forbids them.

TRUNCATE empties a table. Where most rows go, the others can be set aside and written back to the
emptied table. Where all rows of a partition go, it can be emptied alone. None of these runs the
triggers of a DELETE, and all of them keep everybody else out of the table.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from yeldro.core.changes.emptying import WITHOUT
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.facts import Emptying
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.messages.options import Option
from yeldro.core.model.work.steps import Action
from yeldro.core.selection.asked import Selection

if TYPE_CHECKING:
    from yeldro.core.database.facts import Consequences
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.tables.schema import Table, TableName
    from yeldro.core.model.work.steps import Step

_WORTH_IT = 100_000  # rows that go, from which on it is worth to tell of a quicker way


def check_selection(how: Emptying, selection: Selection) -> None:
    """Refuse a selection that TRUNCATE cannot carry out, as it has no conditions.

    Raises:
        UsageError: the selection is not simply every row of a table.
    """
    only = selection.only_table
    whole = selection == Selection(selection.table, all_rows=True, only_table=only)
    if how is Emptying.TRUNCATE and not whole:
        raise UsageError(
            "‹truncate› empties the whole table, and other options choose rows.",
            "Give ‹all_rows› and nothing that narrows it, or drop ‹truncate›.",
        )


def check_emptying(
    session: Session, how: Emptying, table: Table, selection: Selection
) -> Consequences:
    """Return what it means to empty a table in this way.

    Raises:
        Refused: foreign keys, triggers, replication or the system forbid it; they are named.
    """
    if session.catalogue.part_of(find_table(session.catalogue, selection.table).name):
        raise Refused(
            f"{selection.table} is a partition of another table, and is not emptied on its own.",
            WITHOUT[how],
        )
    found = session.emptying.means(how, table)
    obstacles = [
        f"the foreign key {key} references it"
        for key in session.catalogue.referencing(table.name)
        if key.child != table.name and not found.beside_others
    ]
    events = ("delete", "insert") if how is Emptying.KEEP_SURVIVORS else ("delete",)
    for name in dict.fromkeys(each.name for each in table.triggers if each.event in events):
        obstacles.append(f"its trigger {name} would not run as for a DELETE")
    if selection.duplicates_by and how is not Emptying.TRUNCATE and not table.has_key:
        obstacles.append("it has no key, by which the groups of duplicates are looked at again")
    if selection.duplicates_by and found.commits_by_itself:
        obstacles.append("its rows cannot be compared with one another while it is locked")
    obstacles += found.forbidden
    if obstacles:
        what = "truncated" if how is Emptying.TRUNCATE else f"emptied by ‹{how}›"
        raise Refused(f"{table.name} cannot be {what}: {'; '.join(obstacles)}.", WITHOUT[how])
    return found


def check_only_step(how: Emptying, means: Consequences, steps: Sequence[Step]) -> None:
    """Refuse a plan in which more happens than that rows of the named table go.

    Raises:
        Refused: there are other steps, and the system cannot empty a table between them.
    """
    if len(steps) > 1 and not means.beside_others:
        raise Refused(
            f"‹{how}› removes rows of one table in one step, and this plan has {len(steps)} steps.",
            WITHOUT[how],
        )


def table_to_lock(database: Database, how: Emptying, selection: Selection) -> TableName:
    """Return the table that nobody else may use while it is counted and emptied."""
    check_selection(how, selection)
    with database.reading() as session:
        table = find_table(session.catalogue, str(selection.table))
        check_emptying(session, how, table, selection)
        return table.name


def quicker_way(
    session: Session, table: Table, selection: Selection, rows: int, steps: Sequence[Step]
) -> tuple[str, ...]:
    """Return that the rows that stay could be written again instead, if that pays and is possible.

    Args:
        rows: those of the table.
    """
    own = (step for step in steps if step.table == str(table.name))
    going = sum(step.rows for step in own if step.action is Action.REMOVE)
    staying = rows - going
    if going < _WORTH_IT:
        return ()
    how = Emptying.KEEP_SURVIVORS
    try:
        means = check_emptying(session, how, table, selection)
        check_only_step(how, means, steps)
    except Refused:
        return ()
    if staying * means.cost_of_writing > going:
        return ()
    return (
        f"Most of {table.name} goes: {Option(how)} would write the rows that stay again "
        f"({staying:,}), instead of removing {going:,}.",
    )

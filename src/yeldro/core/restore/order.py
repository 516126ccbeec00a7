"""The order in which the steps of a receipt are undone, so that no row is ever without its parent.

Rows come back before links to them are set, and go after links to them are cut. Keys that had moved
together with the rows that reference them move back together: in one, if the system checks every
statement.
"""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from yeldro.core.model.work.steps import Action
from yeldro.core.restore.comparing.conflicts import references_rows
from yeldro.core.restore.comparing.key_swaps import swaps_keys
from yeldro.core.restore.staged.undoing import by_links

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.restore.staged.undoing import UndoneRows


def in_order(staged_steps: Sequence[UndoneRows]) -> list[UndoneRows]:
    """Return the steps in the order in which they are undone.

    Args:
        staged_steps: a receipt's steps, last first, so that parents go back before children.
    """
    come, change, change_unique, change_keys, go = range(5)
    checks = not all(each.session.traits.core_checks_foreign_keys for each in staged_steps)

    def place(each: UndoneRows) -> int:
        if each.step.action in (Action.REMOVE, Action.ADD):
            return come if each.step.action is Action.REMOVE else go
        if each.changes_key:  # last, as changed rows are found by the keys they have now
            return change_keys
        unique = {name for key in each.table.candidate_keys for name in key.columns}
        changed = dict(each.named("old")).keys() - each.late_columns
        return change_unique if unique & changed else change

    if checks:
        coming = {each.table.name for each in staged_steps if each.step.action is Action.REMOVE}
        going = {each.table.name for each in staged_steps if each.step.action is Action.ADD}
        for each in staged_steps:
            if not each.holds_whole_rows:
                each.put_off_columns(coming, going=each.table.name in going)
    found = sorted(_parents_first(staged_steps), key=place)
    if all(each.holds_whole_rows for each in found):
        return found
    bound = _bound_to_moving_keys(found, checks=checks)
    moment = change if any(each.step.action is Action.ADD for each in bound) else change_keys
    before = [each for each in found if each not in bound and place(each) <= moment]
    return [*before, *bound, *(each for each in found if each not in [*before, *bound])]


def _parents_first(staged_steps: Sequence[UndoneRows]) -> list[UndoneRows]:
    """Return the rows that come back before the rest, those of referenced tables first.

    Steps of one receipt can be those of several plans. On a cycle the tables come first to which
    a link cannot be set later; else they stay in their order.
    """
    coming = [each for each in staged_steps if each.step.action is Action.REMOVE]

    among_all, among_lasting = (
        {name: -n for n, part in enumerate(by_links(coming, lasting=lasting)) for name in part}
        for lasting in (False, True)
    )
    coming.sort(key=lambda each: (among_all[each.table.name], among_lasting[each.table.name]))
    return [*coming, *(each for each in staged_steps if each not in coming)]


def _bound_to_moving_keys(staged_steps: Sequence[UndoneRows], *, checks: bool) -> list[UndoneRows]:
    """Return whole rows that wait for keys which move, and the steps that depend on them.

    Args:
        checks: the system checks foreign keys after each statement; else unique keys alone count.
    """
    moving = [each for each in staged_steps if not each.holds_whole_rows]
    whole = [each for each in staged_steps if each.holds_whole_rows]
    bound: list[UndoneRows] = []
    fresh = [
        each for each in whole if _swaps_keys(each, moving) or (checks and _depends(each, moving))
    ]
    while fresh:
        bound += fresh
        waited_for = [each for each in bound if each.holds_whole_rows]
        others = [each for each in staged_steps if each not in bound] if checks else []
        fresh = [each for each in others if _depends(each, waited_for)]
    return [each for each in staged_steps if each in bound]


def _swaps_keys(each: UndoneRows, moving: Sequence[UndoneRows]) -> bool:
    """True if a row swaps some unique key with a row that moves."""
    return any(each.count(swaps_keys(each, other)) for other in moving if other.table == each.table)


def _depends(each: UndoneRows, others: Sequence[UndoneRows]) -> bool:
    """True if rows of a step reference rows of other steps that come, go or move."""
    return any(
        references_rows(each, key, other)
        for key in each.table.foreign_keys
        if each.late_columns.isdisjoint(key.columns)
        for other in others
        if other.table.name == key.parent and (other.holds_whole_rows or other.moves_under(key))
    )


def at_once(session: Session, missing: Sequence[UndoneRows]) -> list[list[UndoneRows]]:
    """Return the steps in order, grouped if they can only be undone together."""
    linked = [
        each
        for child in missing
        for key in child.table.foreign_keys
        for parent in missing
        if {*key.columns} & dict(child.named("old")).keys() and parent.moves_under(key)
        for each in (child, parent)
    ]
    if session.traits.core_checks_foreign_keys or all(each is linked[0] for each in linked):
        return [[each] for each in missing]
    last = max(place for place, each in enumerate(missing) if each in linked)
    before = [[each] for each in missing[:last] if each not in linked]
    after = [[each] for each in missing[last + 1 :]]
    return [*before, [each for each in missing if each in linked], *after]


def plan_late_links(session: Session, staged_steps: Sequence[UndoneRows]) -> None:
    """Postpone links to rows that come later, and cut links to rows that go earlier first.

    The system checks every statement, and rows that went in a cycle reference one another.
    Deferrable keys are checked at the commit.
    """
    whole = [each for each in staged_steps if each.holds_whole_rows]
    for place, each in enumerate(whole):
        going = each.step.action is Action.ADD
        others = whole[:place] if going else whole[place + 1 :]
        each.postpone_links({other.table.name for other in others} - {each.table.name})
    deferrable = [key for each in whole for key in each.table.foreign_keys if key.deferrable]
    if deferrable:
        session.defer_checks(deferrable)

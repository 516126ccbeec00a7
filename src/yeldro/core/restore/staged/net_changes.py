"""The net of a receipt: each row once, as it was before the first step and is after the last.

Several steps of a receipt can change one row, or change it and then remove it. What was there
before all of them is put back at once; what was there in between is not. Rows that nothing
identifies are only counted, and stay as the steps have them.
"""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.work.steps import Action
from yeldro.core.restore.staged.undoing import UndoneRows, by_links

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import TableName
    from yeldro.core.receipts.format import StoredColumn

Source = tuple["StoredColumn", sa.ColumnElement[Any]]
Pairs = Sequence[tuple[str, str]]


def net_changes(staged_steps: Sequence[UndoneRows]) -> list[UndoneRows]:
    """Return what all steps together did: at most one step for the rows that went from a table.

    Rows that went in waves stay apart where they can only come back so: where the system checks
    each statement, and tables reference one another by links that cannot be set later.

    Args:
        staged_steps: all steps of a receipt, in the order in which a row met them.
    """
    by_table: dict[TableName, list[UndoneRows]] = defaultdict(list)
    for step in staged_steps:
        if not step.told_by_count and step.step.action is not Action.ADD:
            by_table[step.table.name].append(step)
    found = list(staged_steps)
    in_waves = _in_waves(by_table)
    for name, steps in by_table.items():
        if len(steps) > 1:
            place = found.index(steps[-1])
            apart = name in in_waves
            net = _net_of_table(steps, apart=apart)
            stay = [each for each in net if apart and each.holds_whole_rows]
            found = [
                *(each for each in found[:place] if each not in steps or each in stay),
                *(each for each in net if each not in stay),
                *(each for each in found[place:] if each not in steps or each in stay),
            ]
    return found


def _in_waves(by_table: Mapping[TableName, Sequence[UndoneRows]]) -> set[TableName]:
    """Return the tables that reference one another by links which cannot be set later."""
    going = [
        each
        for steps in by_table.values()
        for each in steps
        if each.step.action is Action.REMOVE and not each.session.traits.core_checks_foreign_keys
    ]
    return {name for part in by_links(going, lasting=True) if len(part) > 1 for name in part}


def _net_of_table(steps: Sequence[UndoneRows], *, apart: bool) -> list[UndoneRows]:
    changed: list[UndoneRows] = []
    gone: list[UndoneRows] = []
    empty = {each for each in steps if not each.stored}
    for step in steps:
        if step.holds_whole_rows:
            for each in changed:
                _change_back(step, each)
            if apart or not (gone and _joined(gone[-1], step)):
                gone.append(step)
            continue
        twice = []
        for keeps_key in (False, True) if step.changes_key else (False,):
            for each in changed:
                twice += _changed_twice(each, step, keeps_key=keeps_key)
        changed += [*twice, step]
    return [*(each for each in changed if each.stored or each in empty), *gone]


def _change_back(gone: UndoneRows, changed: UndoneRows) -> None:
    """Give the rows that went the values from before they were changed, and count them there."""
    same = _are_same(changed, changed.key, gone, gone.key)
    changing = gone.table.changing_with(name for name, _ in changed.named("old"))
    computed = {name: own for name, own in gone.named("computed") if name in changing}
    values: dict[Any, Any] = {gone.staged.c[own]: sa.null() for own in computed.values()}
    stored_as = dict(gone.named("value"))
    for name, own in [*changed.named("was"), *changed.named("old")]:
        before = sa.select(changed.staged.c[own]).where(*same).correlate(gone.staged)
        values[gone.staged.c[stored_as[name]]] = before.scalar_subquery()
    found = _some(changed, same, gone)
    rows = gone.session.connection.execute(
        sa.update(gone.staged).where(found).values(values)
    ).rowcount
    if rows:  # which are found by the keys from before, now on both sides
        gone.step = replace(gone.step, rows_table=None)
        gone.recomputed |= computed.keys()
        _take_out(
            changed, _some(gone, _are_same(changed, changed.old_key, gone, gone.key), changed)
        )


def _changed_twice(first: UndoneRows, later: UndoneRows, *, keeps_key: bool) -> list[UndoneRows]:
    """Take the rows that two steps changed out of both, into a step of their own.

    Args:
        keeps_key: both name them by the keys they had in the end, as steps of one plan do; else the
            first names them by the keys from before the later one.
    """
    same = _are_same(first, first.key, later, later.key if keeps_key else later.old_key)
    columns = _columns(first, later)
    step = replace(later.step, columns=tuple(column for column, _ in columns), rows_table=None)
    both = UndoneRows(first.session, step, first.changing)
    values = [source.label(f"c{place}") for place, (_, source) in enumerate(columns)]
    query = sa.select(later.staged.c.yeldro_row, *values).where(*same)
    into = [column.name for column in both.staged.c]
    connection = first.session.connection
    rows = sql.inserted(connection, sa.insert(both.staged).from_select(into, query))
    if not rows:
        return []
    both.step = replace(step, planned=rows, affected=rows)
    both.filled(rows)
    _take_out(first, _some(later, same, first))
    _take_out(later, later.staged.c.yeldro_row.in_(sa.select(both.staged.c.yeldro_row)))
    return [both]


def _joined(before: UndoneRows, after: UndoneRows) -> bool:
    """Add the rows that a later step removed to those of an earlier one, stored alike."""
    if before.step.columns != after.step.columns:
        return False
    numbered = [after.staged.c.yeldro_row + before.stored, *list(after.staged.c)[1:]]
    insert = sa.insert(before.staged).from_select(
        [column.name for column in before.staged.c], sa.select(*numbered)
    )
    rows = before.stored + sql.inserted(before.session.connection, insert)
    orphans = Counter(before.step.orphans) + Counter(after.step.orphans)
    before.step = replace(before.step, planned=rows, affected=rows, orphans=dict(orphans),
                          rows_table=None)  # fmt: skip
    before.stored = rows
    before.recomputed |= after.recomputed
    return True


def _are_same(
    one: UndoneRows, found_by: Pairs, other: UndoneRows, others: Pairs
) -> list[sql.Predicate]:
    """Return the conditions that staged rows of two steps on one table are the same row."""
    theirs = dict(others)
    unique = one.table.identity.columns if one.table.has_key else [one.row_id]
    return [
        mine == its if name in unique else mine.is_not_distinct_from(its)
        for name, own in found_by
        if name in theirs
        for mine, its in [(one.staged.c[own], other.staged.c[theirs[name]])]
    ]


def _some(of: UndoneRows, same: Sequence[sql.Predicate], rows: UndoneRows) -> sql.Predicate:
    """True if a row of `rows` is one of another step."""
    query = sa.select(sa.literal(1)).select_from(of.staged).where(*same)
    return sa.exists(query.correlate(rows.staged))


def _take_out(each: UndoneRows, which: sql.Predicate) -> None:
    each.stored -= each.session.connection.execute(sa.delete(each.staged).where(which)).rowcount


def _columns(first: UndoneRows, later: UndoneRows) -> list[Source]:
    """Return what is stored of rows that two steps changed, and where it is taken from."""
    ours, theirs = _by_role(first), _by_role(later)
    changed = ours["old"] | theirs["old"]
    left = ours["left"] | ours["new"] | theirs["left"] | theirs["new"]
    was = theirs["was"] | theirs["old"] | ours["was"] | ours["old"]
    besides = was.keys() - changed.keys()
    key = theirs["key"]
    found = [*theirs["row id"].values()]
    found += [key[name] for name in key if first.table.has_key or name not in changed]
    for before, after, names in (("old", "new", changed), ("was", "left", besides)):
        for name in names:
            found += [_as(before, was[name]), _as(after, left[name])]
    return found


def _by_role(each: UndoneRows) -> defaultdict[str, dict[str, Source]]:
    """Return the staged columns by role and name."""
    found: defaultdict[str, dict[str, Source]] = defaultdict(dict)
    for own, column in each.roles.items():
        found[column.role][column.name] = (column, each.staged.c[own])
    return found


def _as(role: str, source: Source) -> Source:
    return replace(source[0], role=role), source[1]

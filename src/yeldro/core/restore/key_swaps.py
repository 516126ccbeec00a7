"""Key swaps: a row went, and another row's key changed to the one it had."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.model.steps import Action

if TYPE_CHECKING:
    from yeldro.core.database import sql
    from yeldro.core.model.schema import CandidateKey
    from yeldro.core.restore.staged_rows import StagedRows


def goes_from(whole: StagedRows, moving: StagedRows) -> bool:
    """True if a step's rows are to go, and may have a key that another step gives back."""
    return whole.step.action is Action.ADD and share_key(whole, moving)


def share_key(whole: StagedRows, moving: StagedRows) -> bool:
    """True if a row that went and a row that changed its key may have had the same row key.

    A row that changed its key first and then went is the same row, so it does not count.
    """
    went_first = whole.step.n < moving.step.n
    return (
        whole is not moving
        and whole.table == moving.table
        and moving.changes_key
        and went_first == (whole.step.action is Action.REMOVE)
    )


def swaps_keys(whole: StagedRows, moving: StagedRows) -> sql.Predicate:
    """True if a row of a step swaps some unique key with a row that another step changes."""
    goes = whole.step.action is Action.ADD

    def same(key: CandidateKey, mine: StagedRows, theirs: StagedRows) -> Iterator[sql.Predicate]:
        for name in key.columns:
            if goes:
                yield mine.current(name) == theirs.restored_value(name)
            else:
                yield mine.restored_value(name) == theirs.current(name)

    moved = dict(moving.named("old")).keys()
    keys = [key for key in whole.table.candidate_keys if moved & {*key.columns}]
    return sa.or_(sa.false(), *(whole.matches_some(moving, partial(same, key)) for key in keys))


def reassigned(whole: StagedRows, others: Sequence[StagedRows]) -> sql.Predicate:
    """True if the row with a staged row's key is one whose key another step has changed."""

    def has_it(mine: StagedRows, holder: StagedRows) -> Iterator[sql.Predicate]:
        goes = mine.step.action is Action.ADD
        theirs = dict(holder.old_key if goes else holder.key)
        yield from (holder.staged.c[theirs[name]] == mine.staged.c[own] for name, own in mine.key)
        if goes:
            yield ~holder.exists(*holder.agree(holder.key), *holder.agree(holder.named("new")))
        else:
            yield ~holder.exists(*holder.agree(holder.old_key), *holder.agree(holder.named("old")))

    found = [whole.matches_some(moving, has_it) for moving in others if share_key(whole, moving)]
    return sa.or_(sa.false(), *found)


def back_under_old_key(each: StagedRows, other: StagedRows) -> sql.Predicate:
    """True if a row is as before a step, under the key it had before another step changed it."""

    def is_back(mine: StagedRows, keyed: StagedRows) -> Iterator[sql.Predicate]:
        yield from _same_rows(mine, keyed)
        as_before = [
            keyed.session.readable(
                keyed.rows.c[name], keyed.table.by_name[name]
            ).is_not_distinct_from(keyed.staged.c[own])
            for name, own in keyed.old_key
        ]
        row = sa.select(sa.literal(1)).select_from(keyed.rows)
        row = row.where(*as_before, *mine.agree(mine.named("old")))
        yield sa.exists(row.correlate(mine.staged, keyed.staged))

    return each.matches_some(other, is_back)


def key_before(each: StagedRows, name: str, others: Iterable[StagedRows]) -> sa.ColumnElement[Any]:
    """Return a key column's value once other steps that changed it are undone."""
    value: sa.ColumnElement[Any] = each.staged.c[dict(each.key)[name]]
    for other in others:
        old = dict(other.named("old")).get(name)
        if other is not each and other.table == each.table and other.changes_key and old:
            keyed = other.aliased("yeldro_keyed")
            before = sa.select(keyed.staged.c[old]).where(*_same_rows(each, keyed))
            value = sa.func.coalesce(before.correlate(each.staged).scalar_subquery(), value)
    return value


def _same_rows(each: StagedRows, other: StagedRows) -> Iterator[sql.Predicate]:
    """Yield the conditions that rows of two steps on one table are the same."""
    theirs = dict(other.key)
    for name, own in each.key:
        yield other.staged.c[theirs[name]].is_not_distinct_from(each.staged.c[own])

"""Rows of two steps that hold one key in turn: one went, and another's key moved to its place."""

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
    """True if a step's rows are to go, and have the key in turn that another step gives back."""
    return whole.step.action is Action.ADD and share_key(whole, moving)


def share_key(whole: StagedRows, moving: StagedRows) -> bool:
    """True if what rows are found by can be that of a row that went, and of one that moved then.

    A row that was moved first and went then is the same one.
    """
    went_first = whole.step.n < moving.step.n
    return (
        whole is not moving
        and whole.table == moving.table
        and moving.changes_key
        and went_first == (whole.step.action is Action.REMOVE)
    )


def takes_turns(whole: StagedRows, moving: StagedRows) -> sql.Predicate:
    """True if a row of a step has some unique key in turn with one that another step moves."""
    goes = whole.step.action is Action.ADD

    def same(key: CandidateKey, mine: StagedRows, theirs: StagedRows) -> Iterator[sql.Predicate]:
        for name in key.columns:
            if goes:
                yield mine.now(name) == theirs.coming(name)
            else:
                yield mine.coming(name) == theirs.now(name)

    moved = dict(moving.named("old")).keys()
    keys = [key for key in whole.table.candidate_keys if moved & {*key.columns}]
    return sa.or_(sa.false(), *(whole.meets(moving, partial(same, key)) for key in keys))


def reassigned(whole: StagedRows, others: Sequence[StagedRows]) -> sql.Predicate:
    """True if the row that has a staged row's key now is one whose key another step has moved."""

    def has_it(mine: StagedRows, holder: StagedRows) -> Iterator[sql.Predicate]:
        goes = mine.step.action is Action.ADD
        theirs = dict(holder.old_key if goes else holder.key)
        yield from (holder.staged.c[theirs[name]] == mine.staged.c[own] for name, own in mine.key)
        if goes:
            yield ~holder.exists(*holder.agree(holder.key), *holder.agree(holder.named("new")))
        else:
            yield ~holder.exists(*holder.agree(holder.old_key), *holder.agree(holder.named("old")))

    found = [whole.meets(moving, has_it) for moving in others if share_key(whole, moving)]
    return sa.or_(sa.false(), *found)


def back_under_old_key(each: StagedRows, other: StagedRows) -> sql.Predicate:
    """True if a row is as before a step where another step, undone too, changed its key."""

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

    return each.meets(other, is_back)


def key_before(each: StagedRows, name: str, others: Iterable[StagedRows]) -> sa.ColumnElement[Any]:
    """Return a key column as staged rows have it once other steps that changed it are undone."""
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

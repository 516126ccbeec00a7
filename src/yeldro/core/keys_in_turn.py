"""Rows of two steps that hold one key in turn: one went, and another's key moved to its place."""

from __future__ import annotations

from collections.abc import Sequence

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.laidout import LaidOut
from yeldro.core.plan import Action


def goes_from(whole: LaidOut, moving: LaidOut) -> bool:
    """Whether a step's rows are to go, and have the key in turn that another step gives back."""
    return whole.step.action is Action.ADD and share_key(whole, moving)


def share_key(whole: LaidOut, moving: LaidOut) -> bool:
    """Whether what rows are found by can be that of a row that went, and of one that moved then.

    A row that was moved first and went then is the same one.
    """
    went_first = whole.step.n < moving.step.n
    return (
        whole is not moving
        and whole.table == moving.table
        and moving.changes_key
        and went_first == (whole.step.action is Action.REMOVE)
    )


def takes_turns(whole: LaidOut, moving: LaidOut) -> sql.Predicate:
    """Whether a row of a step has some unique key in turn with one that another step moves."""
    goes = whole.step.action is Action.ADD
    holder = moving.aliased("yeldro_holder")
    found = []
    for key in whole.table.candidate_keys:
        if whole.table == moving.table and {*key.columns} & dict(moving.named("old")).keys():
            same = (
                (holder.coming(name) if goes else holder.now(name))
                == (whole.now(name) if goes else whole.coming(name))
                for name in key.columns
            )
            query = sa.select(sa.literal(1)).select_from(holder.staged).where(*same)
            found.append(sa.exists(query.correlate(whole.staged)))
    return sa.or_(sa.false(), *found)


def taken_over(whole: LaidOut, others: Sequence[LaidOut]) -> sql.Predicate:
    """Whether the row that has a staged row's key now is one whose key another step has moved."""
    found = []
    for moving in others:
        if share_key(whole, moving):
            holder = moving.aliased("yeldro_holder")
            moved_back = holder.exists(
                *holder.agree(holder.old_key), *holder.agree(holder.named("old"))
            )
            as_moved = holder.exists(*holder.agree(holder.key), *holder.agree(holder.named("new")))
            goes = goes_from(whole, moving)
            theirs = dict(holder.old_key if goes else holder.key)
            same = (
                holder.staged.c[theirs[name]].is_not_distinct_from(whole.staged.c[own])
                for name, own in whole.key
            )
            query = sa.select(sa.literal(1)).select_from(holder.staged)
            query = query.where(*same, ~as_moved if goes else ~moved_back)
            found.append(sa.exists(query.correlate(whole.staged)))
    return sa.or_(sa.false(), *found)

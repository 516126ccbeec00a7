"""Key swaps: a row went, and another row's key changed to the one it had."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import partial
from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.model.work.steps import Action

if TYPE_CHECKING:
    from yeldro.core.database import sql
    from yeldro.core.model.tables.schema import CandidateKey
    from yeldro.core.restore.staged.staged_rows import StagedRows


def goes_from(whole: StagedRows, moving: StagedRows) -> bool:
    """True if a step's rows are to go, and may have a key that another step gives back."""
    return whole.step.action is Action.ADD and share_key(whole, moving)


def share_key(whole: StagedRows, moving: StagedRows) -> bool:
    """True if a row that went or came and one that changed its key may have had the same key."""
    return whole is not moving and whole.table == moving.table and moving.changes_key


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
            yield ~holder.exists(*holder.found_by(holder.key), *holder.agree(holder.named("new")))
        else:
            yield ~holder.exists(
                *holder.found_by(holder.old_key), *holder.agree(holder.named("old"))
            )

    found = [whole.matches_some(moving, has_it) for moving in others if share_key(whole, moving)]
    return sa.or_(sa.false(), *found)

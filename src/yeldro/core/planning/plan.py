"""A plan: every step in order, each with its exact number of rows, or what blocks it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import Change
from yeldro.core.changes.guard import check_trigger_names
from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.database.facts import Consequences
from yeldro.core.database.protocol import Session
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.options import REPOINT, Option
from yeldro.core.model.work.chains import Fate
from yeldro.core.model.work.steps import MATCHED, Action, Step, rows_by_table
from yeldro.core.planning.cleanup import Cleanup, asked_of
from yeldro.core.planning.emptying import (
    check_emptying,
    check_only_step,
    check_selection,
    quicker_way,
)
from yeldro.core.planning.following.treatment import Cause, Link, Reason, Treatment, reach
from yeldro.core.planning.merging.filling import FilledRows
from yeldro.core.planning.merging.repoint import check_repoint
from yeldro.core.planning.ripple.order import Order, removal_order, unordered
from yeldro.core.planning.ripple.ripple import Ripple, count_dependents, count_moved, trace
from yeldro.core.planning.warnings import warnings_of
from yeldro.core.selection.duplicates.prevention import prevention
from yeldro.core.selection.duplicates.values import largest_groups
from yeldro.core.selection.selection import MatchedRows, resolve

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import RowSet
    from yeldro.core.database.facts import Emptying, Prevention
    from yeldro.core.model.tables.schema import ForeignKey, Table
    from yeldro.core.model.work.given import Given
    from yeldro.core.planning.ripple.dependents import Repointed

_LARGEST = 3  # groups of duplicates that are shown
_FATES = {
    Treatment.REMOVE: Fate.REMOVED,
    Treatment.DETACH: Fate.DETACHED,
    Treatment.BLOCK: Fate.BLOCKS,
    Treatment.REPOINT: Fate.REPOINTED,
}


@dataclass(frozen=True)
class Blocked:
    """A foreign key that blocks the removal.

    Args:
        reason: its referential action or the user's choice, and why neither can be carried out.
        rows: rows that reference removed rows and would stay.
        columns, sample: a few of those rows.
        remedies: the options that would remove or detach them.
    """

    foreign_key: str
    table: str
    rows: int
    reason: str
    columns: tuple[str, ...]
    sample: tuple[tuple[Any, ...], ...]
    remedies: tuple[Option, ...]


@dataclass(frozen=True)
class RippleLine:
    """How many rows depend on removed rows through one foreign key, and what happens to them.

    Args:
        foreign_key: in words, `name` as it is typed.
        reason: the referential action, or the option that overrides it.
        of_them: for how many of the rows that holds; the others are removed on another path.
    """

    foreign_key: str
    name: str
    table: str
    rows: int
    fate: Fate
    reason: Reason
    of_them: int


@dataclass(frozen=True)
class Plan:
    """What a cleanup would do to the database as it is now.

    Args:
        matched: rows of the named table that the selection picks.
        total: rows that all steps remove or change.
        at_most: the most rows the filter can match by the key `pinned_key`, None for any number.
        prevention: what would have kept the duplicates out, if the plan leaves no duplicates.
        reads: the tables whose rows decide the counts.
        commits_by_itself: nothing can be rolled back once the rows go.
        table_rows: rows in the named table.
        asked: what was asked for, in full.
        grouped_by, largest: what duplicates agree in, and the groups of which the most rows go,
            each with their number.
    """

    table: str
    matched: int
    table_rows: int
    total: int
    steps: tuple[Step, ...]
    blocked: tuple[Blocked, ...]
    ripple: tuple[RippleLine, ...]
    warnings: tuple[str, ...]
    pinned_key: tuple[str, ...] = ()
    at_most: int | None = None
    prevention: Prevention | None = None
    reads: frozenset[str] = frozenset()
    commits_by_itself: bool = False
    asked: tuple[Given, ...] = field(default=(), compare=False)
    grouped_by: tuple[str, ...] = field(default=(), compare=False)
    largest: tuple[tuple[Any, ...], ...] = field(default=(), compare=False)

    @property
    def rows_by_table(self) -> dict[str, int]:
        """Rows removed or changed, by table."""
        return rows_by_table(self.steps)


@dataclass(frozen=True)
class Prepared:
    """A plan with the sets of rows it was made from, which live as long as the session.

    Args:
        deferred: foreign keys that the system must check at the commit.
        in_waves: rows on a cycle of foreign keys go in waves.
        event_triggers: triggers that temporary tables fire.
    """

    plan: Plan
    changes: tuple[Change, ...]
    ripple: Ripple
    matched: MatchedRows
    deferred: tuple[ForeignKey, ...] = ()
    in_waves: bool = False
    event_triggers: tuple[str, ...] = ()


def prepare(
    session: Session, cleanup: Cleanup, *, explain: bool = True, steps_before: int = 0
) -> Prepared:
    """Compute the plan of a cleanup in an open session; changes no table of the user's.

    Args:
        explain: also count the dependents of every foreign key, for people to read.
        steps_before: the number of steps of earlier cleanups; step numbers go on from there.

    Raises:
        UsageError: the cleanup contradicts itself or uses an unknown name.
        Refused: it is empty, or detaches what cannot be NULL.
    """
    if cleanup.emptying:
        check_selection(cleanup.emptying, cleanup.selection)
    if cleanup.filling and (cleanup.emptying or cleanup.selection.batch is not None):
        raise UsageError(
            f"‹fill› changes rows that stay, and does not go with ‹{cleanup.emptying or 'batch'}›.",
            "Drop one of them.",
        )
    matched = resolve(cleanup.selection, session)
    if cleanup.choices.repoint:
        check_repoint(matched)
    emptied = (
        check_emptying(session, cleanup.emptying, matched.table, cleanup.selection)
        if cleanup.emptying
        else Consequences()
    )
    for name in cleanup.expectations.tables:
        find_table(session.catalogue, name)
    reached = reach(session.catalogue, matched.table, cleanup.choices)
    filled = FilledRows(session, matched, cleanup.filling) if cleanup.filling else None
    extra = matched.grouping.columns if matched.grouping else ()
    ripple = trace(session, matched, reached, extra=extra, filled=filled)
    matched.check_ripple(ripple, cleanup.choices.repoint)
    counted = count_dependents(session, ripple) if explain else {}
    moved = count_moved(session, ripple) if explain else {}
    order = removal_order(session, ripple) if not ripple.blocked else unordered(ripple)
    changes = _in_order(
        matched, ripple, order, counted if explain else None, steps_before, cleanup.emptying
    )
    table_rows = sql.count(session.connection, matched.rows) if explain else 0
    steps = tuple(each.step for each in changes)
    touched = [each.touched for each in changes]
    warned = warnings_of(session, cleanup, matched, ripple, touched, explain=explain)
    notes = (*emptied.notes, *matched.notes)
    if cleanup.selection.where is not None and 1 < ripple.matched == table_rows:
        notes += (f"Every row of {matched.table.name} matches: the condition leaves none out.",)
    if explain and not cleanup.emptying and not ripple.blocked:
        notes += quicker_way(session, matched.table, cleanup.selection, table_rows, steps)
    plan = Plan(
        table=str(matched.table.name),
        matched=ripple.matched,
        table_rows=table_rows,
        total=sum(each.step.rows for each in changes if not each.step.auxiliary),
        steps=steps,
        blocked=tuple(
            _blocked(session, link, found, moves=_could_move(cleanup, matched, link))
            for link, found in ripple.blocked.items()
        ),
        ripple=tuple(
            _ripple_line(link, rows, ripple, moved.get(link)) for link, rows in counted.items()
        ),
        warnings=(*notes, *warned),
        pinned_key=matched.pinned_key.columns if matched.pinned_key else (),
        at_most=matched.at_most,
        prevention=_prevention(session, cleanup, matched),
        reads=frozenset(map(str, {*matched.reads, *(link.key.child for link in reached.links)})),
        commits_by_itself=emptied.commits_by_itself,
        asked=tuple(asked_of(cleanup, matched, session)),
        grouped_by=matched.grouping.written if matched.grouping else (),
        largest=_largest(session, matched, ripple) if explain else (),
    )
    if cleanup.emptying and not plan.blocked:
        check_only_step(cleanup.emptying, emptied, plan.steps)
    return Prepared(
        plan, tuple(changes), ripple, matched, order.deferred, order.in_waves,
        session.event_triggers(),
    )  # fmt: skip


def check_allowed_triggers(done: Sequence[tuple[Cleanup, Prepared]]) -> None:
    """Refuse the name of a trigger if no table that the cleanups can touch has it.

    Raises:
        UsageError: none has it; the nearest names are shown.
    """
    tables: list[Table] = []
    for _, prepared in done:
        ripple = prepared.ripple
        tables += [*ripple.reach.tables, *ripple.reach.children]
        tables += [found.rows.table for found in ripple.repointed]
    names = dict.fromkeys(name for cleanup, _ in done for name in cleanup.allowed_triggers)
    event_triggers = [name for _, prepared in done for name in prepared.event_triggers]
    check_trigger_names(list(names), tables, event_triggers)


def _largest(session: Session, matched: MatchedRows, ripple: Ripple) -> tuple[tuple[Any, ...], ...]:
    going = ripple.removed.get(matched.table.name)
    if matched.grouping is None or going is None or going.copies:
        return ()
    by, same = matched.grouping.by, matched.grouping.same
    return largest_groups(session, matched.table, by, same, going.condition, _LARGEST)


def _prevention(session: Session, cleanup: Cleanup, matched: MatchedRows) -> Prevention | None:
    if cleanup.selection.leaves_no_duplicates and matched.grouping:
        grouping = matched.grouping
        found = prevention(session, matched.table, grouping.by, grouping.same)
        if not found and cleanup.add_constraint:
            raise UsageError(
                f"No constraint of {session.traits.name} is known to keep these duplicates out: "
                f"none compares text without case on SQLite, or just as these expressions do.",
                "Drop ‹add_constraint›, or store the values in one form and compare them plainly.",
            )
        return found
    if cleanup.add_constraint:
        raise UsageError(
            "‹add_constraint› keeps duplicates out, and this cleanup leaves some or chooses none.",
            "Give ‹duplicates_by› and nothing that narrows it, or drop ‹add_constraint›.",
        )
    return None


def _in_order(
    matched: MatchedRows,
    ripple: Ripple,
    order: Order,
    counted: dict[Link, int] | None,
    before: int,
    emptying: Emptying | None,
) -> list[Change]:
    """Return the steps: detach rows that stay first, then remove in the order found."""
    ordered: list[Change] = []
    for link, found in ripple.detached.items():
        step = _step(before + len(ordered), Action.DETACH, found, link.because, [link])
        ordered.append(Change(step, found, _new_values(link, found.table)))
    repoints = [
        (found, "; ".join(link.because for link in found.links)) for found in ripple.repointed
    ]
    for move in order.steps:
        name = move.rows.table.name
        if name == matched.table.name and move.changes is None:
            ordered += _repointing(before + len(ordered), repoints)
            repoints = []
        links = [
            link
            for link in ripple.reach.links_from(name, Treatment.REMOVE)
            if link.key.parent in ripple.removed and (counted is None or link in counted)
        ]
        reasons = list(dict.fromkeys(link.because for link in links))
        if name == matched.table.name:
            reasons.insert(0, MATCHED)
        if move.changes is not None:
            reasons = [str(move.changes)]
        because = "; ".join([*reasons, *([move.note] if move.note else [])])
        action = Action.DETACH if move.changes else Action.REMOVE
        step = _step(
            before + len(ordered), action, move.rows, because, links, move.changes is not None
        )
        if name == matched.table.name:
            step = replace(step, path=(str(name),))
        values: dict[str, sa.ColumnElement[Any]] = {}
        if move.changes is not None:
            values = {column: sa.null() for column in move.changes.columns}
        quicker = emptying if name == matched.table.name and not values else None
        ordered.append(Change(step, move.rows, values, emptying=quicker))
    filled = ripple.filled
    if filled and filled.rows.rows:
        taken = ", ".join(f"{name} {rows:,}" for name, rows in filled.taken.items())
        because = f"takes what it lacks: {taken}"
        step = _step(before + len(ordered), Action.FILL, filled.rows, because, [])
        ordered.append(Change(step, filled.rows, dict(filled.changes)))
    return ordered


def _repointing(before: int, repoints: Sequence[tuple[Repointed, str]]) -> list[Change]:
    """Return the steps that move children: when those that cannot move are gone."""
    together = {
        name
        for found, _ in repoints
        for link in found.links
        if link.propagated
        for name in (link.key.parent, link.key.child)
    }
    last = sorted(repoints, key=lambda pair: pair[0].rows.table.name in together)
    return [
        Change(
            _step(before + place, Action.REPOINT, found.rows, because, found.links),
            found.rows,
            dict(found.changes),
            at_once=found.rows.table.name in together,
        )
        for place, (found, because) in enumerate(last)
    ]


def _step(
    before: int,
    action: Action,
    found: RowSet,
    because: str,
    links: Sequence[Link],
    auxiliary: bool = False,
) -> Step:
    path = links[0].path if links else ()
    tables = [str(path[0].parent), *(str(key.child) for key in path)] if path else []
    name = str(found.table.name)
    return Step(
        before + 1,
        action,
        name,
        found.rows,
        because,
        tuple(tables) or (name,),
        auxiliary,
        key=found.table.key,
        reached=tuple(each for link in links for each in link.reached),
    )


def _new_values(link: Link, table: Table) -> dict[str, sa.ColumnElement[Any]]:
    values: dict[str, sa.ColumnElement[Any]] = {}
    for name in link.key.changed_columns:
        default = table.by_name[name].default if link.to_default else None
        values[name] = sa.null() if default is None else sa.literal_column(default)
    return values


def _could_move(cleanup: Cleanup, matched: MatchedRows, link: Link) -> bool:
    """True if the rows of a link could be moved to the duplicates that stay."""
    direct = link.key.parent == matched.table.name != link.key.child
    return direct and matched.grouping is not None and not cleanup.choices.repoint


def _blocked(session: Session, link: Link, found: RowSet, *, moves: bool) -> Blocked:
    shown = list(dict.fromkeys((*found.table.identity.columns, *link.key.columns)))[:6]
    query = sa.select(*sql.columns_of(found.source, shown)).where(found.condition).limit(5)
    remedies = [Option("follow", link.key.name)]
    cause = link.obstacle.cause if link.obstacle else None
    cannot_move = link.reason == REPOINT and cause is not Cause.TWICE
    if cannot_move or cause is Cause.NO_KEPT_ROW:
        remedies = []
    changes_keys = cause in (Cause.REFERENCED, Cause.COMPUTED) or link.propagated
    if found.table.can_be_null(link.key.changed_columns) and not changes_keys:
        remedies.append(Option("detach", link.key.name))
    if moves:
        remedies.insert(0, REPOINT)
    return Blocked(
        foreign_key=str(link.key),
        table=str(found.table.name),
        rows=found.rows,
        reason=f"{link.reason}, but {link.obstacle}" if link.obstacle else str(link.reason),
        columns=tuple(shown),
        sample=tuple(tuple(row) for row in session.connection.execute(query)),
        remedies=tuple(remedies),
    )


def _ripple_line(link: Link, rows: int, ripple: Ripple, moved: int | None) -> RippleLine:
    fate = _FATES[link.treatment]
    if link.key in {blocked.key for blocked in ripple.blocked}:
        fate = Fate.BLOCKS
    elif link.treatment in (Treatment.DETACH, Treatment.BLOCK) and link not in ripple.detached:
        fate = Fate.REMOVED_ELSEWHERE
    key, staying = link.key, ripple.blocked | ripple.detached
    stay = sum(found.rows for other, found in staying.items() if other.key == key) or rows
    if moved is not None and fate is Fate.REPOINTED:
        stay = moved
    return RippleLine(str(key), key.name, str(key.child), rows, fate, link.reason, stay)

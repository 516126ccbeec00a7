"""If a removal can be cut into batches, and what any of them can touch."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import replace
from typing import TYPE_CHECKING

from yeldro.core.changes.change_set import Touched
from yeldro.core.changes.storing import become_equal, counted_only
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.messages.options import Option
from yeldro.core.model.tables.schema import ReferentialAction, TableName
from yeldro.core.model.work.chains import Fate
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.planning.following.treatment import Link, Treatment

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.job import Job
    from yeldro.core.planning.plan import Prepared

_WAITING = (ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT)


def only_cleanup(job: Job) -> Cleanup:
    """Return the job's only cleanup.

    Raises:
        UsageError: there are several, or an option needs all rows at once.
    """
    if len(job.cleanups) != 1 or job.after:
        raise UsageError(
            "Batches are committed one by one, so neither several removes nor checks that roll "
            "everything back can be kept together.",
            "Drop ‹batch›, or run each remove on its own.",
        )
    cleanup = job.cleanups[0]
    if cleanup.selection.limit is not None:
        raise UsageError("‹batch› and ‹limit› both cut the rows.", "Keep one of them.")
    if cleanup.emptying:
        raise UsageError(
            f"‹{cleanup.emptying}› removes all rows at once, and ‹batch› in parts.",
            "Drop one of them.",
        )
    if cleanup.add_constraint:
        raise UsageError(
            "‹add_constraint› needs all rows removed in one run.", "Add it in a run afterwards."
        )
    return cleanup


def steps_of_batches(prepared: Prepared) -> list[tuple[Step, TableName]]:
    """Return the steps of the whole plan, and those that only some batches can need."""
    steps = [(change.step, change.rows.table.name) for change in prepared.changes]
    detaching = [pair for pair in steps if pair[0].action is Action.DETACH]
    children = {table.name: table for table in prepared.ripple.reach.children}
    for link in _detached_by_some(prepared):
        name = str(link.key.child)
        step = Step(
            0,
            Action.DETACH,
            name,
            0,
            link.because,
            (name,),
            key=children[link.key.child].key,
            reached=link.reached,
        )
        detaching.append((step, link.key.child))
    others = [pair for pair in steps if pair[0].action is not Action.DETACH]
    ordered = enumerate([*detaching, *others], 1)
    return [(replace(step, n=n), table) for n, (step, table) in ordered]


def touched_by_batches(session: Session, prepared: Prepared) -> list[Touched]:
    """Return all that any of the batches can touch."""
    some = [
        Touched(Action.DETACH, session.catalogue.table(link.key.child), link.key.changed_columns)
        for link in _detached_by_some(prepared)
    ]
    return [*some, *(change.touched for change in prepared.changes)]


def changed_by_batches(prepared: Prepared) -> dict[TableName, set[str]]:
    """Return the columns that any of the batches can change, by table."""
    changed: dict[TableName, set[str]] = defaultdict(set)
    for link in _detached_by_some(prepared):
        changed[link.key.child].update(link.key.changed_columns)
    for change in prepared.changes:
        changed[change.rows.table.name].update(change.values)
    return changed


def _detached_by_some(prepared: Prepared) -> list[Link]:
    """Return the foreign keys by which only batches detach rows.

    A row that references a row of an earlier batch is detached, though a later batch removes it.
    """
    links = prepared.ripple.reach.links
    detached = prepared.ripple.detached
    return [each for each in links if each.treatment is Treatment.DETACH and each not in detached]


def check_divisible(prepared: Prepared) -> None:
    if prepared.in_waves:
        raise Refused(
            "Rows on a cycle of foreign keys go in waves, which cannot be cut into batches.",
            "Run it without ‹batch›.",
        )
    held = [
        line
        for line in prepared.plan.ripple
        if line.fate is Fate.REMOVED_ELSEWHERE and line.reason in _WAITING
    ]
    if held:
        raise Refused(
            f"Rows that go reference one another ({held[0].foreign_key}), and a batch would be "
            f"blocked by rows of a later one.",
            f"Add {Option('follow', held[0].name).named}, so that each batch takes its dependents "
            f"along.",
        )


def check_restorable(session: Session, prepared: Prepared) -> None:
    """Refuse changed rows without a key that a restore could not find after several batches.

    Rows that are equal, or become equal, are only counted. Rows that several batches change are
    stored as each batch found them.
    """
    for change in prepared.changes:
        table = change.rows.table
        if counted_only(session, table) and become_equal(session, prepared.changes, change):
            raise Refused(
                f"{table.name} has no key, and some of its rows that go or change equal others: "
                f"after several batches nothing would tell which of them can be put back.",
                f"Give {table.name} a key, or run it without ‹batch›, or with ‹without_rows›.",
            )
    for name, links in _changing(prepared).items():
        table = session.catalogue.table(name)
        goes = name in prepared.ripple.removed and counted_only(session, table)
        if not table.has_key and (goes or len(links) > 1):
            keys = ", ".join(link.key.name for link in links)
            raise Refused(
                f"{name} has no key, and another batch can change or remove a row that one batch "
                f"changed ({keys}): nothing would tell how to put it back.",
                f"Give {name} a key, or run it without ‹batch›, or with ‹without_rows›.",
            )


def _changing(prepared: Prepared) -> dict[TableName, list[Link]]:
    """Return the foreign keys for which rows of a table can change, if any row depends on one."""
    depended = {line.name for line in prepared.plan.ripple if line.rows}
    changing: dict[TableName, list[Link]] = defaultdict(list)
    for link in prepared.ripple.reach.links:
        if link.treatment in (Treatment.DETACH, Treatment.REPOINT):
            changing[link.key.child].append(link)
    return {
        name: links
        for name, links in changing.items()
        if any(link.key.name in depended for link in links)
    }

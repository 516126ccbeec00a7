"""The order in which rows are removed, so that no row is ever left without its parent.

Children before parents, over the strongly connected components of the foreign keys between the
affected tables. Inside a component the first of these that applies: one statement, if checks come
after the statement or after everything; waves of rows that no remaining row references; constraints
deferred to the commit; a link set to NULL first. If none applies, the cleanup is refused.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass
from itertools import combinations, pairwise
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import RowSet
from yeldro.core.database import sql
from yeldro.core.database.identity import column_list, looked_up_in, scanned_in
from yeldro.core.model.messages.errors import BlockedByForeignKey, Fault, Refused
from yeldro.core.model.tables.graph import components, cycle_through
from yeldro.core.model.tables.schema import ForeignKey, IdentityKind, ReferentialAction, TableName

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.ripple.ripple import Ripple

_MOST_WAVES = 200


@dataclass(frozen=True)
class RemovalStep:
    """Rows that one statement removes, or changes first so that they can be removed.

    Args:
        changes: the link that is set to NULL first, None if the rows are removed.
        note: how the order was found, if that is not obvious.
    """

    rows: RowSet
    changes: ForeignKey | None = None
    note: str = ""


@dataclass(frozen=True)
class Order:
    """The steps in order, and how the system must treat them.

    Args:
        deferred: foreign keys that must be checked at the commit.
        in_waves: rows of a cycle go in waves.
    """

    steps: tuple[RemovalStep, ...] = ()
    deferred: tuple[ForeignKey, ...] = ()
    in_waves: bool = False


def removal_order(session: Session, ripple: Ripple) -> Order:
    """Put the removed rows of all tables in order.

    Raises:
        Refused: a cycle of foreign keys leaves no order; the evidence holds it.
    """
    keys_of: dict[TableName, list[ForeignKey]] = {
        name: [key for key in found.table.foreign_keys if key.parent in ripple.removed]
        for name, found in reversed(ripple.removed.items())
    }
    steps: list[RemovalStep] = []
    deferred: list[ForeignKey] = []
    in_waves = False
    leads_to = _parents(keys_of)
    for link in ripple.reach.links:  # rows that cannot move go first, then the others move
        if link.only_conflicts and link.propagated and link.key.child in leads_to:
            leads_to[link.key.child].append(ripple.reach.tables[0].name)
    for component in components(leads_to):
        inside = [
            key for name in component for key in keys_of[name]
            if key.parent in component and key.parent != name
        ]  # fmt: skip
        if session.traits.core_checks_foreign_keys or len(component) == 1:
            steps += [RemovalStep(ripple.removed[name]) for name in component]
            continue
        own = [key for name in component for key in keys_of[name] if key.parent == name]
        found = _waves(session, ripple, component, [*inside, *own])
        in_waves = in_waves or found is not None
        # Actions fire at once, however late a key is checked (postgresql.org/docs, CREATE TABLE).
        waits = (key.deferrable and key.on_delete is ReferentialAction.NO_ACTION for key in inside)
        if found is None and all(waits):
            deferred += inside
            note = "foreign keys checked at the commit"
            found = [RemovalStep(ripple.removed[name], note=note) for name in component]
        steps += found or _null_first(session, ripple, component, inside)
    return Order(tuple(steps), tuple(deferred), in_waves)


def unordered(ripple: Ripple) -> Order:
    """Return the sets of a cleanup that is blocked, the farthest from the named table first."""
    return Order(tuple(RemovalStep(found) for found in reversed(ripple.removed.values())))


def _parents(keys_of: Mapping[TableName, Sequence[ForeignKey]]) -> dict[TableName, list[TableName]]:
    return {name: [key.parent for key in keys] for name, keys in keys_of.items()}


def _waves(
    session: Session, ripple: Ripple, component: Sequence[TableName], inside: Sequence[ForeignKey]
) -> list[RemovalStep] | None:
    """Return waves of rows that no remaining row references; None if rows are left over.

    Nor are there any where rows are told apart by their contents alone, and so go by their number.
    """
    identities = {ripple.removed[name].table.identity.kind for name in component}
    if IdentityKind.ALL_COLUMNS in identities:
        return None
    done = {name: _identity_table(session, ripple.removed[name]) for name in component}
    remaining = {name: ripple.removed[name].rows for name in component}
    steps: list[RemovalStep] = []
    for wave in range(1, _MOST_WAVES + 1):
        before = sum(remaining.values())
        for name in component:
            found = ripple.removed[name]
            free = _identity_table(session, found)
            _fill_wave(session, ripple, name, inside, done, free)
            rows = sql.count(session.connection, free)
            if rows:
                names = found.table.identity.columns
                session.connection.execute(
                    sa.insert(done[name]).from_select(
                        sql.columns_of(done[name], names), sa.select(*sql.columns_of(free, names))
                    )
                )
                remaining[name] -= rows
                condition = scanned_in(session, found.table, found.source, free)
                rowset = RowSet(found.table, found.source, condition, rows)
                steps.append(RemovalStep(rowset, note=f"wave {wave}"))
        if not any(remaining.values()):
            return steps
        if sum(remaining.values()) == before:
            return None
    return None


def _identity_table(session: Session, found: RowSet) -> sa.TableClause:
    columns = column_list(found.table, found.table.identity.columns)
    return session.create_key_table(columns, len(columns))


def _fill_wave(
    session: Session,
    ripple: Ripple,
    name: TableName,
    inside: Sequence[ForeignKey],
    done: Mapping[TableName, sa.TableClause],
    free: sa.TableClause,
) -> None:
    """Put in `free` the rows of a table that no other row still to go references.

    Rows that are done are left out. A row may reference itself.
    """
    found = ripple.removed[name]
    identity = found.table.identity.columns
    conditions: list[sql.Predicate] = [found.condition]
    conditions.append(~looked_up_in(session, found.table, found.source, done[name]))
    for key in inside:
        if key.parent != name:
            continue
        child = ripple.removed[key.child]
        referencing = child.source.alias("yeldro_referencing")
        pairs = zip(key.columns, key.referenced_columns, strict=True)
        holds = [referencing.c[ours] == found.source.c[theirs] for ours, theirs in pairs]
        holds += sql.in_parts(referencing, key.child_parts)
        holds += sql.in_parts(found.source, key.parent_parts)
        if key.child == name:
            others = (referencing.c[each] != found.source.c[each] for each in identity)
            holds.append(sa.or_(*others))
        if child.keys is None:
            raise Fault(f"the rows of {key.child} have no key table")
        going = scanned_in(session, child.table, referencing, child.keys)
        gone = scanned_in(session, child.table, referencing, done[key.child])
        query = sa.select(sa.literal(1)).select_from(referencing).where(*holds, going, ~gone)
        conditions.append(~sa.exists(query.correlate(found.source)))
    selected = sa.select(*sql.columns_of(found.source, identity)).where(*conditions)
    session.connection.execute(
        sa.insert(free).from_select(sql.columns_of(free, identity), selected)
    )


def _null_first(
    session: Session, ripple: Ripple, component: Sequence[TableName], inside: Sequence[ForeignKey]
) -> list[RemovalStep]:
    """Set the fewest nullable links to NULL that break every cycle, then remove children first.

    Only if a key finds the changed rows again: a physical row id can change with the row.
    """
    tables = {name: ripple.removed[name].table for name in component}
    nullable = [
        key
        for key in inside
        if tables[key.child].can_be_null(key.columns) and tables[key.child].has_key
    ]
    for number in range(1, len(nullable) + 1):
        for cut in combinations(nullable, number):
            graph = _graph_without(component, inside, cut)
            parts = components(graph)
            if all(len(part) == 1 for part in parts):
                first = [_set_null(session, ripple, key) for key in cut]
                return [step for step in first if step.rows.rows] + [
                    RemovalStep(ripple.removed[name]) for part in parts for name in part
                ]
    raise _no_order(component, inside)


def _graph_without(
    component: Sequence[TableName], inside: Sequence[ForeignKey], cut: Collection[ForeignKey]
) -> dict[TableName, list[TableName]]:
    kept = [key for key in inside if key not in cut]
    return {name: [key.parent for key in kept if key.child == name] for name in component}


def _set_null(session: Session, ripple: Ripple, key: ForeignKey) -> RemovalStep:
    found = ripple.removed[key.child]
    linked = (found.source.c[name].is_not(None) for name in key.columns)
    condition = sa.and_(found.condition, *linked)
    rows = sql.count(session.connection, found.source, condition)
    changed = RowSet(found.table, found.source, condition, rows, found.keys)
    return RemovalStep(changed, key, "breaks a cycle, before the rows are removed")


def _no_order(component: Sequence[TableName], inside: Sequence[ForeignKey]) -> Refused:
    """Return the refusal of a cycle, which is written `a.x → b.y → a.z`."""
    path = cycle_through(_graph_without(component, inside, ()), component)
    keys: list[Any] = []
    for child, parent in pairwise(path):
        keys.append(next(key for key in inside if (key.child, key.parent) == (child, parent)))
    last = f"{keys[-1].parent}.{','.join(keys[-1].referenced_columns)}"
    written = " → ".join([*(key.name for key in keys), last])
    return BlockedByForeignKey(
        f"These foreign keys form a cycle whose rows reference one another: {written}. They cannot "
        "all be deferred, and none accepts NULL in a table with a key, so no order of statements "
        "removes the rows.",
        "Let a column of one of them accept NULL, in a table with a key; or declare them NO ACTION "
        "and DEFERRABLE, where the system can.",
        cycle=[str(key) for key in keys],
    )

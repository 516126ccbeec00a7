"""What people should know of a plan before its rows go."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import TYPE_CHECKING, Protocol

import sqlalchemy as sa

from yeldro.core.changes.guard import missing_privileges
from yeldro.core.database import sql
from yeldro.core.model.messages.names import told_rows
from yeldro.core.model.messages.options import Option
from yeldro.core.selection.duplicates.values import equal_on_null, inexact

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import RowSet, Touched
    from yeldro.core.database.facts import Emptying
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table, TableName, Trigger
    from yeldro.core.planning.following.treatment import Link
    from yeldro.core.planning.ripple.ripple import Ripple
    from yeldro.core.selection.asked import Selection
    from yeldro.core.selection.selection import MatchedRows

_FEW_ROWS = 1000  # reading these costs nothing that anybody notices


class Asked(Protocol):
    """What of a cleanup decides which warnings there are."""

    @property
    def selection(self) -> Selection: ...
    @property
    def allowed_triggers(self) -> tuple[str, ...]: ...
    @property
    def emptying(self) -> Emptying | None: ...


def warnings_of(
    session: Session,
    asked: Asked,
    matched: MatchedRows,
    ripple: Ripple,
    touched: Sequence[Touched],
    *,
    explain: bool,
) -> list[str]:
    """Return what people should know before the rows go, as sentences.

    Args:
        touched: what is done to which tables.
        explain: also what takes a look at further rows.
    """
    warnings = [_without_effect(name) for name in ripple.reach.unused]
    start = ripple.reach.tables[0]
    if grouping := matched.grouping:
        said = [inexact(start, grouping.by)]
        if explain and ripple.matched:
            said.append(equal_on_null(session, start, grouping.by, grouping.same))
        warnings += filter(None, said)
    if asked.selection.where is not None and (explain or not ripple.matched):
        from yeldro.core.selection.conditions.doubts import hints

        warnings += hints(session, asked.selection, start, explain, bool(ripple.matched))
    unindexed = [
        (link, child)
        for link in ripple.reach.links
        if link.key.parent in ripple.removed
        and not (child := session.catalogue.table(link.key.child)).has_index_on(link.key.columns)
    ]
    sizes = sql.sizes(session.connection, [child for _, child in unindexed])
    slow = [(link, child) for link, child in unindexed if sizes[child.name] > _FEW_ROWS]
    if slow:
        warnings.append(_no_index(session, slow, sizes))
    for found in ripple.removed.values():
        warnings += _unsure(session, found)
    warnings += _of_triggers(session, asked, touched)
    return warnings


def of_privileges(session: Session, asked: Asked, touched: Sequence[Touched]) -> list[str]:
    """Return the privileges that a run would miss.

    Emptying a table needs other ones, which cannot be asked for without locking it.
    """
    missing = [] if asked.emptying else missing_privileges(session, touched)
    return [f"A privilege is missing: {each}." for each in missing]


def _of_triggers(session: Session, asked: Asked, touched: Sequence[Touched]) -> list[str]:
    """Return what the kinds of tables, and their triggers, make unsure."""
    warnings: list[str] = []
    for name in session.event_triggers():
        if name not in asked.allowed_triggers:
            warnings.append(
                f"The event trigger {name} runs when Yeldro makes its temporary tables; if it "
                f"changes rows, everything is rolled back, unless "
                f"{Option('allow_trigger', name)} is given."
            )
    for table, event in dict.fromkeys((each.table, each.event) for each in touched):
        if table.kind != "table":
            warnings.append(f"{table.name} is a {table.kind}; a run is refused.")
        warnings += [f"{table.name}: {note}." for note in table.notes]
        for trigger in table.triggers:
            if trigger.event == event and trigger.name not in asked.allowed_triggers:
                warnings.append(
                    f"The trigger {trigger.name} runs on every {event} in {table.name}; if "
                    f"it changes rows here, everything is rolled back, unless "
                    f"{Option('allow_trigger', trigger.name)} is given."
                )
            if trigger.event == ("update" if event == "update" else "insert"):
                warnings.append(_fired_again(table, trigger, event))
    return warnings


def _unsure(session: Session, found: RowSet) -> list[str]:
    """Return what is not known of rows that go: what else may go, and whether they come back."""
    warnings = []
    name = found.table.name
    if session.unseen_references(found.table) is None:
        warnings.append(
            f"This user does not see whether tables of other databases reference {name}. "
            f"{session.traits.name} checks them by itself; what it would remove or change there by "
            f"a cascade is not counted."
        )
    if why := session.why_not_inserted(found.table):
        warnings.append(
            f"Rows of {name} could not be put back: {why}. A run refuses them, unless "
            f"{Option('without_rows')} is given."
        )
    kinds = session.unrestorable(found.table)
    for (what, _), rows in zip(kinds, _counted(session, found, kinds), strict=True):
        if rows:
            warnings.append(
                f"{told_rows(rows, name, 'holds', 'hold')} {what}; {session.traits.name} may not "
                f"take that back, and a restore would name them."
            )
    return warnings


def _counted(
    session: Session, found: RowSet, kinds: Sequence[tuple[str, sql.Predicate]]
) -> Sequence[int]:
    """Return how many rows of a set are of each kind, in one query."""
    if not kinds:
        return ()
    numbers = (sa.func.coalesce(sa.func.sum(sa.case((those, 1), else_=0)), 0) for _, those in kinds)
    query = sa.select(*numbers).select_from(found.source).where(found.condition)
    return [int(number) for number in session.connection.execute(query).one()]


def _fired_again(table: Table, trigger: Trigger, event: str) -> str:
    """Return what a restore cannot promise of rows in which a trigger changes values."""
    if event == "delete":
        return (
            f"A restore fires the trigger {trigger.name} when rows of {table.name} come back; what "
            f"it changes in them is set again, or told before the restore is committed."
        )
    kept = "A restore sets back what it changes in them, or tells what it cannot."
    if not table.has_key:
        kept = f"{table.name} has no key, so what it changes in them is not kept in the receipt."
    return f"The trigger {trigger.name} may change more of the rows of {table.name}. {kept}"


def _no_index(
    session: Session, slow: Sequence[tuple[Link, Table]], sizes: Mapping[TableName, int]
) -> str:
    """Return in one line that tables are read as a whole, and what helps."""
    (link, child), *others = slow
    if others:
        names = ", ".join(each.key.name for each, _ in slow)
        return (
            f"{len(slow)} foreign keys have no index, so whole tables are read to look for "
            f"dependents: {names}. Survey one of the tables for more."
        )
    quote = session.connection.dialect.identifier_preparer.quote
    name = quote("_".join([child.name.name, *link.key.columns]))
    table = sql.written(session.connection, child.name)
    columns = ", ".join(map(quote, link.key.columns))
    return (
        f"No index on {link.key.name}: {sizes[child.name]:,} rows are read to look for dependents. "
        f"CREATE INDEX {name} ON {table} ({columns}) helps."
    )


def _without_effect(choice: Option) -> str:
    none = "references the rows that go" if choice.value == "all" else "in reach is called that"
    return f"{choice} has no effect: no foreign key {none}."

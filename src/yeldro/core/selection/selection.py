"""Which rows of one table a cleanup picks: each condition given narrows them further."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.guard import check_kind
from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_columns, find_table, foreign_keys_called
from yeldro.core.database.identity import ROW_HASH, copies_of_rows
from yeldro.core.database.references import without_parent
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.messages.names import suggestion, unquoted
from yeldro.core.model.tables.schema import (
    CandidateKey,
    ForeignKey,
    IdentityKind,
    Parts,
    Table,
    TableName,
)
from yeldro.core.selection.asked import RelatedTable, Selection
from yeldro.core.selection.contradictions import check_parts, check_without_key
from yeldro.core.selection.duplicates.compared import find_compared
from yeldro.core.selection.duplicates.grouping import (
    Grouping,
    count_copies,
    surplus_copies,
    surplus_rows,
)

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.selection.conditions.filters import Filter
    from yeldro.core.selection.duplicates.decisions import DecidedRows, Touched
    from yeldro.core.selection.views import View


@dataclass(frozen=True)
class MatchedRows:
    """A selection resolved against the schema.

    Args:
        repeatable: the conditions give the same rows again after other rows have gone.
        at_most: the most rows the filter can match by a candidate key, None where any number can.
        pinned_key: that candidate key.
        copies: how many rows of each row hash are picked, in a table without a row key from
            whose identical rows only some go.
        grouping: the duplicates among which these rows are surplus, if they are.
        all_surplus: every surplus row of that grouping is picked, and no other.
        decided: the decisions of a person, if rows go by them.
        reads: the tables that the selection reads.
    """

    session: Session

    table: Table
    rows: sa.TableClause
    conditions: tuple[sql.Predicate, ...]
    order: tuple[sa.ColumnElement[Any], ...]
    limit: int | None
    repeatable: bool
    at_most: int | None
    pinned_key: CandidateKey | None
    copies: sa.Subquery | None = None
    grouping: Grouping | None = None
    all_surplus: bool = False
    decided: DecidedRows | None = None
    reads: frozenset[TableName] = frozenset()

    def make_ready(self) -> None:
        """Read what the conditions need besides the database; no key table is made after this."""
        if self.decided:
            self.decided.make_ready()

    def check_ripple(self, ripple: Touched, repoint: bool) -> None:
        """Refuse a ripple that touches rows which were chosen to stay.

        Args:
            repoint: dependent rows move to the row that stays.

        Raises:
            Refused: it does, or it is not clear where rows should move.
        """
        if self.decided:
            self.decided.check_ripple(ripple, repoint)

    @property
    def notes(self) -> tuple[str, ...]:
        """What is to be known of the choice of these rows, as sentences."""
        return self.decided.notes if self.decided else ()

    def select(self, *columns: sa.ColumnElement[Any]) -> sa.Select[Any]:
        """Return a query for these columns of the matched rows."""
        if self.copies is not None:
            return copies_of_rows(self.session, self.table, self.copies, columns, *self.conditions)
        query = sa.select(*columns).select_from(self.rows).where(*self.conditions)
        if self.limit is not None:
            query = query.order_by(*self.order).limit(self.limit)
        return query.correlate(None)


def resolve(selection: Selection, session: Session) -> MatchedRows:
    """Validate a selection against the schema and turn it into conditions.

    Raises:
        UsageError: it contradicts itself or uses an unknown name.
        Refused: it is empty, or its table cannot be cleaned up.
    """
    table = find_table(session.catalogue, selection.table)
    check_parts(selection)
    table, parts = _whole_of(selection, table, session)
    view = _view_of(session, table)
    check_kind(view.base if view else table)
    _check_heirs(selection, table, view)
    if view and selection.duplicates_by:
        raise UsageError(
            f"{table.name} is a view, and duplicates are looked for in tables.",
            f"Name its table: {view.base.name}.",
        )
    rows = sql.rows_of(table)
    only_contents = table.kind == "table" and table.identity.kind is IdentityKind.ALL_COLUMNS
    if only_contents:
        check_without_key(selection)
    copies, grouping, decided = None, None, None
    conditions: list[sql.Predicate] = sql.in_parts(rows, parts)
    filtered = None
    if selection.where is not None:
        from yeldro.core.selection.conditions.filters import parse_filter

        filtered = parse_filter(selection.where, table, session)
        conditions.append(_condition(filtered, selection.parameters, session))
    elif selection.parameters:
        raise UsageError("‹param› is given, but no ‹where› uses it.", "Drop it, or add ‹where›.")
    for related in selection.matching:
        conditions.append(_related(related, table, rows, session))
    for related in selection.missing_in:
        conditions.append(sa.not_(_related(related, table, rows, session)))
    if selection.orphans:
        key = orphan_key(selection.orphans, table)
        parent = session.catalogue.table(key.parent)
        conditions.append(without_parent(key, rows, parent))
    if selection.duplicates_by:
        grouping, decided = _grouped(session, table, selection)
        if only_contents:
            copies = surplus_copies(table, grouping, session)
        else:
            conditions.append(_surplus(table, rows, grouping, session, decided))
    order = _order(selection, table, rows, view, session)
    if only_contents and order:
        contents = session.row_hash(table, rows).label(ROW_HASH.name)
        first = sa.select(contents).where(*conditions).order_by(*order, contents)
        copies = count_copies(first.limit(selection.limit))
    if selection.after_key:
        keys = sql.columns_of(rows, view.key if view else table.identity.columns)
        conditions.append(sa.tuple_(*keys) > sa.tuple_(*map(sa.literal, selection.after_key)))
    key_and_most = _pinned(filtered, table) if filtered else None
    matched = MatchedRows(
        session=session,
        table=table,
        rows=rows,
        conditions=tuple(conditions),
        order=tuple(order),
        limit=selection.limit or selection.batch,
        repeatable=_repeatable(selection, filtered, table, session),
        at_most=key_and_most[1] if key_and_most else None,
        pinned_key=key_and_most[0] if key_and_most else None,
        copies=copies,
        grouping=grouping,
        all_surplus=selection.leaves_no_duplicates,
        decided=decided,
        reads=frozenset(_reads(selection, table, filtered, session)),
    )
    _try_out(matched)
    return _through_view(matched, view) if view else matched


def _grouped(
    session: Session, table: Table, selection: Selection
) -> tuple[Grouping, DecidedRows | None]:
    """Return the duplicates among which rows are chosen, and what a person decided of them."""
    by = find_compared(session, table, selection.duplicates_by, "‹duplicates_by›")
    grouping = Grouping(by, selection.keep, selection.same)
    if selection.decisions is None:
        return grouping, None
    from yeldro.core.selection.duplicates.decisions import DecidedRows

    decided = DecidedRows(session, table, grouping, selection.decisions)
    return replace(grouping, stays=decided.stays), decided


def _surplus(
    table: Table,
    rows: sa.TableClause,
    grouping: Grouping,
    session: Session,
    decided: DecidedRows | None,
) -> sql.Predicate:
    """True for the rows that go: those decided, or all but the one that the keep rules keep."""
    return decided.condition if decided else surplus_rows(table, rows, grouping, session)


def _view_of(session: Session, table: Table) -> View | None:
    if table.kind != "view":
        return None
    from yeldro.core.selection.views import resolve_view

    return resolve_view(session, table)


def _order(
    selection: Selection, table: Table, rows: sa.TableClause, view: View | None, session: Session
) -> list[sa.ColumnElement[Any]]:
    """Return the order in which the first rows are taken: as asked, and then by key."""
    if not selection.order_by and selection.batch is None:
        return []
    said: list[str] = []
    if selection.order_by:
        from yeldro.core.selection.conditions.expressions import parse_order

        said = parse_order(selection.order_by, table, session)
    by_key = sql.columns_of(rows, view.key if view else table.identity.columns)
    return [*map(sa.literal_column, said), *by_key]


def _reads(
    selection: Selection, table: Table, filtered: Filter | None, session: Session
) -> set[TableName]:
    """Return the tables that a selection reads; a view may read any."""
    names = {table.name, *(filtered.tables if filtered else ())}
    for related in (*selection.matching, *selection.missing_in):
        names.add(find_table(session.catalogue, related.other).name)
    names |= {key.parent for key in table.foreign_keys} if selection.orphans else set()
    if any(rule.kind == "referenced" for rule in selection.keep):
        names |= {key.child for key in session.catalogue.referencing(table.name)}
    if any(session.catalogue.table(name).kind == "view" for name in names):
        names |= {*session.catalogue.table_names()}
    return names


def _try_out(matched: MatchedRows) -> None:
    """Make the database parse the selection, without fetching a row."""
    query = sa.select(sa.literal(1)).select_from(matched.rows).where(*matched.conditions)
    try:
        matched.session.connection.execute(query.order_by(*matched.order).limit(0))
    except sa.exc.DBAPIError as error:
        if matched.session.was_stopped(error) or error.connection_invalidated:
            raise
        raise UsageError(
            f"The database does not accept this selection: {matched.session.reason(error)}.",
            "Check the names and functions in it.",
        ) from error


def _through_view(matched: MatchedRows, view: View) -> MatchedRows:
    """Return the rows of a view's base table whose key is in the matched rows of the view."""
    base = sql.rows_of(view.base)
    keys = matched.select(*sql.columns_of(matched.rows, view.key)).subquery("yeldro_picked")
    condition = sql.among(sql.columns_of(base, view.base.identity.columns), sa.select(keys))
    return replace(
        matched, table=view.base, rows=base, conditions=(condition,), order=(), limit=None,
        repeatable=False,
    )  # fmt: skip


def orphan_key(name: str, table: Table) -> ForeignKey:
    """Return the one foreign key of `table` that `name` means: `column` or `child.column`.

    Raises:
        UsageError: no foreign key, or more than one, has that name.
    """
    known, name = table.foreign_keys, unquoted(name)
    found = foreign_keys_called(name, known) or foreign_keys_called(f"{table.name}.{name}", known)
    if len(found) == 1:
        return found[0]
    names = [key.name for key in known]
    problem = f"means several foreign keys of {table.name}" if found else "is no foreign key here"
    raise UsageError(f"‹orphans› {name} {problem}.", suggestion(name, names))


def _whole_of(selection: Selection, table: Table, session: Session) -> tuple[Table, Parts | None]:
    """Return the table whose partition loses rows, and the parts in which they live."""
    part = session.catalogue.part_of(table.name)
    if part is None:
        return table, None
    if selection.duplicates_by:
        raise Refused(
            f"{table.name} is a partition of {part.whole}, and duplicates are looked for in whole "
            f"tables.",
            f"Name {part.whole}, and narrow it with ‹where›.",
        )
    return session.catalogue.table(part.whole), part.parts


def _check_heirs(selection: Selection, named: Table, view: View | None) -> None:
    table = view.base if view else named
    if view and table.heirs and not view.only:
        raise Refused(
            f"The view {named.name} shows rows of tables that inherit from {table.name}, and "
            f"their keys do not tell whose they are.",
            f"Name the table: {table.name} with ‹only_table›, or one of those that inherit.",
        )
    if table.heirs and not selection.only_table:
        names = ", ".join(map(str, table.heirs))
        raise Refused(
            f"Rows of {names} count as rows of {table.name}, and here they cannot be told apart.",
            f"Add ‹only_table› for the rows of {table.name} alone, and name the others one by one.",
        )


def _condition(filtered: Filter, parameters: Mapping[str, Any], session: Session) -> sql.Predicate:
    missing = sorted(filtered.parameters - parameters.keys())
    if missing:
        raise UsageError(
            f"‹where› uses :{missing[0]}, and it has no value.", f"Add ‹param› {missing[0]}=VALUE."
        )
    unused = sorted(parameters.keys() - filtered.parameters)
    if unused:
        raise UsageError(
            f"‹param› {unused[0]} is given, and ‹where› does not use :{unused[0]}.",
            suggestion(unused[0], [f":{name}" for name in sorted(filtered.parameters)]),
        )
    bound = sql.bound(filtered.sql, filtered.parameters, parameters, session.parameter)
    return bound  # type: ignore[return-value]


def _related(
    related: RelatedTable, table: Table, rows: sa.TableClause, session: Session
) -> sql.Predicate:
    other = find_table(session.catalogue, related.other)
    ours, theirs = related_columns(related, table, other)
    others = sql.with_heirs(other).alias("yeldro_other")
    return sql.among(
        sql.columns_of(rows, ours),
        sa.select(*sql.columns_of(others, theirs))
        .where(*(others.c[name].is_not(None) for name in theirs))
        .correlate(None),
    ) & sa.and_(*(rows.c[name].is_not(None) for name in ours))


def related_columns(
    related: RelatedTable, table: Table, other: Table
) -> tuple[list[str], list[str]]:
    """Return the columns of `table` and of `other` that must agree, in pairs.

    Raises:
        UsageError: a column does not exist, or there is not exactly one foreign key to go by.
    """
    if not related.pairs:
        return _joined_by_foreign_key(table, other)
    option = "the columns to match"
    ours = [find_columns(table, [pair[0]], option)[0] for pair in related.pairs]
    return ours, [find_columns(other, [pair[1]], option)[0] for pair in related.pairs]


def _joined_by_foreign_key(table: Table, other: Table) -> tuple[list[str], list[str]]:
    ways = [
        (list(key.columns), list(key.referenced_columns))
        for key in table.foreign_keys
        if key.parent == other.name
    ]
    ways += [
        (list(key.referenced_columns), list(key.columns))
        for key in other.foreign_keys
        if key.parent == table.name
    ]
    if len(ways) == 1:
        return ways[0]
    choices = [
        f"{other.name}:{','.join(f'{a}={b}' for a, b in zip(*way, strict=True))}" for way in ways
    ]
    if ways:
        raise UsageError(
            f"Several foreign keys join {table.name} and {other.name}.",
            f"Say which columns must agree: {' or '.join(choices)}.",
        )
    raise UsageError(
        f"No foreign key joins {table.name} and {other.name}.",
        f"Say which columns must agree: {other.name}:column=other_column.",
    )


def _repeatable(
    selection: Selection, filtered: Filter | None, table: Table, session: Session
) -> bool:
    """True if the conditions alone give the same rows again, though other rows have gone.

    Conditions on rows of another table do, as long as rows of one table go and fire nothing. They
    are only worth it where the system joins in a deletion as it does in a query.
    """
    if selection.duplicates_by or selection.limit or selection.batch:
        return False
    others = [find_table(session.catalogue, each.other)
              for each in (*selection.matching, *selection.missing_in)]  # fmt: skip
    if selection.orphans:
        others.append(session.catalogue.table(orphan_key(selection.orphans, table).parent))
    if others and (table.triggers or not session.traits.joins_in_deletions):
        return False
    if any(each.name == table.name or each.kind == "view" for each in others):
        return False
    return filtered is None or filtered.repeatable


def _pinned(filtered: Filter, table: Table) -> tuple[CandidateKey, int] | None:
    """Return a candidate key that the filter fixes, and the most rows it can then match."""
    for key in table.candidate_keys:
        if all(column in filtered.fixed for column in key.columns):
            most = 1
            for column in key.columns:
                most *= filtered.fixed[column]
            return key, most
    return None

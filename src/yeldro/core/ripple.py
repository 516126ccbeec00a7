"""The rows that go, and the rows that depend on them: a least fixpoint, kept in the database.

R starts as the matched rows. A child row depends on a removed parent row when none of its foreign
key columns is NULL and all equal the referenced ones (MATCH SIMPLE, SQL:2016, 4.18.2). Rows that
depend through a link that removes are in R too, and so on. Sets live in temporary key tables; a
set that is used once has none, its condition is used directly.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import Any

import sqlalchemy as sa

from yeldro.core import sql
from yeldro.core.graph import components
from yeldro.core.protocol import Session
from yeldro.core.schema import Column, Table, TableName
from yeldro.core.selection import MatchedRows
from yeldro.core.treatment import Link, Reach, Treatment

WAVE = "yeldro_wave"


@dataclass(frozen=True)
class RowSet:
    """Some rows of one table.

    Args:
        source: the table as it stands in statements.
        condition: true for exactly the rows of the set.
        rows: their number.
        keys: the key table that holds their identity and referenced columns, where there is one.
    """

    table: Table
    source: sa.TableClause
    condition: sql.Predicate
    rows: int
    keys: sa.TableClause | None = None


@dataclass(frozen=True)
class Ripple:
    """Everything a cleanup would touch.

    Args:
        matched: rows the selection picks.
        matched_keys: their keys, where a key table holds them.
        removed: the rows that go, by table, the named table among them.
        detached: rows that stay and lose a link.
        blocked: rows that stand in the way.
        dependents: how many rows depend on removed rows through each link.
    """

    reach: Reach
    matched: int
    removed: dict[TableName, RowSet]
    detached: dict[Link, RowSet]
    blocked: dict[Link, RowSet]
    matched_keys: sa.FromClause | None = None


def trace(
    session: Session, matched: MatchedRows, reached: Reach, *, extra: Sequence[str]
) -> Ripple:
    """Computes the sets of rows that a cleanup removes, detaches or is blocked by.

    Args:
        extra: columns of the named table that its key table is to hold besides.
    """
    return _Tracing(session, matched, reached, extra).trace()


def count_dependents(session: Session, ripple: Ripple) -> dict[Link, int]:
    """How many rows depend on removed rows through each link, where any do."""
    counted = {}
    for link in ripple.reach.links:
        parents = ripple.removed.get(link.key.parent)
        if parents is None or not parents.rows or parents.keys is None:
            continue
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        condition = depends_on(session, link, child, rows, parents)
        counted[link] = sql.count(session.connection, rows, condition)
    return {link: rows for link, rows in counted.items() if rows}


def depends_on(
    session: Session, link: Link, child: Table, rows: sa.TableClause, parents: RowSet
) -> sql.Predicate:
    """Whether a child row references one of the removed `parents`."""
    assert parents.keys is not None
    return _references(session, link, child, rows, parents.table, parents.keys)


def _references(
    session: Session,
    link: Link,
    child: Table,
    rows: sa.TableClause,
    parent: Table,
    keys: sa.TableClause,
    *conditions: sql.Predicate,
) -> sql.Predicate:
    referenced = sa.select(*sql.columns_of(keys, link.key.referenced_columns)).where(*conditions)
    return sql.among(_compared(session, link, child, rows, parent), referenced)


def _compared(
    session: Session, link: Link, child: Table, rows: sa.FromClause, parent: Table
) -> list[sa.ColumnElement[Any]]:
    pairs = zip(link.key.columns, link.key.referenced_columns, strict=True)
    return [
        session.referencing_value(rows.c[ours], child.by_name[ours], parent.by_name[theirs])
        for ours, theirs in pairs
    ]


class _Tracing:
    """One computation of a ripple; the sets found so far."""

    def __init__(
        self, session: Session, matched: MatchedRows, reached: Reach, extra: Sequence[str]
    ) -> None:
        self.session = session
        self.connection = session.connection
        self.start = matched
        self.reach = reached
        self.extra = tuple(extra)
        self.tables = {table.name: table for table in reached.tables}
        self.removed: dict[TableName, RowSet] = {}
        self.matched = 0
        self.matched_keys: sa.FromClause | None = None

    def trace(self) -> Ripple:
        leads_to: dict[TableName, list[TableName]] = {name: [] for name in self.tables}
        for link in self.reach.links:
            if link.treatment is Treatment.REMOVE:
                leads_to[link.key.parent].append(link.key.child)
        for names in components(leads_to):
            if len(names) > 1 or names[0] in leads_to[names[0]]:
                self._close_over(names)
            else:
                self._pass_once(self.tables[names[0]])
        detached: dict[Link, RowSet] = {}
        blocked: dict[Link, RowSet] = {}
        for link in self.reach.links:
            if link.treatment is Treatment.REMOVE:
                continue
            found = self._staying(link)
            obstacle = self._obstacle(link, found) if link.treatment is Treatment.DETACH else ""
            if obstacle:
                blocked[replace(link, treatment=Treatment.BLOCK, obstacle=obstacle)] = found
            elif found.rows:
                (detached if link.treatment is Treatment.DETACH else blocked)[link] = found
        return Ripple(
            reach=self.reach,
            matched=self.matched,
            removed={name: found for name, found in self.removed.items() if found.rows},
            detached=detached,
            blocked=blocked,
            matched_keys=self.matched_keys,
        )

    def _pass_once(self, table: Table) -> None:
        """The set of a table on no cycle: its parents' sets are all known."""
        rows = sql.rows_of(table)
        if table.name == self.start.table.name:
            direct = self.start.repeatable and not self._needs_keys(table)
            condition = sa.and_(sa.true(), *self.start.conditions)
            query = self.start.select
        else:
            known = self._dependents(table, self.reach.links_from(table.name, Treatment.REMOVE))
            if known is None:
                self._know(RowSet(table, rows, sa.false(), 0))
                return
            condition = known
            direct = not self._needs_keys(table)

            def query(*columns: sa.ColumnElement[Any]) -> sa.Select[Any]:
                return sa.select(*columns).select_from(rows).where(condition)

        if direct:
            counted = sql.count(self.connection, rows, condition)
            self._know(RowSet(table, rows, condition, counted))
            return
        keys = self._create_keys(table)
        names = list(keys.c.keys())
        self._insert(keys, names, query(*sql.columns_of(rows, names)))
        self._know_keys(table, keys)

    def _close_over(self, names: Sequence[TableName]) -> None:
        """The sets of tables on a cycle: repeated until nothing new depends on what is known."""
        inside = [
            link
            for link in self.reach.links
            if link.treatment is Treatment.REMOVE
            and link.key.child in names
            and link.key.parent in names
        ]
        if len(names) == 1 and len(inside) == 1:
            self._recurse(self.tables[names[0]], inside[0])
        else:
            self._repeat([self.tables[name] for name in names], inside)

    def _seed(self, table: Table, keys: sa.TableClause, *more: sa.ColumnElement[Any]) -> int:
        """Puts the rows of a cyclic table that are known from outside the cycle into `keys`."""
        names = [name for name in keys.c.keys() if name != WAVE]  # noqa: SIM118
        rows = sql.rows_of(table)
        if table.name == self.start.table.name:
            query = self.start.select(*sql.columns_of(rows, names), *more)
        else:
            links = self.reach.links_from(table.name, Treatment.REMOVE)
            condition = self._dependents(table, links)
            if condition is None:
                return 0
            query = sa.select(*sql.columns_of(rows, names), *more).where(condition)
        self._insert(keys, [*names, *([WAVE] if more else [])], query)
        seeded = sql.count(self.connection, keys)
        if table.name == self.start.table.name:
            self.matched = seeded
            first = keys.c[WAVE] == 0 if more else sa.true()
            self.matched_keys = sa.select(keys).where(first).subquery("yeldro_matched_keys")
        return seeded

    def _recurse(self, table: Table, link: Link) -> None:
        """A table that references itself once: one recursive query, however deep the rows lie."""
        seeds = self._create_keys(table)
        keys = seeds
        if self._seed(table, seeds):
            keys = self._create_keys(table)
            names = list(keys.c.keys())
            rows = sql.rows_of(table)
            found = sa.select(*sql.columns_of(seeds, names)).cte("yeldro_found", recursive=True)
            references = zip(
                _compared(self.session, link, table, rows, table),
                sql.columns_of(found, link.key.referenced_columns),
                strict=True,
            )
            deeper = (
                sa.select(*sql.columns_of(rows, names))
                .select_from(found)
                .join(rows, sa.and_(*(ours == theirs for ours, theirs in references)))
            )
            found = found.union(deeper)
            self._insert(keys, names, sa.select(*sql.columns_of(found, names)))
        self._know_keys(table, keys, counted_matched=True)

    def _repeat(self, tables: Sequence[Table], inside: Sequence[Link]) -> None:
        """Tables on a cycle: wave after wave of rows that depend on the wave before."""
        keys = {}
        for table in tables:
            keys[table.name] = self._create_keys(table, wave=True)
            self._seed(table, keys[table.name], sa.literal(0))
        wave, fresh = 0, 1
        while fresh:
            before = sum(sql.count(self.connection, each) for each in keys.values())
            for table in tables:
                self._next_wave(table, keys, [k for k in inside if k.key.child == table.name], wave)
            fresh = sum(sql.count(self.connection, each) for each in keys.values()) - before
            wave += 1
        for table in tables:
            self._know_keys(table, keys[table.name], counted_matched=True)

    def _next_wave(
        self,
        table: Table,
        keys: dict[TableName, sa.TableClause],
        links: Sequence[Link],
        wave: int,
    ) -> None:
        rows = sql.rows_of(table)
        mine = keys[table.name]
        names = [name for name in mine.c.keys() if name != WAVE]  # noqa: SIM118
        dependent = []
        for link in links:
            parent, known = self.tables[link.key.parent], keys[link.key.parent]
            latest = known.c[WAVE] == wave
            dependent.append(_references(self.session, link, table, rows, parent, known, latest))
        query = sa.select(*sql.columns_of(rows, names), sa.literal(wave + 1)).where(
            sa.or_(*dependent), ~in_keys(table, rows, mine)
        )
        self._insert(mine, [*names, WAVE], query)

    def _staying(self, link: Link) -> RowSet:
        """The rows that depend through a link and are not removed on any path."""
        child = self.session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        parents = self.removed[link.key.parent]
        if not parents.rows:
            return RowSet(child, rows, sa.false(), 0)
        condition = depends_on(self.session, link, child, rows, parents)
        removed = self.removed.get(child.name)
        if removed is not None and removed.rows:
            assert removed.keys is not None
            condition = sa.and_(condition, ~in_keys(child, rows, removed.keys))
        if link.treatment is Treatment.DETACH and self._shares_columns(link):
            keys = self.session.create_key_table(
                column_list(child, child.identity.columns), len(child.identity.columns)
            )
            names = list(child.identity.columns)
            self._insert(keys, names, sa.select(*sql.columns_of(rows, names)).where(condition))
            condition = stands_in(child, rows, keys)
        return RowSet(child, rows, condition, sql.count(self.connection, rows, condition))

    def _obstacle(self, link: Link, found: RowSet) -> str:
        """Why rows can not take the value that detaching gives them, empty where they can."""
        if not found.rows:
            return ""
        defaults = [found.table.by_name[name].default for name in link.key.columns]
        if link.to_default and all(each and each.upper() != "NULL" for each in defaults):
            parent = self.tables[link.key.parent]
            rows = sql.rows_of(parent)
            is_default = [
                rows.c[name] == sa.literal_column(str(default))
                for name, default in zip(link.key.referenced_columns, defaults, strict=True)
            ]
            removed = self.removed[parent.name].keys
            assert removed is not None
            stays = ~in_keys(parent, rows, removed)
            if not sql.count(self.connection, rows, *is_default, stays):
                return f"the default of {link.key.name} references no row that stays"
        for key in self.session.catalogue.referencing(found.table.name):
            if set(key.referenced_columns) & set(link.key.columns):
                child = self.session.catalogue.table(key.child)
                rows = sql.rows_of(child)
                changing = sa.select(*sql.columns_of(found.source, key.referenced_columns))
                changing = changing.where(found.condition).correlate(None)
                conditions = [sql.among(sql.columns_of(rows, key.columns), changing)]
                removed_child = self.removed.get(child.name)
                if removed_child is not None and removed_child.rows:
                    condition = removed_child.condition
                    conditions.append(sa.func.coalesce(condition, sa.false()) == sa.false())
                if sql.count(self.connection, rows, *conditions):
                    return f"{key.name} references the columns that would change"
        return ""

    def _shares_columns(self, link: Link) -> bool:
        """Whether another detached link of the same child changes a column of this one."""
        return any(
            other is not link and set(other.key.columns) & set(link.key.columns)
            for other in self.reach.links_from(link.key.child, Treatment.DETACH)
        )

    def _dependents(self, table: Table, links: Sequence[Link]) -> sql.Predicate | None:
        """Whether a row depends on a set already known, through one of the links."""
        rows = sql.rows_of(table)
        known = [
            depends_on(self.session, link, table, rows, self.removed[link.key.parent])
            for link in links
            if link.key.parent in self.removed and self.removed[link.key.parent].rows
        ]
        return sa.or_(*known) if known else None

    def _needs_keys(self, table: Table) -> bool:
        """Whether a set is used again: by children, or by rows that stay unless in it."""
        is_child = self.reach.links_from(table.name, Treatment.DETACH, Treatment.BLOCK)
        is_start = table.name == self.start.table.name
        return bool(self.reach.links_to(table.name) or is_child or (is_start and self.extra))

    def _create_keys(self, table: Table, wave: bool = False) -> sa.TableClause:
        identity = table.identity.columns
        referenced = [
            name for link in self.reach.links_to(table.name) for name in link.key.referenced_columns
        ]
        more = self.extra if table.name == self.start.table.name else ()
        columns = column_list(table, dict.fromkeys((*identity, *referenced, *more)))
        if wave:
            columns.append(Column(WAVE, "integer", nullable=False))
        keys = self.session.create_key_table(columns, len(identity))
        if wave:
            self.session.add_index(keys, [WAVE])
        return keys

    def _insert(self, keys: sa.TableClause, names: Sequence[str], rows: sa.Select[Any]) -> None:
        self.connection.execute(sa.insert(keys).from_select(sql.columns_of(keys, names), rows))
        self.session.key_table_filled(keys)

    def _know_keys(self, table: Table, keys: sa.TableClause, counted_matched: bool = False) -> None:
        rows = sql.rows_of(table)
        counted = sql.count(self.connection, keys)
        self._know(
            RowSet(table, rows, stands_in(table, rows, keys), counted, keys), counted_matched
        )

    def _know(self, found: RowSet, counted_matched: bool = False) -> None:
        self.removed[found.table.name] = found
        if found.table.name == self.start.table.name and not counted_matched:
            self.matched = found.rows
            self.matched_keys = found.keys


def column_list(table: Table, names: Iterable[str]) -> list[Column]:
    """The columns of these names, the physical row id among them."""
    row_id = Column(table.physical_row_id or "", table.physical_row_type, nullable=False)
    return [table.by_name.get(name, row_id) for name in names]


def stands_in(table: Table, rows: sa.TableClause, keys: sa.TableClause) -> sql.Predicate:
    """Whether a row's identity is in a key table, as a list the database can walk along."""
    names = table.identity.columns
    return sql.among(sql.columns_of(rows, names), sa.select(*sql.columns_of(keys, names)))


def in_keys(table: Table, rows: sa.TableClause, keys: sa.TableClause) -> sql.Predicate:
    """Whether a row's identity is in a key table, looked up for one row at a time."""
    pairs = (keys.c[name] == rows.c[name] for name in table.identity.columns)
    return sa.exists(sa.select(sa.literal(1)).select_from(keys).where(*pairs).correlate(rows))

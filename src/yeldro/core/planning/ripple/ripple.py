"""The rows that go, and the rows that depend on them: a least fixpoint, computed in the database.

R starts as the matched rows. A child row depends on a removed parent row when none of its foreign
key columns is NULL and all equal the referenced ones (MATCH SIMPLE, SQL:2016, 4.18.2). Rows that
depend through a link that removes are in R too, and so on. Sets live in temporary key tables; for
a set that is used only once its condition is used directly.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import RowSet
from yeldro.core.database import sql
from yeldro.core.database.identity import COPIES, ROW_HASH, looked_up_in, scanned_in
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import Fault
from yeldro.core.model.tables.graph import components
from yeldro.core.model.tables.schema import IdentityKind, Table, TableName
from yeldro.core.planning.following.key_tables import WAVE, KeyTables, once
from yeldro.core.planning.following.row_sets import compared, depends_on, references
from yeldro.core.planning.following.treatment import Link, Reach, Treatment
from yeldro.core.planning.merging.repoint import ChildMoves, KeyMoves, MovedKeys, breakable_keys
from yeldro.core.planning.merging.unique_conflicts import UniqueConflicts
from yeldro.core.planning.ripple.dependents import DependentActions, Repointed
from yeldro.core.selection.duplicates.grouping import note_surplus

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.merging.filling import FilledRows
    from yeldro.core.selection.selection import MatchedRows


@dataclass(frozen=True)
class Ripple:
    """Everything a cleanup would touch.

    Args:
        matched: rows the selection picks.
        matched_keys: their keys, if a key table holds them.
        removed: the rows that go, by table, the named table among them.
        detached: rows that stay and lose a link.
        blocked: rows that stand in the way.
        repointed: rows that stay and will reference the kept row of a group.
        moved_keys: referenced keys that move because their own rows are repointed.
        filled: rows that stay and take values from rows that go.
    """

    reach: Reach
    matched: int
    removed: dict[TableName, RowSet]
    detached: dict[Link, RowSet]
    blocked: dict[Link, RowSet]
    matched_keys: sa.FromClause | None = None
    repointed: tuple[Repointed, ...] = ()
    moved_keys: MovedKeys | None = None
    filled: FilledRows | None = None


def trace(
    session: Session,
    matched: MatchedRows,
    reached: Reach,
    *,
    extra: Sequence[str],
    filled: FilledRows | None = None,
) -> Ripple:
    """Compute the sets of rows that a cleanup removes, changes or is blocked by.

    Args:
        extra: further columns of the named table for its key table.
        filled: rows that take values, not looked for yet.
    """
    ripple = _Tracing(session, matched, reached, extra).trace()
    if filled is None:
        return ripple
    filled.find(ripple.removed)
    return replace(ripple, filled=filled)


def count_dependents(session: Session, ripple: Ripple) -> dict[Link, int]:
    """Return how many rows depend on removed rows through each link, where any do."""
    counted: dict[Link, int] = {}
    for link in ripple.reach.links:
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        if link.propagated and not link.only_conflicts:
            if ripple.moved_keys and link.key in ripple.moved_keys.filled:
                condition = ripple.moved_keys.references(link)
                counted[link] = sql.count(session.connection, rows, condition)
            continue
        parents = ripple.removed.get(link.key.parent)
        going = ripple.removed.get(link.key.child)
        if link.only_conflicts and going:
            counted[link] = going.rows
        if link.only_conflicts or parents is None or not parents.rows or parents.keys is None:
            continue
        if link.treatment is Treatment.REMOVE and _is_only_way(ripple, link):
            counted[link] = going.rows if going else 0
            continue
        condition = depends_on(session, link, child, rows, parents)
        counted[link] = sql.count(session.connection, rows, condition)
    return {link: rows for link, rows in counted.items() if rows}


def count_moved(session: Session, ripple: Ripple) -> dict[Link, int]:
    """Return how many rows are moved to kept rows through each link."""
    counted: dict[Link, int] = {}
    for moved in ripple.repointed:
        for link in moved.links:
            parents = ripple.removed.get(link.key.parent)
            if parents is None or parents.keys is None or link.propagated:
                continue
            child = moved.rows.table
            depends = depends_on(session, link, child, moved.rows.source, parents)
            counted[link] = sql.count(
                session.connection, moved.rows.source, moved.rows.condition, depends
            )
    return counted


def _is_only_way(ripple: Ripple, link: Link) -> bool:
    """True if rows of a table go only because they depend on others through this one link."""
    child = link.key.child
    return child != ripple.reach.tables[0].name and not any(
        other is not link and other.key.parent in ripple.removed
        for other in ripple.reach.links_from(child, Treatment.REMOVE)
    )


class _Tracing:
    """One computation of a ripple, with the sets found so far."""

    def __init__(
        self, session: Session, matched: MatchedRows, reached: Reach, extra: Sequence[str]
    ) -> None:
        self.session = session
        self.connection = session.connection
        self.start = matched
        self.reach = reached
        self.tables = {table.name: table for table in reached.tables}
        self.removed: dict[TableName, RowSet] = {}
        self.matched = 0
        self.matched_keys: sa.FromClause | None = None
        self.keys = KeyTables(session, matched, reached, tuple(extra))
        self.moves: dict[tuple[str, ...], KeyMoves] = {}
        self.moved: dict[TableName, ChildMoves] = {}
        self.conflicts: dict[TableName, UniqueConflicts] = {}
        self.moved_keys = MovedKeys(session, reached, self.keys, self.removed)

    def trace(self) -> Ripple:
        matched = self.start
        leads_to: dict[TableName, list[TableName]] = {name: [] for name in self.tables}
        for link in self.reach.links:
            if link.treatment is Treatment.REMOVE:
                above = [key.parent for key in link.path] if link.only_conflicts else []
                for parent in dict.fromkeys([link.key.parent, *above]):
                    if parent in leads_to:
                        leads_to[parent].append(link.key.child)
        parts = list(components(leads_to))
        cyclic = [names for names in parts if len(names) > 1 or names[0] in leads_to[names[0]]]
        on_cycle = any(matched.table.name in names for names in cyclic)
        lasts = matched.table.has_key or bool(self.session.restorable_row_id(matched.table))
        self.keys.tells_kept = matched.all_surplus and lasts and not on_cycle
        self._make_moves()
        if self.session.traits.needs_key_tables_first:
            self._make_key_tables([names[0] for names in parts if names not in cyclic], cyclic)
        matched.make_ready()
        for place, names in enumerate(parts, 1):
            announce("counting", names[0], place, len(parts))
            if names in cyclic:
                self._close_over(names)
            else:
                self._pass_once(self.tables[names[0]])
            if self.start.table.name in names:
                self._fill_moves()
        actions = DependentActions(
            self.session, self.reach, self.keys, self.removed, self.moved_keys
        )
        dependents = actions.find(self.moved)
        return Ripple(
            reach=self.reach,
            matched=self.matched,
            removed={name: found for name, found in self.removed.items() if found.rows},
            detached=dependents.detached,
            blocked=dependents.blocked,
            matched_keys=self.matched_keys,
            repointed=dependents.repointed,
            moved_keys=self.moved_keys,
        )

    def _make_key_tables(
        self, plain: Sequence[TableName], cyclic: Sequence[Sequence[TableName]]
    ) -> None:
        """Make every key table that can be needed, before the first row is looked at."""
        for name in plain:
            if self._needs_keys(self.tables[name]) or not self._is_direct(self.tables[name]):
                self.keys.table_for(self.tables[name])
        for names in cyclic:
            for name in names:
                table = self.tables[name]
                if self._only_link(names):
                    self.keys.table_for(table, "seeds")
                    self.keys.table_for(table)
                else:
                    self.keys.table_for(table, wave=True)
        for link in self.reach.links:
            if link.treatment is Treatment.DETACH and self.reach.shares_columns(link):
                self.keys.table_of_detached(link)
            if link.propagated:
                self.moved_keys.table(link.key)

    def _make_moves(self) -> None:
        """Make temporary tables that tell where references to duplicates go."""
        start = self.start.table
        direct = self.reach.links_to(start.name)
        for link in [link for link in direct if link.treatment is Treatment.REPOINT]:
            if link.key.referenced_columns not in self.moves:
                made = KeyMoves.create(self.session, start, link.key.referenced_columns)
                self.moves[link.key.referenced_columns] = made
        changed: dict[TableName, set[str]] = {}
        for link in self.reach.links:
            if link.treatment is Treatment.REPOINT:
                changed.setdefault(link.key.child, set()).update(link.moved_columns)
        for name, columns in changed.items():
            child = self.session.catalogue.table(name)
            keys = breakable_keys(child, columns)
            if len(keys) > 1:
                self.conflicts[name] = UniqueConflicts.create(self.session, child, keys)

    def _fill_moves(self) -> None:
        """Fill in where references to duplicates go, once the removed rows are known."""
        start = self.start.table
        removed = self.removed[start.name]
        if not self.moves or not removed.rows:
            return
        if self.start.grouping is None:
            raise Fault("rows are moved to kept rows, and no duplicates were asked for")
        for moves in self.moves.values():
            if self.keys.tells_kept and {*moves.columns} == {*start.identity.columns}:
                if removed.keys is None:
                    raise Fault(f"the rows of {start.name} have no key table")
                moves.fill_from(self.session, start, removed.keys)
            else:
                moves.fill(self.session, start, self.start.grouping, removed.condition)
        links: dict[TableName, list[Link]] = {}
        for link in self.reach.links:
            if link.treatment is Treatment.REPOINT:
                links.setdefault(link.key.child, []).append(link)
        for name, own in links.items():
            child = self.session.catalogue.table(name)
            self.moved[name] = ChildMoves.of(
                self.session, child, start, own, self.moves, self.moved_keys,
                self.conflicts.get(name),
            )  # fmt: skip

    def _is_direct(self, table: Table) -> bool:
        """True if the condition for a table's rows can be used instead of a key table."""
        return table.name != self.start.table.name or self.start.repeatable

    def _pass_once(self, table: Table) -> None:
        """Find the rows of a table that is on no cycle: its parents' sets are all known."""
        rows = sql.rows_of(table)
        direct = self._is_direct(table) and not self._needs_keys(table)
        if table.name == self.start.table.name:
            if self.start.copies is not None:
                self._pass_copies(table, self.start.copies)
                return
            condition = sa.and_(sa.true(), *self.start.conditions)
            query = self.start.select
        else:
            known = self._dependents(table, self.reach.links_from(table.name, Treatment.REMOVE))
            if known is None:
                self._know(RowSet(table, rows, sa.false(), 0))
                return
            condition = known

            def query(*columns: sa.ColumnElement[Any]) -> sa.Select[Any]:
                return sa.select(*columns).select_from(rows).where(condition)

        if direct:
            counted = sql.count(self.connection, rows, condition)
            self._know(RowSet(table, rows, condition, counted))
            return
        keys = self.keys.table_for(table)
        values = self.keys.values(table, rows, keys)
        if table.name == self.start.table.name and self.keys.tells_kept:
            if self.start.grouping is None:
                raise Fault("rows are moved to kept rows, and no duplicates were asked for")
            note_surplus(self.session, table, self.start.grouping, keys, list(values))
            held = sql.count(self.connection, keys)
        else:
            held = self.keys.insert(keys, list(values), once(table, query(*values.values())))
        self._know_keys(table, keys, held)

    def _pass_copies(self, table: Table, copies: sa.Subquery) -> None:
        """Find the rows that go where several are identical: the first N rows of each set."""
        keys = self.keys.table_for(table)
        names = [name for name in keys.c.keys() if name != COPIES.name]  # noqa: SIM118
        rows = sql.rows_of(table)
        values = self.keys.values(table, rows, keys)
        query = (
            sa.select(*(values[name] for name in names), copies.c[COPIES.name])
            .select_from(rows.join(copies, values[ROW_HASH.name] == copies.c[ROW_HASH.name]))
            .where(*self.start.conditions)
            .distinct()
        )
        self.keys.insert(keys, [*names, COPIES.name], query)
        total = sa.select(sa.func.coalesce(sa.func.sum(keys.c[COPIES.name]), 0))
        counted = int(self.connection.execute(total).scalar_one())
        condition = scanned_in(self.session, table, rows, keys)
        self._know(RowSet(table, rows, condition, counted, keys, copies=True))

    def _close_over(self, names: Sequence[TableName]) -> None:
        """Find the rows of tables on a cycle: look until nothing new depends on what is known."""
        inside = [
            link
            for link in self.reach.links
            if link.treatment is Treatment.REMOVE
            and link.key.child in names
            and link.key.parent in names
            and not link.only_conflicts
        ]
        if self._only_link(names):
            self._recurse(self.tables[names[0]], inside[0])
        else:
            self._repeat([self.tables[name] for name in names], inside)

    def _only_link(self, names: Sequence[TableName]) -> bool:
        """True if one query finds a cycle: one table that references itself by one foreign key."""
        if not self.session.traits.recurses_by_union or len(names) > 1:
            return False
        if self.tables[names[0]].identity.kind is IdentityKind.ALL_COLUMNS:
            return False
        links = self.reach.links_to(names[0])
        own = [each for each in links if each.key.child == names[0]]
        return len([each for each in own if each.treatment is Treatment.REMOVE]) == 1

    def _seed(self, table: Table, keys: sa.TableClause, *more: sa.ColumnElement[Any]) -> int:
        """Put the rows of a cyclic table that are known from outside the cycle into `keys`."""
        rows = sql.rows_of(table)
        values = self.keys.values(table, rows, keys)
        if table.name == self.start.table.name:
            query = self.start.select(*values.values(), *more)
        else:
            links = self.reach.links_from(table.name, Treatment.REMOVE)
            condition = self._dependents(table, links)
            if condition is None:
                return 0
            query = sa.select(*values.values(), *more).where(condition)
        names = [*values, *([WAVE] if more else [])]
        seeded = self.keys.insert(keys, names, once(table, query))
        if table.name == self.start.table.name:
            first = keys.c[WAVE] == 0 if more else sa.true()
            self.matched_keys = sa.select(keys).where(first).subquery("yeldro_matched_keys")
            self.matched = self.keys.count(table, self.matched_keys, seeded)
        return seeded

    def _recurse(self, table: Table, link: Link) -> None:
        """Find the rows of a table that references itself once, by one recursive query."""
        seeds = self.keys.table_for(table, "seeds")
        keys = seeds
        held = self._seed(table, seeds)
        if held:
            keys = self.keys.table_for(table)
            names = list(keys.c.keys())
            rows = sql.rows_of(table)
            found = sa.select(*sql.columns_of(seeds, names)).cte("yeldro_found", recursive=True)
            references = zip(
                compared(self.session, link, table, rows, table),
                sql.columns_of(found, link.key.referenced_columns),
                strict=True,
            )
            same = [ours == theirs for ours, theirs in references]
            same += sql.in_parts(found, link.key.parent_parts)
            same += sql.in_parts(rows, link.key.child_parts)
            deeper = (
                sa.select(*sql.columns_of(rows, names))
                .select_from(found)
                .join(rows, sa.and_(*same))
            )
            found = found.union(deeper)
            reached = sa.select(*sql.columns_of(found, names))
            self.connection.execute(
                sa.insert(keys).from_select(sql.columns_of(keys, names), reached)
            )
            self.session.key_table_filled(keys)
            held = sql.count(self.connection, keys)  # not every driver counts what WITH inserts
        self._know_keys(table, keys, held, counted_matched=True)

    def _repeat(self, tables: Sequence[Table], inside: Sequence[Link]) -> None:
        """Find the rows of tables on a cycle in waves; each wave depends on the one before."""
        keys = {}
        held: dict[TableName, int] = {}
        for table in tables:
            keys[table.name] = self.keys.table_for(table, wave=True)
            held[table.name] = self._seed(table, keys[table.name], sa.literal(0))
        wave, fresh = 0, sum(held.values())
        while fresh:
            fresh = 0
            for table in tables:
                links = [link for link in inside if link.key.child == table.name]
                added = self._next_wave(table, keys, links, wave)
                held[table.name] += added
                fresh += added
            wave += 1
        for table in tables:
            self._know_keys(table, keys[table.name], held[table.name], counted_matched=True)

    def _next_wave(
        self,
        table: Table,
        keys: dict[TableName, sa.TableClause],
        links: Sequence[Link],
        wave: int,
    ) -> int:
        """Add the rows that depend on those of one wave; return their number."""
        rows = sql.rows_of(table)
        mine = keys[table.name]
        values = self.keys.values(table, rows, mine)
        dependent = []
        for link in links:
            parent, known = self.tables[link.key.parent], keys[link.key.parent]
            latest = known.c[WAVE] == wave
            dependent.append(references(self.session, link, table, rows, parent, known, latest))
        query = sa.select(*values.values(), sa.literal(wave + 1)).where(
            sa.or_(*dependent), ~looked_up_in(self.session, table, rows, mine)
        )
        return self.keys.insert(mine, [*values, WAVE], once(table, query))

    def _dependents(self, table: Table, links: Sequence[Link]) -> sql.Predicate | None:
        """True if a row depends on removed rows that are known, through one of the links."""
        rows = sql.rows_of(table)
        known = [
            depends_on(self.session, link, table, rows, self.removed[link.key.parent])
            for link in links
            if link.key.parent in self.removed
            and self.removed[link.key.parent].rows
            and not link.only_conflicts
        ]
        if table.name in self.moved and any(link.only_conflicts for link in links):
            moved = self.moved[table.name]
            self.moved_keys.fill(moved.links)
            known.append(moved.conflicting(self.session, *known))
        return sa.or_(*known) if known else None

    def _needs_keys(self, table: Table) -> bool:
        """True if a table's set is used again: for its children, or to leave its rows out."""
        is_child = self.reach.links_from(
            table.name, Treatment.DETACH, Treatment.BLOCK, Treatment.REPOINT
        )
        is_start = table.name == self.start.table.name
        return bool(self.reach.links_to(table.name) or is_child or (is_start and self.keys.extra))

    def _know_keys(
        self, table: Table, keys: sa.TableClause, held: int, counted_matched: bool = False
    ) -> None:
        """Note the rows of a table that `held` entries of its key table stand for."""
        rows = sql.rows_of(table)
        counted = self.keys.count(table, keys, held)
        self._know(
            RowSet(table, rows, scanned_in(self.session, table, rows, keys), counted, keys),
            counted_matched,
        )

    def _know(self, found: RowSet, counted_matched: bool = False) -> None:
        self.removed[found.table.name] = found
        if found.table.name == self.start.table.name and not counted_matched:
            self.matched = found.rows
            self.matched_keys = found.keys

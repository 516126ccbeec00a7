"""What happens to rows that depend on removed ones and are not removed themselves."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import RowSet
from yeldro.core.database import sql
from yeldro.core.database.identity import looked_up_in, scanned_in
from yeldro.core.model.messages.errors import Fault
from yeldro.core.planning.following.key_tables import KeyTables, once
from yeldro.core.planning.following.row_sets import depends_on, that_go, that_stay
from yeldro.core.planning.following.treatment import Cause, Link, Obstacle, Reach, Treatment

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table, TableName
    from yeldro.core.planning.merging.repoint import ChildMoves, MovedKeys

_LITERAL = re.compile(r"NULL|[-+]?[\d.]+|'(?:[^']|'')*'(?:::[\w ]+)?")


@dataclass(frozen=True)
class Repointed:
    """Rows of one child table that will reference the kept row instead of duplicates.

    Args:
        changes: what their columns become.
    """

    rows: RowSet
    links: tuple[Link, ...]
    changes: dict[str, sa.ColumnElement[Any]]


@dataclass(frozen=True)
class DependentRows:
    """The rows that stay, by the link through which they depend, and the rows that are moved."""

    detached: dict[Link, RowSet]
    blocked: dict[Link, RowSet]
    repointed: tuple[Repointed, ...]


@dataclass(frozen=True)
class DependentActions:
    """Finds what happens to the rows that stay, once the removed rows are known.

    Args:
        removed: the removed rows of every table in reach.
        moved_keys: referenced keys that move because their own rows are repointed.
    """

    session: Session
    reach: Reach
    keys: KeyTables
    removed: dict[TableName, RowSet]
    moved_keys: MovedKeys

    def find(self, moves: dict[TableName, ChildMoves]) -> DependentRows:
        """Find the rows that are detached, that block the removal, or that are moved.

        Args:
            moves: the child tables of duplicates whose rows are moved to the kept row.
        """
        detached: dict[Link, RowSet] = {}
        blocked: dict[Link, RowSet] = {}
        for link in self.reach.links:
            if link.treatment is Treatment.DETACH:
                found = self._staying(link)
                obstacle = self._obstacle(link, found)
                if obstacle:
                    block = replace(link, treatment=Treatment.BLOCK, obstacle=obstacle)
                    blocked[block] = found
                elif found.rows:
                    detached[link] = found
            elif link.treatment is Treatment.BLOCK:
                found = self._staying(link)
                blocked |= {link: found} if found.rows else {}
        repointed = []
        for moved in moves.values():
            parents = {link.key.parent for link in moved.links if link.propagated}
            stuck = any(link.key.child in parents for link in blocked)
            found, hindered = self._moving(moved, stuck=stuck)
            blocked |= hindered
            if found.rows:
                repointed.append(Repointed(found, moved.links, moved.changes))
        return DependentRows(detached, blocked, tuple(repointed))

    def _moving(self, moved: ChildMoves, *, stuck: bool) -> tuple[RowSet, dict[Link, RowSet]]:
        """Return the rows of a child table that move, and those that prevent it.

        Args:
            stuck: the rows they reference block already, so these are not named again.
        """
        child = moved.child
        rows = sql.rows_of(child)
        depends = sa.or_(*(self.moved_keys.depends(link) for link in moved.links))
        depends = self._that_stay(child, depends)
        found = RowSet(child, rows, depends, sql.count(self.session.connection, rows, depends))
        blocked: dict[Link, RowSet] = {}
        going = any(
            link.only_conflicts for link in self.reach.links_from(child.name, Treatment.REMOVE)
        )
        if found.rows and moved.broken_keys and not (going or stuck):
            goes = that_go(self.session, child, self.removed)
            twice = sa.and_(depends, moved.conflicting(self.session, *goes))
            hindered = RowSet(child, rows, twice, sql.count(self.session.connection, rows, twice))
            if hindered.rows:
                keys = " and ".join(f"({', '.join(key.columns)})" for key in moved.broken_keys)
                obstacle = Obstacle(Cause.TWICE, f"{keys} would occur twice")
                link = self._link_of(moved, hindered)
                blocked[replace(link, treatment=Treatment.BLOCK, obstacle=obstacle)] = hindered
        hinders = self._referenced_change(found, list(moved.changes)) if found.rows else None
        if (
            found.rows
            and moved.propagates
            and not (child.has_key or self.session.traits.core_checks_foreign_keys)
        ):
            words = f"{child.name} has no key by which its rows are found when they have moved"
            hinders = Obstacle(Cause.NO_KEY, words)
        if hinders:
            link = self._link_of(moved, found)
            blocked[replace(link, treatment=Treatment.BLOCK, obstacle=hinders)] = found
        return found, blocked

    def _link_of(self, moved: ChildMoves, hindered: RowSet) -> Link:
        """Return the link by which most of these rows move, the first of several."""
        connection = self.session.connection
        counted = {
            link: sql.count(
                connection, hindered.source, hindered.condition, self.moved_keys.depends(link)
            )
            for link in moved.links
        }
        return max(moved.links, key=lambda link: counted[link])

    def _staying(self, link: Link) -> RowSet:
        """Return the rows that depend through a link and are not removed on any path."""
        child = self.session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        parents = self.removed[link.key.parent]
        if not parents.rows:
            return RowSet(child, rows, sa.false(), 0)
        condition = depends_on(self.session, link, child, rows, parents)
        condition = self._that_stay(child, condition)
        if link.treatment is Treatment.DETACH and self.reach.shares_columns(link):
            keys = self.keys.table_of_detached(link)
            values = self.keys.values(child, rows, keys)
            query = sa.select(*values.values()).where(condition)
            self.keys.insert(keys, list(values), once(child, query))
            condition = scanned_in(self.session, child, rows, keys)
        return RowSet(child, rows, condition, sql.count(self.session.connection, rows, condition))

    def _that_stay(self, child: Table, condition: sql.Predicate) -> sql.Predicate:
        return that_stay(self.session, child, condition, self.removed)

    def _obstacle(self, link: Link, found: RowSet) -> Obstacle | None:
        """Return why rows cannot take the value that detaching gives them; None if they can."""
        if not found.rows:
            return None
        if link.to_default:
            obstacle = self._default_obstacle(link, found)
            if obstacle:
                return obstacle
        return self._referenced_change(found, link.key.changed_columns)

    def _default_obstacle(self, link: Link, found: RowSet) -> Obstacle | None:
        """Return why rows cannot take their columns' defaults; None if they can.

        Some keys change only some of their columns; the other columns keep their values.
        """
        child, key = found.table, link.key
        defaults = {name: child.by_name[name].default or "NULL" for name in key.changed_columns}
        if not all(_is_fixed(default, self.session) for default in defaults.values()):
            words = f"the default of {key.name} is computed anew for each row"
            return Obstacle(Cause.NO_FIXED_DEFAULT, words)
        if any(default.upper() == "NULL" for default in defaults.values()):
            return None
        parent = self.session.catalogue.table(key.parent)
        parents = sql.parents_of(key, parent)
        removed = self.removed[parent.name].keys
        if removed is None:
            raise Fault(f"the rows of {parent.name} have no key table")
        then = {
            name: sa.literal_column(defaults[name]) if name in defaults else found.source.c[name]
            for name in key.columns
        }
        same = (
            parents.c[theirs] == then[ours]
            for ours, theirs in zip(key.columns, key.referenced_columns, strict=True)
        )
        stays = ~looked_up_in(self.session, parent, parents, removed)
        has_parent = sa.exists(
            sa.select(sa.literal(1)).select_from(parents).where(*same, stays)
        ).correlate(found.source)
        needs_one = (value.is_not(None) for value in then.values())
        rows = found.source
        if sql.count(self.session.connection, rows, found.condition, *needs_one, ~has_parent):
            words = f"the default of {key.name} references no row that stays"
            return Obstacle(Cause.NO_DEFAULT_ROW, words)
        return None

    def _referenced_change(self, found: RowSet, columns: Sequence[str]) -> Obstacle | None:
        """Return why columns cannot change while rows that stay reference them; None if none do.

        Columns computed from them change too, and their new values are not known.
        """
        fixed = [name for name in columns if found.table.by_name[name].generated]
        if fixed:
            words = f"{found.table.name}.{fixed[0]} is computed by the database"
            return Obstacle(Cause.COMPUTED, words)
        changed = found.table.changing_with(columns)
        for key in found.table.foreign_keys:
            computed = sorted(set(key.columns) & (changed - set(columns)))
            if computed:
                words = f"{key.name} would change too: {computed[0]} is computed from them"
                return Obstacle(Cause.COMPUTED, words)
        for key in self.session.catalogue.referencing(found.table.name):
            if key in self.reach.moving_together:
                continue
            if changed & set(key.referenced_columns):
                child = self.session.catalogue.table(key.child)
                rows = sql.rows_of(child)
                changing = sa.select(*sql.columns_of(found.source, key.referenced_columns))
                within = sql.in_parts(found.source, key.parent_parts)
                changing = changing.where(found.condition, *within).correlate(None)
                conditions = [sql.among(sql.columns_of(rows, key.columns), changing)]
                conditions += sql.in_parts(rows, key.child_parts)
                removed_child = self.removed.get(child.name)
                if removed_child is not None and removed_child.rows:
                    condition = removed_child.condition
                    conditions.append(sa.func.coalesce(condition, sa.false()) == sa.false())
                if sql.count(self.session.connection, rows, *conditions):
                    words = f"{key.name} references the columns that would change"
                    return Obstacle(Cause.REFERENCED, words)
        return None


def _is_fixed(default: str, session: Session) -> bool:
    """True if a column's default has one value throughout a transaction."""
    if _LITERAL.fullmatch(default):
        return True
    from yeldro.core.selection.conditions.filters import is_fixed  # loads the parser

    return is_fixed(default, session)

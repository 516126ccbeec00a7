"""Children of removed duplicates are moved to the row of the group that is kept.

If a unique key of a child table would then occur twice, the children are duplicates themselves: the
one that already references the kept row stays, else the first by key.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import RowSet
from yeldro.core.database import sql
from yeldro.core.database.identity import kept_columns, key_values
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.tables.schema import CandidateKey, Column, ForeignKey, Table, TableName
from yeldro.core.planning.following.key_tables import KeyTables, once
from yeldro.core.planning.following.row_sets import depends_on, references, that_stay
from yeldro.core.selection.duplicates.grouping import Grouping, kept_values

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.following.treatment import Link, Reach
    from yeldro.core.planning.merging.unique_conflicts import UniqueConflicts
    from yeldro.core.selection.selection import MatchedRows


def check_repoint(matched: MatchedRows) -> None:
    """Refuse to move dependent rows where no row is kept for those that go.

    Raises:
        UsageError: the matched rows are no duplicates.
    """
    if matched.grouping is None:
        raise UsageError(
            "‹repoint› moves rows to the kept one of duplicates, and no duplicates are chosen.",
            "Add ‹duplicates_by› COLUMNS, or drop ‹repoint›.",
        )


@dataclass(frozen=True)
class KeyMoves:
    """Where references to removed duplicates go: from old values to those of the kept row.

    Args:
        columns: the columns of the duplicates' table that are referenced.
        values: a temporary table with an old and a new value for each of them.
    """

    columns: tuple[str, ...]
    values: sa.TableClause

    @classmethod
    def create(cls, session: Session, table: Table, columns: Sequence[str]) -> KeyMoves:
        """Make an empty one for references to `columns` of `table`."""
        declared = [table.by_name[name] for name in columns]
        old = [_renamed(column, f"old_{place}") for place, column in enumerate(declared)]
        new = [_renamed(column, f"new_{place}") for place, column in enumerate(declared)]
        return cls(tuple(columns), session.create_key_table([*old, *new], len(old)))

    def fill(
        self, session: Session, table: Table, grouping: Grouping, removed: sql.Predicate
    ) -> None:
        """Fill in the kept row's values for every removed row."""
        old, new = kept_values(session, table, grouping, self.columns, removed)
        query = sa.select(*old, *new).where(*(value.is_not(None) for value in (*old, *new)))
        self._insert(session, query.distinct())

    def fill_from(self, session: Session, table: Table, keys: sa.FromClause) -> None:
        """Fill in the same from a key table that holds the kept row's key for every removed row.

        The referenced columns must be the row key.
        """
        kept = [column.name for column in kept_columns(table)]
        place = {name: number for number, name in enumerate(table.identity.columns)}
        new = [keys.c[kept[place[name]]] for name in self.columns]
        self._insert(session, sa.select(*sql.columns_of(keys, self.columns), *new))

    def _insert(self, session: Session, query: sa.Select[Any]) -> None:
        insert = sa.insert(self.values).from_select(list(self.values.c), query)
        session.connection.execute(insert)
        session.key_table_filled(self.values)

    def new_value(
        self, session: Session, link: Link, place: int, child: Table, parent: Table
    ) -> sa.ColumnElement[Any]:
        """Return what the column at `place` of a link becomes, its own value if it stays."""
        rows = sql.rows_of(child)
        values = self.values.alias(f"yeldro_moved_{place}")
        found = sa.select(values.c[f"new_{place}"]).where(
            *(old == ours for old, ours in self._matched(session, link, child, parent, values))
        )
        own = rows.c[link.moves[place][0]]
        return sa.func.coalesce(found.correlate(rows).scalar_subquery(), own)

    def _matched(
        self, session: Session, link: Link, child: Table, parent: Table, values: sa.FromClause
    ) -> list[tuple[sa.ColumnElement[Any], sa.ColumnElement[Any]]]:
        rows = sql.rows_of(child)
        pairs: list[tuple[sa.ColumnElement[Any], sa.ColumnElement[Any]]] = []
        for ours, theirs in link.moves:
            column = child.by_name[ours]
            own = session.referencing_value(rows.c[ours], column, parent.by_name[theirs])
            pairs.append((values.c[f"old_{self.columns.index(theirs)}"], own))
        return pairs


@dataclass(frozen=True)
class MovedKeys:
    """Key tables of referenced keys that move, as they were before.

    Args:
        removed: the removed rows of every table in reach, as far as they are known.
    """

    session: Session
    reach: Reach
    keys: KeyTables
    removed: dict[TableName, RowSet]
    filled: set[ForeignKey] = field(default_factory=set)

    def table(self, key: ForeignKey) -> sa.TableClause:
        """Return the key table of the rows that move and that a propagated key references."""
        return self.keys.table_for(
            self.session.catalogue.table(key.parent), f"moved for {key.name}"
        )

    def depends(self, link: Link) -> sql.Predicate:
        """True if a row moves by a link, provided that it stays."""
        child = self.session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        if not link.propagated:
            return depends_on(self.session, link, child, rows, self.removed[link.key.parent])
        self.fill([link])
        return self.references(link)

    def fill(self, links: Iterable[Link]) -> None:
        """Fill the key tables of the propagated links, each when it is first needed."""
        for link in links:
            if link.propagated and link.key not in self.filled:
                self.filled.add(link.key)
                self._fill(link)

    def references(self, link: Link) -> sql.Predicate:
        """True if a row of a propagated link's child table references a key that moves."""
        child = self.session.catalogue.table(link.key.child)
        parent = self.session.catalogue.table(link.key.parent)
        rows = sql.rows_of(child)
        return references(self.session, link, child, rows, parent, self.table(link.key))

    def _fill(self, link: Link) -> None:
        parent = self.session.catalogue.table(link.key.parent)
        rows = sql.rows_of(parent)
        moving = sa.or_(*(self.depends(each) for each in self.reach.movers(link)))
        keys = self.table(link.key)
        values = self.keys.values(parent, rows, keys)
        query = sa.select(*values.values())
        query = query.where(that_stay(self.session, parent, moving, self.removed))
        self.keys.insert(keys, list(values), once(parent, query))


@dataclass(frozen=True)
class ChildMoves:
    """The links of one child table that move, with what its columns become.

    Args:
        parent: the table of the duplicates.
    """

    child: Table
    parent: Table
    links: tuple[Link, ...]
    changes: dict[str, sa.ColumnElement[Any]] = field(default_factory=dict)
    conflicts: UniqueConflicts | None = None

    @classmethod
    def of(
        cls, session: Session, child: Table, parent: Table, links: Sequence[Link],
        moves: dict[tuple[str, ...], KeyMoves], moved_keys: MovedKeys,
        conflicts: UniqueConflicts | None,
    ) -> ChildMoves:  # fmt: skip
        """Return the moved links of `child`, and what its columns become."""
        changes: dict[str, sa.ColumnElement[Any]] = {}
        rows = sql.rows_of(child)
        for link in links:
            known = moves[tuple(theirs for _, theirs in link.moves)]
            for place, (name, _) in enumerate(link.moves):
                value = known.new_value(session, link, place, child, parent)
                if link.propagated:
                    own = changes.get(name, rows.c[name])
                    value = sa.case((moved_keys.references(link), value), else_=own)
                changes[name] = value
        return cls(child, parent, tuple(links), changes, conflicts)

    @property
    def propagates(self) -> bool:
        """True if rows move because the keys they reference do."""
        return any(link.propagated for link in self.links)

    @property
    def broken_keys(self) -> list[CandidateKey]:
        """The unique keys of the child that could occur twice once rows have moved."""
        return breakable_keys(self.child, self.changes)

    def _moves_in(self, key: CandidateKey) -> sql.Predicate:
        """True if a row gets another value in a unique key."""
        rows = sql.rows_of(self.child)
        changed = [name for name in key.columns if name in self.changes]
        return sa.or_(*(self.changes[name] != rows.c[name] for name in changed))

    def conflicting(self, session: Session, *leave_out: sql.Predicate) -> sql.Predicate:
        """True if a row would, once moved, have the same unique key as another row.

        Args:
            leave_out: rows that are removed anyway, so they have no key.
        """
        if self.conflicts is not None:
            return self.conflicts.losing(self.changes, *leave_out)
        rows = sql.rows_of(self.child)
        conditions = []
        for number, key in enumerate(self.broken_keys):
            then = [self.changes.get(name, rows.c[name]) for name in key.columns]
            moved = sa.case((self._moves_in(key), 1), else_=0)
            identity = key_values(session, self.child, rows)
            place = sa.func.row_number().over(partition_by=then, order_by=[moved, *identity])
            named = [value.label(f"yeldro_{n}") for n, value in enumerate(identity)]
            ranked = (
                sa.select(*named, moved.label("yeldro_moved"), place.label("yeldro_place"))
                .where(*(value.is_not(None) for value in then))
                .where(*(sa.not_(sa.func.coalesce(each, sa.false())) for each in leave_out))
                .correlate(None)
                .subquery(f"yeldro_ranked_{number}")
            )
            shared = [ranked.c[f"yeldro_{n}"] for n in range(len(identity))]
            twice = sa.select(*shared).where(ranked.c.yeldro_moved == 1, ranked.c.yeldro_place > 1)
            conditions.append(sql.among(identity, twice.correlate(None)))
        return sa.or_(sa.false(), *conditions)


def breakable_keys(child: Table, changed: Collection[str]) -> list[CandidateKey]:
    """Return the unique keys of a child that can occur twice once these columns have moved."""
    return [key for key in child.candidate_keys if not {*key.columns}.isdisjoint(changed)]


def _renamed(column: Column, name: str) -> Column:
    return Column(name, column.type, collation=column.collation)

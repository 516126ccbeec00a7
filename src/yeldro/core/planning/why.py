"""A closer look at a plan: why a row goes, changes or stays, and some of the rows that go."""

from __future__ import annotations

import csv
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.model.messages.activity import announce
from yeldro.core.model.messages.errors import UnknownName, UsageError
from yeldro.core.model.tables.schema import Table, TableName
from yeldro.core.model.work.chains import Fate, Key, Reason, Why, chains_to, named
from yeldro.core.model.work.steps import MATCHED
from yeldro.core.planning.following.row_sets import compared
from yeldro.core.planning.following.treatment import Treatment

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import RowSet
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.following.treatment import Link
    from yeldro.core.planning.plan import Prepared

_MOST_ROWS = 5000  # that are followed upwards from one row
_COLUMNS_SHOWN = 8
_Node = tuple[TableName, Key]


@dataclass(frozen=True)
class SomeRows:
    """Some rows of a table that go.

    Args:
        total: how many go.
    """

    table: str
    total: int
    columns: tuple[str, ...]
    rows: tuple[tuple[Any, ...], ...]


@dataclass(frozen=True)
class LookResult:
    """What a closer look at the plan of one cleanup shows."""

    reasons: tuple[Why, ...]
    rows: tuple[SomeRows, ...]


@dataclass
class CloserLook:
    """Looks at each plan of a job while its key tables exist.

    Args:
        of_rows: rows, each as `TABLE:KEY`; the values of a key of several columns stand between
            commas, as in CSV.
        of_tables: tables of which some rows that go are shown.
        most: how many rows of each.
        found: what was seen, for each plan.
    """

    of_rows: Sequence[str] = ()
    of_tables: Sequence[str] = ()
    most: int = 5
    found: list[LookResult] = field(default_factory=list)

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Look at a plan.

        Raises:
            UsageError: a table does not exist or has no key, or a key cannot be read.
        """
        del place
        reasons = tuple(_Asked(session, prepared, each).answer() for each in self.of_rows)
        rows = tuple(_some_rows(session, prepared, each, self.most) for each in self.of_tables)
        self.found.append(LookResult(reasons, rows))


def _some_rows(session: Session, prepared: Prepared, typed: str, most: int) -> SomeRows:
    table = _table(session, typed)
    if table.kind != "table":
        raise UsageError(f"{table.name} is a {table.kind}, and its rows are those of tables.",
                         "Name a table.")  # fmt: skip
    columns = tuple(dict.fromkeys((*table.key, *table.by_name)))[:_COLUMNS_SHOWN]
    going = prepared.ripple.removed.get(table.name)
    if going is None:
        return SomeRows(str(table.name), 0, columns, ())
    order = sql.columns_of(going.source, table.identity.columns)
    query = sa.select(*sql.columns_of(going.source, columns)).where(going.condition)
    rows = session.connection.execute(query.order_by(*order).limit(most)).all()
    return SomeRows(str(table.name), going.rows, columns, tuple(tuple(row) for row in rows))


class _Asked:
    """One row that is asked about."""

    def __init__(self, session: Session, prepared: Prepared, typed: str) -> None:
        self.session = session
        self.ripple = prepared.ripple
        self.start = prepared.matched.table.name
        self.table, key = _table_and_key(session, typed)
        self.columns = self.table.identity.columns
        if not self.table.has_key:
            raise UsageError(
                f"{self.table.name} has no key that tells its rows apart, so no row can be named.",
                f"‹rows› {self.table.name} shows some of its rows that go.",
            )
        values = next(csv.reader([key]), [])
        if len(values) != len(self.columns):
            raise UsageError(
                f"{typed!r} names no row: the key of {self.table.name} is "
                f"{', '.join(self.columns)}.",
                f"Write {self.table.name}:{','.join(name.upper() for name in self.columns)}.",
            )
        self.asked = tuple(values)

    def answer(self) -> Why:
        key = self._key_of_asked()
        node = (self.table.name, key)
        going = self.ripple.removed.get(self.table.name)
        if going and self._holds(going, self.columns, key):
            if node[0] == self.start and self._is_matched(node):
                return self._why(node, (Fate.REMOVED,), ([(self._reason(node, MATCHED),)], False))
            links = self._links(self.table, Treatment.REMOVE)
            return self._why(node, (Fate.REMOVED,), self._chains(node, links))
        fates: list[Fate] = []
        chains: list[tuple[Reason, ...]] = []
        cut = False
        for fate, links, _ in (
            each for each in self._changed() if self._holds(each[2], self.columns, key)
        ):
            fates.append(fate)
            found, more = self._chains(node, links)
            own = (Reason(str(node[0]), key, links[0].because),) if links else ()
            chains += found or ([own] if own else [])
            cut = cut or more
        notes = () if fates else tuple(self._why_it_stays(node))
        return self._why(node, tuple(dict.fromkeys(fates)), (chains, cut), notes)

    def _why(
        self,
        node: _Node,
        fates: tuple[Fate, ...],
        found: tuple[list[tuple[Reason, ...]], bool],
        notes: tuple[str, ...] = (),
    ) -> Why:
        chains, more = found
        return Why(str(node[0]), self.columns, node[1], fates, tuple(chains), more, notes)

    def _key_of_asked(self) -> Key:
        """Return the key as the database holds it."""
        rows = sql.rows_of(self.table)
        query = sa.select(*sql.columns_of(rows, self.columns)).where(
            *_same(rows, self.columns, self.asked)
        )
        shown = f"{self.table.name}:{','.join(self.asked)}"
        try:
            found = self.session.connection.execute(query.limit(2)).all()
        except sa.exc.DBAPIError as error:
            if self.session.was_stopped(error):
                raise
            raise UsageError(
                f"{shown} is not read as a key: {error.orig}.",
                f"Write the value of {', '.join(self.columns)} as {self.session.traits.name} does.",
            ) from error
        if len(found) != 1:
            raise UsageError(
                f"There is no row {shown}.",
                f"⟨survey {self.table.name}⟩ shows some, with their keys.",
            )
        return tuple(found[0])

    def _changed(self) -> Iterator[tuple[Fate, list[Link], RowSet]]:
        """Yield the sets of rows of the table that stay and are changed, or are in the way."""
        own = self.table.name
        for fate, sets in (
            (Fate.DETACHED, self.ripple.detached),
            (Fate.BLOCKS, self.ripple.blocked),
        ):
            yield from (
                (fate, [link], rows) for link, rows in sets.items() if link.key.child == own
            )
        for moved in self.ripple.repointed:
            if moved.rows.table.name == own:
                yield Fate.REPOINTED, list(moved.links), moved.rows
        if self.ripple.filled and self.table.name == self.start:
            yield Fate.FILLED, [], self.ripple.filled.rows

    def _chains(self, asked: _Node, links: Sequence[Link]) -> tuple[list[tuple[Reason, ...]], bool]:
        """Return a shortest chain from each matched row to one row, and whether there may be more.

        Args:
            links: those by which its own parents make it go or change.
        """
        followed = 0

        def above(here: _Node) -> Iterator[tuple[_Node, str]] | None:
            nonlocal followed
            announce("following", here[0], followed)
            followed += 1
            if here is not asked and here[0] == self.start and self._is_matched(here):
                return None
            table = self.session.catalogue.table(here[0])
            own = links if here is asked else self._links(table, Treatment.REMOVE)
            return (
                (parent, link.because)
                for link in own
                for parent in self._parents(here, table, link)
            )

        found, more = chains_to(asked, above, _MOST_ROWS)
        return [
            tuple(self._reason(node, because or MATCHED) for node, because in chain)
            for chain in found
        ], more

    def _reason(self, node: _Node, because: str) -> Reason:
        keyed = self.session.catalogue.table(node[0]).has_key
        return Reason(str(node[0]), node[1] if keyed else (), because)

    def _links(self, table: Table, treatment: Treatment) -> list[Link]:
        return self.ripple.reach.links_from(table.name, treatment)

    def _parents(self, node: _Node, table: Table, link: Link) -> list[_Node]:
        """Return the rows that go and that a row references by a foreign key."""
        parents = self.ripple.removed.get(link.key.parent)
        if parents is None:
            return []
        columns = parents.table.identity.columns
        query = sa.select(*sql.columns_of(parents.source, columns)).where(
            parents.condition, *self._references(node, table, link, parents.source)
        )
        return [(parents.table.name, tuple(row)) for row in self.session.connection.execute(query)]

    def _references(
        self, node: _Node, table: Table, link: Link, parents: sa.FromClause
    ) -> list[sql.Predicate]:
        """True for the parent that a row references."""
        rows = sql.rows_of(table).alias("yeldro_child")
        parent = self.session.catalogue.table(link.key.parent)
        same = _same(rows, table.identity.columns, node[1])
        ours = compared(self.session, link, table, rows, parent)
        theirs = sql.columns_of(parents, link.key.referenced_columns)
        within = [*sql.in_parts(rows, link.key.child_parts)]
        return [
            *(there == sa.select(own).where(*same, *within).scalar_subquery()
              for own, there in zip(ours, theirs, strict=True)),
            *sql.in_parts(parents, link.key.parent_parts),
        ]  # fmt: skip

    def _is_matched(self, node: _Node) -> bool:
        """True if the selection itself picks a row that goes."""
        keys = self.ripple.matched_keys
        if keys is None:
            return True
        table = self.session.catalogue.table(node[0])
        return (
            sql.count(self.session.connection, keys, *_same(keys, table.identity.columns, node[1]))
            > 0
        )

    def _holds(self, rows: RowSet, columns: Sequence[str], key: Key) -> bool:
        same = _same(rows.source, columns, key)
        return sql.count(self.session.connection, rows.source, rows.condition, *same) > 0

    def _why_it_stays(self, node: _Node) -> Iterator[str]:
        if node[0] == self.start:
            yield "It is not among the matched rows."
        links = [link for link in self.ripple.reach.links if link.key.child == node[0]]
        for link in {link.key: link for link in links}.values():
            parent = self.session.catalogue.table(link.key.parent)
            rows = sql.rows_of(parent)
            found = self.session.connection.execute(
                sa.select(*sql.columns_of(rows, parent.identity.columns)).where(
                    *self._references(node, self.table, link, rows)
                )
            ).first()
            if found is None:
                yield f"It references no row by {link.key}."
            elif parent.has_key:
                going = self.ripple.removed.get(parent.name)
                goes = going and self._holds(going, parent.identity.columns, tuple(found))
                parent_row = named(parent.name, tuple(found))
                yield f"It references {parent_row} ({link.key}), and that {_ends(goes)}."
            else:
                yield f"It references a row of {parent.name}, which has no key ({link.key})."
        if not links:
            yield f"No foreign key leads from rows that go to {node[0]}."


def _table_and_key(session: Session, typed: str) -> tuple[Table, str]:
    """Return the table that `TABLE:KEY` names, and its key as text; a name may hold a colon too."""
    places = [place for place, sign in enumerate(typed) if sign == ":"]
    for place in places[:-1]:
        try:
            return _table(session, typed[:place]), typed[place + 1 :]
        except UnknownName:
            continue
    name, colon, key = typed.rpartition(":")
    if not colon:
        raise UsageError(
            f"{typed!r} names no row.", f"Write {typed}:KEY, with the value of its key for KEY."
        )
    return _table(session, name), key


def _table(session: Session, typed: str) -> Table:
    """Return the table that is named, or of which the named partition is a part."""
    table = find_table(session.catalogue, typed)
    part = session.catalogue.part_of(table.name)
    return session.catalogue.table(part.whole) if part else table


def _ends(goes: object) -> str:
    return "goes" if goes else "stays"


def _same(
    rows: sa.FromClause, columns: Iterable[str], values: Iterable[Any]
) -> list[sa.ColumnElement[bool]]:
    """True for the row with a key; values have no type, so that they take the column's."""
    return [
        rows.c[name].is_(None)
        if value is None
        else rows.c[name] == sa.literal(value, sa.types.NullType())
        for name, value in zip(columns, values, strict=True)
    ]

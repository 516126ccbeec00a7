"""Duplicates that a person decided: which rows of each group stay, and which go.

A decision names its row by a hash of its key, and what was seen by a hash of the whole row. Before
any row is matched, every group in the decisions is held against the table as it is now.
"""

from __future__ import annotations

from collections.abc import Mapping
from itertools import islice
from typing import TYPE_CHECKING, Any, NoReturn, Protocol

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import key_columns
from yeldro.core.model.messages.errors import Refused
from yeldro.core.model.messages.names import counted
from yeldro.core.model.tables.schema import Column, IdentityKind, Table, TableName
from yeldro.core.selection.asked import Decisions
from yeldro.core.selection.duplicates.values import group_values, in_some_group

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.selection.duplicates.grouping import Grouping

_AT_ONCE = 1000
_GOES, _STAYS, _OPEN = 0, 1, 2
_COLUMNS = [
    Column("yeldro_line", "bigint", nullable=False),
    Column("yeldro_group", "bigint", nullable=False),
    Column("yeldro_key", "varchar(64)", nullable=False),
    Column("yeldro_seen", "varchar(64)", nullable=False),
    Column("yeldro_stays", "bigint", nullable=False),
]
_SEEN = [
    Column("yeldro_now", "varchar(64)", nullable=False),
    Column("yeldro_is", "varchar(64)", nullable=False),
    Column("yeldro_size", "bigint", nullable=False),
    Column("yeldro_place", "bigint", nullable=False),
]


class Going(Protocol):
    """Rows of one table that go."""

    @property
    def condition(self) -> sql.Predicate: ...


class Touched(Protocol):
    """All rows that would go, by table."""

    @property
    def removed(self) -> Mapping[TableName, Going]: ...


class DecidedRows:
    """Decisions about the rows of one table.

    They are read, and held against the table, by `make_ready`: some systems make temporary tables
    only before they have looked at a row. Until then no row goes.

    Attributes:
        condition: true for the rows that go.
        stays: true for rows that were decided to stay.
        notes: what is not decided, as sentences.
    """

    def __init__(
        self, session: Session, table: Table, grouping: Grouping, decisions: Decisions
    ) -> None:
        check_reviewable(table)
        self.session = session
        self.table = table
        self.grouping = grouping
        self.decisions = decisions
        self.rows = sql.rows_of(table)
        self.staged = session.create_key_table(_COLUMNS, 1, [["yeldro_key"]])
        self.grouped = session.create_key_table(
            [*key_columns(table), *_SEEN], len(table.identity.columns), [["yeldro_now"]]
        )
        self.condition = self._among(_GOES)
        self.stays = self._among(_STAYS)
        self.notes: tuple[str, ...] = ()
        self._several: int | None = None
        self._is_ready = False

    def make_ready(self) -> None:
        """Read the decisions, and hold them against the table.

        Raises:
            UsageError: they cannot be read.
            Refused: a row is unknown or stands twice, a group has changed, is decided in part, or
                would keep no row.
        """
        if self._is_ready:
            return
        self._is_ready = True
        found = self.decisions.read()
        while some := list(islice(found, _AT_ONCE)):
            self.session.insert_rows(self.staged, [
                (each.line, each.group, each.key, each.seen,
                 _OPEN if each.stays is None else _STAYS if each.stays else _GOES)
                for each in some
            ])  # fmt: skip
        self._note_groups()
        for each in (self.staged, self.grouped):
            self.session.key_table_filled(each)
        checking = _Checking(
            self.session, self.table, self.grouped, self.staged, str(self.decisions)
        )
        checking.check()
        self.notes = checking.notes()
        self._several = checking.several()

    def _note_groups(self) -> None:
        """Note every row of a group of two and more, with its hashes and its group."""
        session, table, same = self.session, self.table, self.grouping.same
        values = group_values(session, table, self.rows, self.grouping.by, same)
        listed = (
            sa.select(
                sa.func.count().over(partition_by=values).label("yeldro_size"),
                sa.func.dense_rank().over(order_by=values).label("yeldro_place"),
                *sql.columns_of(self.rows, list(table.by_name)),
            )
            .where(*in_some_group(self.rows, self.grouping.by, same))
            .subquery("yeldro_listed")
        )
        query = sa.select(
            *sql.columns_of(listed, table.identity.columns),
            key_hash(session, table, listed),
            session.contents_hash(table.stored_columns, listed),
            listed.c.yeldro_size,
            listed.c.yeldro_place,
        ).where(listed.c.yeldro_size > 1)
        names = [column.name for column in self.grouped.c]
        session.connection.execute(sa.insert(self.grouped).from_select(names, query))

    def _among(self, *decisions: int) -> sql.Predicate:
        """Return what is true for rows of which one of these was decided."""
        keys = self.table.identity.columns
        named = (
            sa.select(*sql.columns_of(self.grouped, keys))
            .join(self.staged, self.staged.c.yeldro_key == self.grouped.c.yeldro_now)
            .where(self.staged.c.yeldro_stays.in_(decisions))
        )
        return sql.among(sql.columns_of(self.rows, keys), named.correlate(None))

    def check_ripple(self, ripple: Touched, repoint: bool) -> None:
        """Refuse to take rows along that were not decided to go, or to move rows to several.

        Args:
            repoint: dependent rows move to the row that stays.

        Raises:
            Refused: a row would go that should stay, or it is not clear where rows should move.
        """
        if repoint and self._several is not None:
            raise Refused(
                f"Group {self._several} keeps several rows, so it is not clear to which of them "
                f"dependent rows should move.",
                "Decide for one row of it, or drop ‹repoint›.",
            )
        removed = ripple.removed.get(self.table.name)
        if removed is None:
            return
        stays = sa.and_(removed.condition, self._among(_STAYS, _OPEN))
        number = sql.count(self.session.connection, self.rows, stays)
        if number:
            raise Refused(
                f"{counted(number, 'row')} of {self.table.name} that should stay by the decisions "
                f"would go, as {'it depends' if number == 1 else 'they depend'} on rows that go.",
                "Detach them, or decide otherwise: the plan without ‹decisions› shows the way.",
            )


def check_reviewable(table: Table) -> None:
    """Refuse a table whose rows cannot be named for good.

    Raises:
        Refused: it has no key.
    """
    if table.identity.kind not in (IdentityKind.PRIMARY_KEY, IdentityKind.UNIQUE_KEY):
        raise Refused(
            f"{table.name} has no key, so its rows cannot be named in a file.",
            "Give the table a key first.",
        )


def key_hash(session: Session, table: Table, rows: sa.FromClause) -> sa.ColumnElement[Any]:
    """Return the hash of a row's key."""
    return session.contents_hash([table.by_name[name] for name in table.identity.columns], rows)


class _Checking:
    """Checks staged decisions against the rows of a table.

    Args:
        grouped: every row that is in a group now.
    """

    def __init__(
        self,
        session: Session,
        table: Table,
        grouped: sa.TableClause,
        staged: sa.TableClause,
        where_from: str,
    ) -> None:
        self.session = session
        self.table = table
        self.current = grouped
        self.staged = staged
        self.where_from = where_from

    def check(self) -> None:
        """Refuse what is not as it was, or cannot be carried out.

        Raises:
            Refused: see `DecidedRows.make_ready`.
        """
        staged, current = self.staged.c, self.current.c
        twice = sa.select(sa.func.max(staged.yeldro_line)).group_by(staged.yeldro_key)
        line = self._first(twice.having(sa.func.count() > 1))
        if line is not None:
            self._refuse(f"line {line} names a row that stands in another line too")
        beside = self.staged.outerjoin(self.current, current.yeldro_now == staged.yeldro_key)
        lines = sa.select(sa.func.min(staged.yeldro_line)).select_from(beside)
        line = self._first(lines.where(current.yeldro_now.is_(None)))
        if line is not None:
            self._refuse(f"line {line} names a row that is in no group of {self.table.name} now")
        line = self._first(lines.where(current.yeldro_is != staged.yeldro_seen))
        if line is not None:
            self._refuse(f"the row of line {line} has changed since")
        changed = sa.or_(
            sa.func.count() != sa.func.max(current.yeldro_size),
            sa.func.min(current.yeldro_place) != sa.func.max(current.yeldro_place),
        )
        groups = sa.select(staged.yeldro_group).select_from(beside).group_by(staged.yeldro_group)
        group = self._first(groups.having(changed))
        if group is not None:
            self._refuse(f"group {group} has other rows now than those in the file")
        open_ = self._number(_OPEN)
        group = self._first(self._groups(sa.and_(open_ > 0, open_ < sa.func.count())))
        if group is not None:
            self._refuse(
                f"group {group} is decided in part",
                "Decide every row of it, or none.",
            )
        group = self._first(self._groups(self._number(_GOES) == sa.func.count()))
        if group is not None:
            self._refuse(f"group {group} would keep no row", "Decide which one stays.")

    def notes(self) -> tuple[str, ...]:
        """Return how many groups stay whole, as sentences."""
        found = []
        told = (
            (_OPEN, ("is not decided and stays as it is", "are not decided and stay as they are")),
            (_STAYS, ("is decided to be no duplicates", "are decided to be no duplicates")),
        )
        for decision, (one, several) in told:
            whole = self._groups(self._number(decision) == sa.func.count()).subquery()
            number = sql.count(self.session.connection, whole)
            if number:
                found.append(f"{counted(number, f'group {one}', f'groups {several}')}.")
        return tuple(found)

    def several(self) -> int | None:
        """Return a group that loses rows and keeps more than one."""
        loses = sa.and_(self._number(_GOES) > 0, self._number(_STAYS) > 1)
        return self._first(self._groups(loses))

    def _number(self, decision: int) -> sa.ColumnElement[int]:
        return sa.func.sum(sa.case((self.staged.c.yeldro_stays == decision, 1), else_=0))

    def _groups(self, condition: sa.ColumnElement[bool]) -> sa.Select[Any]:
        group = self.staged.c.yeldro_group
        return sa.select(group).group_by(group).having(condition)

    def _first(self, query: sa.Select[Any]) -> int | None:
        """Return the first number that a query gives."""
        listed = query.subquery("yeldro_found")
        first = sa.select(sa.func.min(listed.c[0]))
        number = self.session.connection.execute(first).scalar_one()
        return None if number is None else int(number)

    def _refuse(self, problem: str, next_step: str = "") -> NoReturn:
        raise Refused(
            f"In {self.where_from}, {problem}.",
            next_step or "Write a new review, and decide again what has changed.",
        )

"""The rows of a plan's steps by their keys, read once, for a database that cannot be reached.

Nothing else is known of that database, so each part of a step tells what must be so before it:
which rows may reference the rows that go. Every part can go by itself, in this order.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from itertools import groupby
from typing import TYPE_CHECKING, Any

from yeldro.core.changes.change_set import Change, rows_in
from yeldro.core.database.facts import Mode
from yeldro.core.execution.run import check_plan
from yeldro.core.execution.script import check_triggers
from yeldro.core.model.messages.activity import announced
from yeldro.core.model.messages.errors import LimitReached, Refused
from yeldro.core.model.messages.options import Option
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.plan import Plan, prepare
from yeldro.core.selection.conditions.parameters import kind_of

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.tables.schema import Column, ForeignKey, Table

Row = tuple[Any, ...]
_BINARY = ("blob", "binary", "varbinary", "bytea")
_READ = 10_000  # rows that are read at a time


@dataclass(frozen=True)
class References:
    """What must reference the rows of a part: so many rows, by one foreign key.

    Args:
        values: the referenced values of the part's rows.
        rows: rows of the part itself that reference it.
    """

    key: ForeignKey
    values: tuple[Row, ...]
    rows: int


@dataclass(frozen=True)
class RowsOfStatement:
    """Some rows of a step, which one statement removes or changes.

    Args:
        keys: the values of their keys.
        changes: the new values of the step's changed columns; empty where rows go.
        references: what must be so before they go.
    """

    keys: tuple[Row, ...]
    changes: Row
    references: tuple[References, ...]


@dataclass(frozen=True)
class NamedStep:
    """One step of a plan with every row named.

    Args:
        keys: the columns that tell a row of the table from all others.
        changed: the columns that get other values; empty where rows go.
    """

    step: Step
    table: Table
    keys: tuple[Column, ...]
    changed: tuple[Column, ...]
    parts: tuple[RowsOfStatement, ...]


@dataclass(frozen=True)
class NamedRows:
    """One cleanup with every row named.

    Args:
        referencing: all foreign keys to the tables of which rows go.
    """

    plan: Plan
    steps: tuple[NamedStep, ...]
    referencing: tuple[ForeignKey, ...]


def name_rows(
    database: Database,
    cleanup: Cleanup,
    steps_before: int,
    most: int,
    most_values: int,
    *,
    same_system: bool,
) -> NamedRows:
    """Plan a cleanup and read the keys of every row; nothing is changed.

    Args:
        steps_before: the number of the last step before this cleanup.
        most: rows that may be named.
        most_values: values that one statement may compare.
        same_system: days may remain texts, as the other database is of the same system.

    Raises:
        Refused: the plan is blocked, rows have no key, or they must go together.
        LimitReached: the plan has more rows.
    """
    if cleanup.emptying:
        raise Refused(
            f"A script names the rows that go, and ‹{cleanup.emptying}› empties a table.",
            f"Drop ‹{cleanup.emptying}›: the rows go by DELETE then.",
        )
    with database.reading(Mode(plain=True, checked_by_system=True)) as session:
        prepared = prepare(session, cleanup, steps_before=steps_before)
        check_plan(prepared.plan, cleanup)
        check_triggers(prepared, cleanup)
        if prepared.plan.total > most:
            raise LimitReached(
                f"The script would name {prepared.plan.total:,} rows, and {most:,} are the limit.",
                f"Narrow the cleanup, or raise the limit with "
                f"{Option('most_rows', str(prepared.plan.total)).named}.",
                total=prepared.plan.total,
            )
        if prepared.deferred:
            raise Refused(
                "The order needs foreign keys that are checked at the commit, which not every "
                "system has.",
                "Let one column of the cycle accept NULL, or use ⟨run⟩.",
            )
        steps, done = [], 0
        for change in prepared.changes:
            reader = _Reader(session, change, most_values, same_system)
            steps.append(reader.step(done, prepared.plan.total))
            done += change.step.rows
        going = {step.table.name for step in steps if not step.changed}
        keys = [key for name in sorted(going) for key in session.catalogue.referencing(name)]
    return NamedRows(prepared.plan, tuple(steps), tuple(keys))


class _Reader:
    """Reads the rows of one step, and puts them into parts."""

    def __init__(
        self, session: Session, change: Change, most_values: int, same_system: bool
    ) -> None:
        self.session = session
        self.change = change
        self.table = change.rows.table
        if not self.table.has_key:
            raise Refused(
                f"{self.table.name} has no key, and nothing else names its rows in another "
                f"database.",
                "Give it a key, or use ⟨run⟩.",
            )
        self.keys = tuple(self.table.by_name[name] for name in self.table.identity.columns)
        self.changed = tuple(self.table.by_name[name] for name in change.values)
        self.as_texts = same_system
        self.referencing = (
            session.catalogue.referencing(self.table.name)
            if change.step.action is Action.REMOVE else ()
        )  # fmt: skip
        widest = max(len(self.keys), *(len(key.columns) for key in self.referencing), 1)
        self.most = max(most_values // widest, 1)  # rows in a part
        moving = [each.name for each in self.keys if each in self.changed]
        if moving or change.at_once:
            raise Refused(
                f"Keys of {self.table.name} would change ({', '.join(moving)}), and a script names "
                f"rows by their keys.",
                "Use ⟨run⟩.",
            )

    def step(self, done: int, total: int) -> NamedStep:
        """Return the step with its rows.

        Args:
            done: rows that are read already, of `total`.
        """
        rows = self.change.rows
        links = [key for key in self.referencing if key.child == self.table.name]
        names = [each.name for each in self.keys]
        names += [name for key in self.referencing for name in key.referenced_columns]
        names += [name for key in links for name in key.columns]
        own = list(dict.fromkeys(names))
        query = rows_in(
            self.session,
            rows,
            [*(rows.source.c[name] for name in own), *self.change.values.values()],
        )
        found = self.session.connection.execute(query)
        place = {name: n for n, name in enumerate(own)}
        columns = [(self.table.by_name[name], False) for name in own]
        columns += [(column, True) for column in self.changed]
        parts_read = announced(
            found.partitions(_READ), "reading", self.table.name, rows=done, total=total
        )
        read = [
            tuple(self._named(value, *each) for value, each in zip(row, columns, strict=True))
            for part in parts_read
            for row in part
        ]
        key_places = [place[each.name] for each in self.keys]
        read.sort(key=lambda row: [_sorted_by(row[n]) for n in key_places])
        if self.changed:
            parts = list(self._changes(read, key_places, len(own)))
        else:
            parts = [
                RowsOfStatement(tuple(_picked(row, key_places) for row in some), (),
                     tuple(self._references(some, place)))
                for level in _levels(read, links, place, self.table)
                for some in _in_parts(level, self.most)
            ]  # fmt: skip
        return NamedStep(self.change.step, self.table, self.keys, self.changed, tuple(parts))

    def _changes(
        self, read: Sequence[Row], key_places: Sequence[int], first: int
    ) -> Iterator[RowsOfStatement]:
        """Yield parts of rows that get the same values."""
        ordered = sorted(read, key=lambda row: [_sorted_by(value) for value in row[first:]])
        for values, same in groupby(ordered, lambda row: row[first:]):
            for some in _in_parts(list(same), self.most):
                yield RowsOfStatement(tuple(_picked(row, key_places) for row in some), values, ())

    def _references(self, some: Sequence[Row], place: dict[str, int]) -> Iterator[References]:
        """Yield what must reference some rows that go, by foreign key."""
        for key in self.referencing:
            theirs = [place[name] for name in key.referenced_columns]
            values = tuple(dict.fromkeys(
                value for row in some if None not in (value := _picked(row, theirs))
            ))  # fmt: skip
            known = 0
            if key.child == self.table.name:
                ours = [place[name] for name in key.columns]
                known = sum(_picked(row, ours) in values for row in some)
            if values:
                yield References(key, values, known)

    def _named(self, value: Any, column: Column, new: bool) -> Any:
        """Return a value in the form in which a script holds it.

        Args:
            new: a value that the column gets, and not one by which rows are named.

        Raises:
            Refused: systems write such a value differently.
        """
        kind = kind_of(column)
        if isinstance(value, str) and kind in ("date", "datetime") and not self.as_texts:
            value = _day(value) or value
        if _can_name(value, kind, column.type, self.as_texts) or (
            new and isinstance(value, bool | Decimal)
        ):
            return value
        what = "which gets other values," if new else "by which rows are named,"
        raise Refused(
            f"{self.table.name}.{column.name}, {what} is {column.type or 'of no type'} and holds "
            f"{value!r:.40}, which systems write differently. A script by keys names "
            f"whole numbers, texts, days and bytes.",
            "Run the cleanup where Yeldro reaches the database.",
        )


def _day(text: str) -> date | datetime | None:
    """Return the day or moment that a text is; None if it is none, or has a time zone."""
    try:
        found = datetime.fromisoformat(text) if len(text) > 10 else date.fromisoformat(text)
    except ValueError:
        return None
    return None if getattr(found, "tzinfo", None) else found


def _can_name(value: Any, kind: str | None, declared: str, as_texts: bool) -> bool:
    """True for a value that is written without doubt: whole number, text, day, moment, bytes."""
    if value is None:
        return True
    if isinstance(value, bool):
        return False
    if isinstance(value, int):
        return kind in ("number", "boolean", None)
    if isinstance(value, Decimal):
        return kind == "number" and value.is_finite() and value == value.to_integral_value()
    if isinstance(value, str):
        return kind == "text" or not declared or (as_texts and kind in ("date", "datetime"))
    if isinstance(value, date):  # or a moment
        return True
    return isinstance(value, bytes) and (
        not declared or any(word in declared.lower() for word in _BINARY)
    )


def _levels(
    rows: Sequence[Row], links: Sequence[ForeignKey], place: dict[str, int], table: Table
) -> Iterator[list[Row]]:
    """Yield rows that no other row of those left references, until none is left.

    Raises:
        Refused: the rows that are left reference one another.
    """
    if not links:
        yield list(rows)
        return
    waiting = [0] * len(rows)  # rows that reference each, and are still there
    parents: list[list[int]] = [[] for _ in rows]
    for key in links:
        theirs = [place[name] for name in key.referenced_columns]
        ours = [place[name] for name in key.columns]
        known = {_picked(row, theirs): n for n, row in enumerate(rows)}
        for n, row in enumerate(rows):
            parent = known.get(_picked(row, ours))
            if parent is not None and parent != n:
                parents[n].append(parent)
                waiting[parent] += 1
    level = [n for n, number in enumerate(waiting) if not number]
    left = len(rows)
    while level:
        yield [rows[n] for n in level]
        left -= len(level)
        deeper = []
        for n in level:
            for parent in parents[n]:
                waiting[parent] -= 1
                if not waiting[parent]:
                    deeper.append(parent)
        level = sorted(deeper)
    if left:
        raise Refused(
            f"{left:,} rows of {table.name} reference one another in a circle, and a script takes "
            f"them one part after the other.",
            "Use ⟨run⟩.",
        )


def _in_parts(rows: Sequence[Row], most: int) -> Iterator[Sequence[Row]]:
    for start in range(0, len(rows), most):
        yield rows[start : start + most]


def _picked(row: Row, places: Sequence[int]) -> Row:
    return tuple(row[n] for n in places)


def _sorted_by(value: Any) -> tuple[str, Any]:
    """Return what values of several types, and NULL, can be sorted by."""
    return (type(value).__name__, "" if value is None else value)

"""Putting the rows of a receipt back, and undoing the links that were cut.

The stored rows are first laid out in temporary tables beside the real ones, so that everything
that would go wrong is known before anything is written.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa

from yeldro.core import receipt_format as form
from yeldro.core import sql
from yeldro.core.errors import ROLLED_BACK, CountMismatch, DatabaseFailure, Refused
from yeldro.core.names import same_name
from yeldro.core.plan import Action
from yeldro.core.protocol import Database, Session
from yeldro.core.receipts import Receipt, ReceiptStep, stored_rows
from yeldro.core.schema import Column, ForeignKey, Table, TableName
from yeldro.core.tally import Tally, check_ledger, read_ledger

_AT_ONCE = 1000


@dataclass(frozen=True)
class Restored:
    """What stands between a receipt's step and the database.

    Args:
        stored: rows the step removed or changed.
        back: those that are in the database as they were before the step.
        missing: those that a restore puts back.
    """

    step: ReceiptStep
    stored: int
    back: int
    missing: int


@dataclass(frozen=True)
class RestorePlan:
    """What a restore would do, and what stands in its way, as sentences."""

    receipt: Receipt
    steps: tuple[Restored, ...]
    conflicts: tuple[str, ...]

    @property
    def total(self) -> int:
        """Rows to be put back or changed back."""
        return sum(each.missing for each in self.steps)

    @property
    def verdict(self) -> str:
        """`all gone`, `partly back` or `all back`; `never gone` where the run ended before that."""
        if not self.steps:
            return "never gone"
        back = sum(each.back for each in self.steps)
        if not back:
            return "all gone"
        return "partly back" if self.total or self.conflicts else "all back"


def compare(database: Database, receipt: Receipt) -> RestorePlan:
    """Holds a receipt's rows against the database as it is now; changes nothing.

    Raises:
        Refused: the receipt holds no rows, or a table of it is not there as it was.
    """
    with database.reading() as session:
        session.use_stored_forms()
        return _plan(receipt, _lay_out(session, receipt))


def restore(
    database: Database,
    receipt: Receipt,
    lock_wait: float,
    agreed: int | None = None,
    allowed_triggers: Sequence[str] = (),
) -> RestorePlan:
    """Puts back what is missing, in one transaction.

    Args:
        lock_wait: seconds to wait for other sessions' locks.
        agreed: the number of rows a person has agreed to put back, None where nobody was asked.
        allowed_triggers: triggers whose own changes to other rows are accepted.

    Raises:
        Refused: a row's key is taken, its parent is gone, or another number would go back.
        CountMismatch: a count was not as planned; rolled back.
    """
    with database.writing(lock_wait) as session:
        session.use_stored_forms()
        laid_out = _lay_out(session, receipt)
        planned = _plan(receipt, laid_out)
        if planned.conflicts:
            raise Refused(
                f"{'; '.join(planned.conflicts)}.",
                "Mend these rows, then restore again.",
                conflicts=planned.conflicts,
            )
        if agreed is not None and agreed != planned.total:
            raise Refused(
                f"The database has changed: {planned.total:,} rows would go back, not {agreed:,}.",
                "Look again, then restore.",
            )
        if not session.checks_when_all_is_done:
            _plan_late_links(session, laid_out)
        for each in laid_out:
            each.hold_parents()
        before = session.change_count()
        changed = 0
        for each in laid_out:
            affected = each.put_back()
            if affected != each.missing:
                raise CountMismatch(
                    f"{affected:,} rows of {each.table.name} went back, and {each.missing:,} were "
                    f"planned.",
                    f"Look at the triggers with 'yeldro survey {each.table.name}'.",
                )
            changed += affected
        changed += sum(each.set_late_links() for each in laid_out)
        triggers = [trigger.name for each in laid_out for trigger in each.table.triggers]
        ledger = read_ledger(before, session.change_count(), Tally((), ()))
        surplus = sum(ledger.unplanned.values()) - changed
        if surplus:
            ledger = type(ledger)(ledger.tables, {"*": surplus})
            check_ledger(ledger, triggers, allowed_triggers)
        session.commit()
    return planned


def _plan_late_links(session: Session, laid_out: Sequence[_LaidOut]) -> None:
    """Has links to rows that come back later set at the end, and checked at the commit if they can.

    The system checks every statement, and rows that went in a cycle reference one another.
    """
    removed = [each for each in laid_out if each.step.action is Action.REMOVE]
    for place, each in enumerate(removed):
        each.come_later({other.table.name for other in removed[place + 1 :]} - {each.table.name})
    deferrable = [key for each in removed for key in each.table.foreign_keys if key.deferrable]
    if deferrable:
        session.defer_checks(deferrable)


class _LaidOut:
    """The stored rows of one step in a temporary table, held against the real one."""

    def __init__(self, session: Session, step: ReceiptStep) -> None:
        self.session = session
        self.step = step
        self.table = _table_of(session, step)
        self.rows = sql.rows_of(self.table)
        self.row_id = session.restorable_row_id(self.table)
        short = (form.ROW_ID if each.role == "row id" else f"c{place}"
                 for place, each in enumerate(step.columns))  # fmt: skip
        self.roles = dict(zip(short, step.columns, strict=True))
        declared = [
            Column(name, session.staging_type(Column(column.name, column.type)))
            for name, column in self.roles.items()
        ]
        self.staged = session.create_key_table(
            [Column("yeldro_row", "bigint", nullable=False, row_id=True), *declared], 1
        )
        session.add_index(self.staged, [staged for _, staged in self.key])
        self.stored = 0
        self.missing = 0
        self.late: list[ForeignKey] = []

    def named(self, role: str) -> list[tuple[str, str]]:
        """(column of the table, column of the staged rows) for all columns of a role."""
        return [
            (column.name, stored_as)
            for stored_as, column in self.roles.items()
            if column.role == role
        ]

    @property
    def key(self) -> list[tuple[str, str]]:
        """The pairs of columns by which a stored row is found in the table."""
        role = "value" if self.step.action is Action.REMOVE else "key"
        pairs = self.named(role)
        if self.table.has_key:
            pairs = [pair for pair in pairs if pair[0] in self.table.identity.columns]
        elif self.row_id:
            pairs = [(self.row_id, form.ROW_ID), *pairs]
        return pairs

    @property
    def old_key(self) -> list[tuple[str, str]]:
        """The same pairs as they were before the step, which may have changed a key's column."""
        old = dict(self.named("old"))
        return [(ours, old.get(ours, staged)) for ours, staged in self.key]

    @property
    def told_by_count(self) -> bool:
        """Whether nothing but their number tells which of several equal rows are there."""
        return not self.table.has_key and self.row_id is None

    def is_ambiguous(self) -> bool:
        """Whether the changed rows cannot be found one by one: others, or they, are equal now."""
        if not self.told_by_count:
            return False
        contents = sql.contents(self.staged.c[staged] for _, staged in self.key)
        groups = sa.select(*(part.label(f"c{n}") for n, part in enumerate(contents))).distinct()
        if sql.count(self.session.connection, groups.subquery()) < self.stored:
            return True
        found = (
            sa.select(sa.literal(1))
            .select_from(self.staged)
            .where(*self.agree(self.key), *self.agree(self.named("new")))
        )
        changed = sa.exists(found.correlate(self.rows))
        return sql.count(self.session.connection, self.rows, changed) > self.stored

    def equal_rows(self) -> int:
        """Rows of the table that are equal to a staged one."""
        pairs = self.named("value")
        ours = [
            self.session.readable(self.rows.c[name], self.table.by_name[name]) for name, _ in pairs
        ]
        staged = sa.select(*sql.contents(self.staged.c[staged] for _, staged in pairs))
        there = sa.tuple_(*sql.contents(ours)).in_(staged.correlate(None))
        return sql.count(self.session.connection, self.rows, there)

    def count(self, *conditions: sql.Predicate) -> int:
        return sql.count(self.session.connection, self.staged, *conditions)

    def agree(self, pairs: Iterable[tuple[str, str]]) -> list[sql.Predicate]:
        """Whether a row of the table agrees with a staged row, NULL equal to NULL."""
        conditions: list[sql.Predicate] = []
        for ours, staged in pairs:
            column = self.table.by_name.get(ours)
            if column is None or (not column.nullable and ours in self.table.identity.columns):
                conditions.append(self.rows.c[ours] == self.typed(staged))
            else:
                ours_as_stored = self.session.readable(self.rows.c[ours], column)
                conditions.append(ours_as_stored.is_not_distinct_from(self.staged.c[staged]))
        return conditions

    def typed(self, staged: str) -> sa.ColumnElement[Any]:
        """A staged value as one of the table's column, to be compared or put back."""
        column = self.table.by_name.get(self.roles[staged].name)
        value: sa.ColumnElement[Any] = self.staged.c[staged]
        return value if column is None else self.session.typed(value, column)

    def exists(self, *conditions: sql.Predicate) -> sql.Predicate:
        query = sa.select(sa.literal(1)).select_from(self.rows).where(*conditions)
        return sa.exists(query.correlate(self.staged))

    def hold_parents(self) -> None:
        """Sees to it that nobody removes a parent row that is needed, where the system does not.

        Raises:
            DatabaseFailure: somebody has done so since it was found.
        """
        staged_as = dict(self.named("value"))
        for key in self.table.foreign_keys:
            if not set(key.columns) <= staged_as.keys():
                continue
            parent = self.session.catalogue.table(key.parent)
            parents = sql.rows_of(parent)
            needed = sa.select(*(self.typed(staged_as[name]) for name in key.columns))
            condition = sql.among(sql.columns_of(parents, key.referenced_columns), needed)
            query = sa.select(sa.func.count()).select_from(parents).where(condition)
            held = self.session.held(query)
            if held is query:
                continue
            connection = self.session.connection
            if connection.execute(query).scalar_one() != connection.execute(held).scalar_one():
                raise DatabaseFailure(
                    f"Somebody removed rows of {key.parent} that rows of {self.table.name} need.",
                    "Look again with 'yeldro receipt check', then restore.",
                    data=ROLLED_BACK,
                )

    def put_back(self) -> int:
        """Writes what is missing; the number of rows written."""
        if self.step.action is Action.REMOVE:
            return self._insert()
        if self.is_ambiguous():
            return sum(self._change_one(number) for number in range(1, self.stored + 1))
        return self._update(self.named("old"), *self.agree(self.named("new")))

    def _change_one(self, number: int) -> int:
        """Changes one of the rows that are equal to a staged one now; it does not matter which."""
        this = self.staged.c.yeldro_row == number
        found = sa.select(sa.literal(1)).select_from(self.staged)
        found = found.where(this, *self.agree(self.key), *self.agree(self.named("new")))
        values: dict[Any, Any] = {
            self.rows.c[ours]: sa.select(self.typed(staged)).where(this).scalar_subquery()
            for ours, staged in self.named("old")
        }
        values |= sql.left_alone(self.table, self.rows, [name for name, _ in self.named("old")])
        equal = sa.exists(found.correlate(self.rows))
        return self.session.change_one(self.table, equal, values)

    def _update(self, pairs: Sequence[tuple[str, str]], *conditions: sql.Predicate) -> int:
        """Sets columns to staged values where `conditions` hold of a row and its staged one.

        Returns:
            The number of rows changed.
        """
        values: dict[Any, Any] = {
            self.rows.c[ours]: sa.select(self.typed(staged))
            .where(*self.agree(self.key))
            .correlate(self.rows)
            .scalar_subquery()
            for ours, staged in pairs
        }
        found = sa.select(sa.literal(1)).select_from(self.staged)
        found = found.where(*self.agree(self.key), *conditions)
        where: list[sql.Predicate] = [sa.exists(found.correlate(self.rows))]
        if self.table.has_key:
            keys = sa.select(*(self.typed(staged) for _, staged in self.key))
            ours = sql.columns_of(self.rows, [name for name, _ in self.key])
            where.insert(0, sql.among(ours, keys))
        values |= sql.left_alone(self.table, self.rows, [name for name, _ in pairs])
        statement = sa.update(self.rows).where(*where).values(values)
        return self.session.connection.execute(self.session.led_by_keys(statement)).rowcount

    def come_later(self, tables: Collection[TableName]) -> None:
        """Notes the links to rows of `tables`, which come back later: they are set at the end.

        Without a key no link was cut to remove the rows, so their own order puts them back.
        """
        self.late = [
            key
            for key in self.table.foreign_keys
            if key.parent in tables and self.table.can_be_null(key.columns) and self.table.has_key
        ]

    def set_late_links(self) -> int:
        """Sets the links that were left out when the rows went back; the number of rows set."""
        staged_as = dict(self.named("value"))
        changed = 0
        for key in self.late:
            pairs = [(name, staged_as[name]) for name in key.columns]
            some = sa.or_(*(self.staged.c[staged].is_not(None) for _, staged in pairs))
            left_out = (self.rows.c[ours].is_(None) for ours, _ in pairs)
            changed += self._update(pairs, some, *left_out)
        return changed

    def _insert(self) -> int:
        pairs = self.named("value")
        names = [ours for ours, _ in pairs]
        late = {name for key in self.late for name in key.columns}
        selected: list[sa.ColumnElement[Any]] = [
            sa.null() if ours in late else self.typed(staged) for ours, staged in pairs
        ]
        if self.row_id:
            taken = self.exists(self.rows.c[self.row_id] == self.staged.c[form.ROW_ID])
            names.insert(0, self.row_id)
            selected.insert(0, sa.case((taken, sa.null()), else_=self.staged.c[form.ROW_ID]))
        absent = sa.true() if self.told_by_count else ~self.exists(*self.agree(self.key))
        query = sa.select(*selected).where(absent).order_by(self.staged.c.yeldro_row)
        statement = sa.insert(self.rows).from_select(sql.columns_of(self.rows, names), query)
        return self.session.put_back(statement)

    def fill(self, rows: Iterable[list[tuple[Any, str | None]]]) -> None:
        """Lays the stored rows out."""
        names = list(self.roles)
        plain: list[dict[str, Any]] = []
        number = 0
        for row in rows:
            number += 1
            values: dict[str, Any] = {"yeldro_row": number}
            values |= dict(zip(names, (value for value, _ in row), strict=True))
            if not any(kind for _, kind in row):
                plain.append(values)
                if len(plain) == _AT_ONCE:
                    self.session.connection.execute(sa.insert(self.staged), plain)
                    plain = []
                continue
            for name, (value, kind) in zip(names, row, strict=True):
                if kind:
                    values[name] = self.session.restored(value, kind)
            self.session.connection.execute(sa.insert(self.staged).values(values))
        if plain:
            self.session.connection.execute(sa.insert(self.staged), plain)
        if self.step.affected is not None and number != self.step.affected:
            raise DatabaseFailure(
                f"The receipt holds {number:,} rows of step {self.step.n}, and "
                f"{self.step.affected:,} were affected: it is not complete.",
                "Nothing can be restored from it safely.",
            )
        self.stored = number
        self.session.key_table_filled(self.staged)


def _lay_out(session: Session, receipt: Receipt) -> list[_LaidOut]:
    """The receipt's steps last first, so that parents go back before their children."""
    if receipt.steps and not receipt.holds_rows:
        raise Refused(
            "This receipt holds counts and no rows, so nothing can be compared or put back.",
            "Rows are stored unless --without-rows is said.",
        )
    if receipt.outcome == form.OPEN:
        return []
    stored = [step for step in reversed(receipt.steps) if step.rows_table]
    laid_out = [_LaidOut(session, step) for step in stored]
    for each in laid_out:
        each.fill(stored_rows(receipt.path, each.step))
    return sorted(laid_out, key=lambda each: each.step.action is not Action.REMOVE)


def _plan(receipt: Receipt, laid_out: Sequence[_LaidOut]) -> RestorePlan:
    steps, conflicts = [], []
    for each in laid_out:
        found, problems = _compare(each, laid_out)
        each.missing = found.missing
        steps.append(found)
        conflicts += problems
    return RestorePlan(receipt, tuple(steps), tuple(conflicts))


def _compare(each: _LaidOut, others: Sequence[_LaidOut]) -> tuple[Restored, list[str]]:
    """Counts what is back and what is missing, and says what stands in the way."""
    problems: list[str] = []
    if each.told_by_count and each.step.action is Action.REMOVE:
        return _compare_by_count(each)
    there = each.exists(*each.agree(each.key))
    if each.step.action is Action.REMOVE:
        same = each.exists(*each.agree(each.key), *each.agree(each.named("value")))
        back = each.count(same)
        missing = each.count(~there)
        taken = each.stored - back - missing
        if taken:
            problems.append(
                f"{taken:,} keys of {each.table.name} are taken by other rows"
                f"{_sample(each, there, ~same)}"
            )
        problems += _taken_elsewhere(each, there)
        for key in each.table.foreign_keys:
            problems += _parents_gone(each, key, others, there)
        return Restored(each.step, each.stored, back, missing), problems
    cut = each.exists(*each.agree(each.key), *each.agree(each.named("new")))
    linked = each.exists(*each.agree(each.old_key), *each.agree(each.named("old")))
    back = each.count(linked)
    if 0 < back < each.stored and each.is_ambiguous():
        problems.append(
            f"some changed rows of {each.table.name} are back, and nothing tells which of several "
            f"equal ones they are"
        )
    changed_since = each.count(~linked, ~cut)
    if changed_since:
        problems.append(
            f"{changed_since:,} rows of {each.table.name} were removed or linked anew since"
        )
    return Restored(each.step, each.stored, back, each.stored - back), problems


def _compare_by_count(each: _LaidOut) -> tuple[Restored, list[str]]:
    """Equal rows cannot be told apart; their number tells whether the stored ones are back."""
    back = min(max(each.equal_rows() - (each.step.equal_rows_left or 0), 0), each.stored)
    problems = []
    if 0 < back < each.stored:
        problems.append(
            f"{back:,} rows equal to stored ones were added to {each.table.name} since, and "
            f"without a key nothing tells which"
        )
    return Restored(each.step, each.stored, back, each.stored - back), problems


def _taken_elsewhere(each: _LaidOut, there: sql.Predicate) -> list[str]:
    """Unique keys, other than the one rows are found by, that other rows hold now."""
    problems = []
    names = dict(each.named("value"))
    for key in each.table.candidate_keys:
        if key.columns == each.table.identity.columns or not set(key.columns) <= names.keys():
            continue
        pairs = [(name, names[name]) for name in key.columns]
        equal = [each.rows.c[ours] == each.typed(staged) for ours, staged in pairs]
        taken = each.exists(*equal)
        found = each.count(~there, taken)
        if found:
            listed = ", ".join(key.columns)
            problems.append(
                f"{found:,} values of {each.table.name} ({listed}) are taken by other rows"
                f"{_sample(each, ~there, taken)}"
            )
    return problems


def _parents_gone(
    each: _LaidOut, key: ForeignKey, others: Sequence[_LaidOut], there: sql.Predicate
) -> list[str]:
    """Parents that rows to be put back need, and that neither stand there nor come back too."""
    names = dict(each.named("value"))
    if not set(key.columns) <= names.keys():
        return []
    parent = each.session.catalogue.table(key.parent)
    parents = sql.rows_of(parent).alias("yeldro_parent")
    conditions = [~there, *(each.staged.c[names[ours]].is_not(None) for ours in key.columns)]
    pairs = [
        (
            each.session.referencing_value(
                each.typed(names[ours]), each.table.by_name[ours], parent.by_name[theirs]
            ),
            theirs,
        )
        for ours, theirs in zip(key.columns, key.referenced_columns, strict=True)
    ]
    is_parent = (parents.c[theirs] == value for value, theirs in pairs)
    conditions.append(~sa.exists().where(*is_parent))
    for other in others:
        if other.table.name == key.parent and other.step.action is Action.REMOVE:
            theirs_names = dict(other.named("value"))
            coming = other.staged.alias("yeldro_coming")
            is_coming = (
                each.session.typed(coming.c[theirs_names[theirs]], parent.by_name[theirs]) == value
                for value, theirs in pairs
            )
            conditions.append(~sa.exists().where(*is_coming))
    gone = each.count(*conditions)
    alone_before = each.step.orphans.get(key.name, 0)
    if not gone or (gone <= alone_before and each.session.checks_when_all_is_done):
        return []
    since = "any more" if gone > alone_before else "and had none before; the system asks for one"
    return [
        f"{gone:,} rows of {each.table.name} have no parent row {since} ({key})"
        f"{_sample(each, *conditions)}"
    ]


def _sample(each: _LaidOut, *conditions: sql.Predicate) -> str:
    """A few of the staged rows that meet the conditions, by key."""
    pairs = each.key[:3]
    query = sa.select(*(each.staged.c[staged] for _, staged in pairs)).where(*conditions).limit(3)
    rows = each.session.connection.execute(query).all()
    listed = "; ".join(
        ", ".join(f"{ours} {value!r}" for (ours, _), value in zip(pairs, row, strict=True))
        for row in rows
    )
    return f" (such as {listed})" if listed else ""


def _table_of(session: Session, step: ReceiptStep) -> Table:
    """The table as it is now; it must still have every stored column."""
    if not session.catalogue.has_table(step.table):
        raise Refused(f"The table {step.table} is not there any more.", "Create it again first.")
    table = session.catalogue.table(step.table)
    for column in step.columns:
        if column.role != "row id" and not same_name(column.name, table.by_name):
            raise Refused(
                f"The column {step.table}.{column.name} is not there any more.",
                "Add it again first.",
            )
    return table

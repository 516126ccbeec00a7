"""Putting the rows of a receipt back, and undoing the links that were cut.

The stored rows are first laid out in temporary tables beside the real ones, so that everything
that would go wrong is known before anything is written.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import sqlalchemy as sa

from yeldro.core import receipt_format as form
from yeldro.core import sql
from yeldro.core.errors import CountMismatch, Refused, UsageError
from yeldro.core.expression import parse_stored_filter
from yeldro.core.laidout import LaidOut
from yeldro.core.names import same_name, suggestion
from yeldro.core.plan import Action
from yeldro.core.protocol import Database, Session
from yeldro.core.receipts import Receipt, ReceiptStep, stored_rows
from yeldro.core.schema import ForeignKey
from yeldro.core.tally import Tally, check_ledger, read_ledger


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
class Scope:
    """Which of a receipt's rows are meant.

    Args:
        only: tables, as typed; empty for all.
        where: only stored rows for which this is true; needs one table.
        skip_conflicts: rows that something stands in the way of are left out.
    """

    only: tuple[str, ...] = ()
    skip_conflicts: bool = False
    where: str | None = None


EVERYTHING = Scope()


@dataclass(frozen=True)
class RestorePlan:
    """What a restore would do, and what stands in its way, as sentences.

    Args:
        skipped: what is left out because something stands in its way, as sentences.
    """

    receipt: Receipt
    steps: tuple[Restored, ...]
    conflicts: tuple[str, ...]
    skipped: tuple[str, ...] = ()

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


def compare(database: Database, receipt: Receipt, scope: Scope = EVERYTHING) -> RestorePlan:
    """Holds a receipt's rows against the database as it is now; changes nothing.

    Raises:
        Refused: the receipt holds no rows, or a table of it is not there as it was.
    """
    with database.reading() as session:
        session.use_stored_forms()
        return _plan(receipt, _lay_out(session, receipt, scope), scope)


def restore(
    database: Database,
    receipt: Receipt,
    lock_wait: float,
    agreed: int | None = None,
    allowed_triggers: Sequence[str] = (),
    scope: Scope = EVERYTHING,
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
        laid_out = _lay_out(session, receipt, scope)
        planned = _plan(receipt, laid_out, scope)
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


def _plan_late_links(session: Session, laid_out: Sequence[LaidOut]) -> None:
    """Has links to rows that come back later set at the end, and checked at the commit if they can.

    The system checks every statement, and rows that went in a cycle reference one another.
    """
    removed = [each for each in laid_out if each.step.action is Action.REMOVE]
    for place, each in enumerate(removed):
        each.come_later({other.table.name for other in removed[place + 1 :]} - {each.table.name})
    deferrable = [key for each in removed for key in each.table.foreign_keys if key.deferrable]
    if deferrable:
        session.defer_checks(deferrable)


def _lay_out(session: Session, receipt: Receipt, scope: Scope) -> list[LaidOut]:
    """The receipt's steps last first, so that parents go back before their children."""
    if receipt.outcome == form.OPEN:
        return []
    if receipt.system != session.system:
        raise Refused(
            f"The rows of this receipt are {receipt.system}'s, and this is {session.system}.",
            "Export them with 'yeldro receipt export', and load the files there.",
        )
    if receipt.steps and not receipt.holds_rows:
        raise Refused(
            "This receipt holds counts and no rows, so nothing can be compared or put back.",
            "Rows are stored unless --without-rows is said.",
        )
    stored = [step for step in reversed(receipt.steps) if step.rows_table]
    if scope.only:
        known = {str(step.table): None for step in stored}
        for name in scope.only:
            if same_name(name, known) is None:
                raise UsageError(
                    f"--only {name}: this receipt holds no rows of it.", suggestion(name, known)
                )
        wanted = {same_name(name, known) for name in scope.only}
        stored = [step for step in stored if str(step.table) in wanted]
    if scope.where is not None and len({step.table for step in stored}) != 1:
        raise UsageError(
            "--where speaks of the rows of one table.", "Add --only TABLE to say which."
        )
    laid_out = [LaidOut(session, step) for step in stored]
    for each in laid_out:
        names = [column.stored_as for column in each.step.columns]
        where = None if scope.where is None else parse_stored_filter(scope.where, names)
        each.fill(stored_rows(receipt.path, each.step, where), all_of_them=where is None)
    return sorted(laid_out, key=lambda each: each.step.action is not Action.REMOVE)


@dataclass(frozen=True)
class _Problem:
    """What stands in the way of some staged rows; `rows` tells which, None where nothing does."""

    said: str
    rows: sql.Predicate | None = None


def _plan(receipt: Receipt, laid_out: Sequence[LaidOut], scope: Scope) -> RestorePlan:
    skipped: list[str] = []
    while True:
        steps: list[Restored] = []
        problems: list[tuple[LaidOut, _Problem]] = []
        for each in laid_out:
            found, in_the_way = _compare(each, laid_out)
            each.missing = found.missing
            steps.append(found)
            problems += [(each, problem) for problem in in_the_way]
        can_be_left_out = problems and all(problem.rows is not None for _, problem in problems)
        if not scope.skip_conflicts or not can_be_left_out:
            break
        # Rows that are left out can be parents of others, so it is all looked at again.
        for each, problem in problems:
            assert problem.rows is not None
            each.leave_out(problem.rows)
            skipped.append(problem.said)
    conflicts = tuple(problem.said for _, problem in problems)
    return RestorePlan(receipt, tuple(steps), conflicts, tuple(skipped))


def _compare(each: LaidOut, others: Sequence[LaidOut]) -> tuple[Restored, list[_Problem]]:
    """Counts what is back and what is missing, and says what stands in the way."""
    problems: list[_Problem] = []
    if each.told_by_count and each.step.action is Action.REMOVE:
        return _compare_by_count(each)
    there = each.exists(*each.agree(each.key))
    if each.step.action is Action.REMOVE:
        same = each.exists(*each.agree(each.key), *each.agree(each.named("value")))
        for earlier in _changed_before(each, others):
            same = sa.or_(same, each.back_before(earlier))
        back = each.count(same)
        missing = each.count(~there)
        taken = each.stored - back - missing
        if taken:
            said = (
                f"{taken:,} keys of {each.table.name} are taken by other rows"
                f"{_sample(each, there, ~same)}"
            )
            problems.append(_Problem(said, sa.and_(there, ~same)))
        problems += _taken_elsewhere(each, there)
        for key in each.table.foreign_keys:
            problems += _parents_gone(each, key, others, there)
        return Restored(each.step, each.stored, back, missing), problems
    cut = each.exists(*each.agree(each.key), *each.agree(each.named("new")))
    linked = each.exists(*each.agree(each.old_key), *each.agree(each.named("old")))
    for earlier in _changed_before(each, others):
        linked = sa.or_(linked, each.back_before(earlier))
    back = each.count(linked)
    if 0 < back < each.stored and each.is_ambiguous():
        said = (
            f"some changed rows of {each.table.name} are back, and nothing tells which of several "
            f"equal ones they are"
        )
        problems.append(_Problem(said))
    later = [other for other in others if other.step.n > each.step.n]
    covered = [each.covered_by(other) for other in later if other.table.name == each.table.name]
    anew = sa.and_(~linked, ~cut, *(~condition for condition in covered))
    changed_since = each.count(anew)
    if changed_since:
        said = f"{changed_since:,} rows of {each.table.name} were removed or linked anew since"
        problems.append(_Problem(said, anew))
    return Restored(each.step, each.stored, back, each.stored - back), problems


def _changed_before(each: LaidOut, others: Sequence[LaidOut]) -> list[LaidOut]:
    """Earlier steps of the receipt that changed rows of the same table."""
    return [
        other
        for other in others
        if other.step.n < each.step.n
        and other.table.name == each.table.name
        and other.step.action is not Action.REMOVE
        and other.table.has_key
    ]


def _compare_by_count(each: LaidOut) -> tuple[Restored, list[_Problem]]:
    """Equal rows cannot be told apart; their number tells whether the stored ones are back."""
    back = min(max(each.equal_rows() - (each.step.equal_rows_left or 0), 0), each.stored)
    problems = []
    if 0 < back < each.stored:
        said = (
            f"{back:,} rows equal to stored ones were added to {each.table.name} since, and "
            f"without a key nothing tells which"
        )
        problems.append(_Problem(said))
    return Restored(each.step, each.stored, back, each.stored - back), problems


def _taken_elsewhere(each: LaidOut, there: sql.Predicate) -> list[_Problem]:
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
            said = (
                f"{found:,} values of {each.table.name} ({listed}) are taken by other rows"
                f"{_sample(each, ~there, taken)}"
            )
            problems.append(_Problem(said, sa.and_(~there, taken)))
    return problems


def _parents_gone(
    each: LaidOut, key: ForeignKey, others: Sequence[LaidOut], there: sql.Predicate
) -> list[_Problem]:
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
    said = (
        f"{gone:,} rows of {each.table.name} have no parent row {since} ({key})"
        f"{_sample(each, *conditions)}"
    )
    return [_Problem(said, sa.and_(*conditions))]


def _sample(each: LaidOut, *conditions: sql.Predicate) -> str:
    """A few of the staged rows that meet the conditions, by key."""
    pairs = each.key[:3]
    query = sa.select(*(each.staged.c[staged] for _, staged in pairs)).where(*conditions).limit(3)
    rows = each.session.connection.execute(query).all()
    listed = "; ".join(
        ", ".join(f"{ours} {value!r}" for (ours, _), value in zip(pairs, row, strict=True))
        for row in rows
    )
    return f" (such as {listed})" if listed else ""

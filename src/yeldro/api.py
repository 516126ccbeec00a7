"""Yeldro in a program: connect, describe a cleanup, plan, run, restore (docs/python.md).

The same core as the command line, and the same refusals: every failure is a `YeldroError` that
carries what happened to the data, why, and what to do next.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypedDict, Unpack

from yeldro.core.changes.change_set import Acceptances
from yeldro.core.changes.limits import Limits
from yeldro.core.execution import expectation_results
from yeldro.core.execution import run as running
from yeldro.core.execution.approval import ConfirmedPlans, NotedPlan, PlanRecord
from yeldro.core.inspection.preview import Preview, look_at
from yeldro.core.inspection.survey import Survey, TableDetail, survey, survey_table
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.work.expectation import Expectations, RowRange
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.heirs import split_by_heir
from yeldro.core.planning.job import Job, JobPlan
from yeldro.core.planning.why import CloserLook, LookResult
from yeldro.core.receipts.copies import CopyPlace
from yeldro.core.receipts.reader import Receipt, read_receipt
from yeldro.core.receipts.why import why as why_of_receipt
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore import restore as restoring
from yeldro.core.selection.conditions.checks import Check
from yeldro.core.selection.duplicates.grouping import DuplicateReport, find_duplicates
from yeldro.core.selection.duplicates.review import WrittenReview, review
from yeldro.engines import open_database
from yeldro.formats import sql_out
from yeldro.formats.cleanup_file import read_cleanup_file
from yeldro.formats.cleanup_values import cleanup_from, expectations_from
from yeldro.formats.review_file import write_review

if TYPE_CHECKING:
    from yeldro.core.execution.expectation_results import ExpectationResult
    from yeldro.core.execution.run import RunResult
    from yeldro.core.restore.restore import RestoreResult
    from yeldro.core.restore.restore_plan import RestorePlan
    from yeldro.core.selection.asked import Selection

_LOCK_WAIT = 10.0

Rows = int | str
Names = str | Iterable[str]


def connect(database: str | Path) -> Connection:
    """Return a database to work on; nothing is opened before it is used.

    Args:
        database: a path to an SQLite file, or a URL.

    Raises:
        UsageError: the URL cannot be read.
    """
    return Connection(str(database))


class EqualityFields(TypedDict, total=False):
    """When values of duplicates count as equal."""

    ignore_case: bool
    trim: bool
    null_distinct: bool
    as_text: bool


class CleanupFields(EqualityFields, total=False):
    """The fields of a cleanup besides its table, named like the command line's options."""

    where: str | None
    matching: Names
    missing_in: Names
    orphans: str | None
    duplicates_by: Names
    keep: Names
    decisions: str | None
    order_by: str | None
    limit: int | None
    all_rows: bool
    only_table: bool
    repoint: bool
    follow: Names
    detach: Names
    fill: Names
    fill_empty: bool
    fill_first: bool
    allow_trigger: Names
    no_way_back: Names
    add_constraint: bool
    truncate: bool
    keep_survivors: bool
    by_partition: bool


def cleanup(
    table: str,
    *,
    parameters: Mapping[str, Any] | None = None,
    expect: Rows | None = None,
    expect_in: Mapping[str, Rows] | None = None,
    expect_total: Rows | None = None,
    **fields: Unpack[CleanupFields],
) -> Cleanup:
    """Describe one deletion, with the names of the command line's options.

    Args:
        parameters: values for the `:name` parameters of `where`.
        expect, expect_in, expect_total: numbers of rows: a number, or a range such as "1..50".

    Raises:
        UnknownName: a field does not exist.
        UsageError: a value cannot be read.
    """
    expected = expectations_from(expect, expect_in or {}, expect_total)
    return cleanup_from(table, fields, parameters=parameters, expectations=expected)


def check(query: str, expect: Rows, about: str = "", **parameters: Any) -> Check:
    """Return a query that must give one of the expected numbers when all is done."""
    return Check(about, query, _rows(expect), parameters)


def load(path: str | Path, **values: Any) -> Job:
    """Return the job of a cleanup file.

    Args:
        values: a value for every parameter of the file, of its type or as text.

    Raises:
        UsageError: the file has a mistake, or a value is missing.
    """
    file = read_cleanup_file(Path(path))
    types = {parameter.name: parameter for parameter in file.parameters}
    return file.with_values(
        {
            name: types[name].value(value) if name in types and isinstance(value, str) else value
            for name, value in values.items()
        }
    )


def job(
    *cleanups: Cleanup,
    title: str = "",
    after: Sequence[Check] = (),
    expect_total: Rows | None = None,
    protected: Names = (),
    most_rows: int | None = None,
) -> Job:
    """Return a job of cleanups that run one after another, in one transaction.

    Args:
        after: checks that must hold when all are done.
        expect_total: how many rows must go or change in all.
        protected, most_rows: limits that this program sets.
    """
    total = None if expect_total is None else _rows(expect_total)
    return Job(
        title=title or ", ".join(each.selection.table for each in cleanups),
        cleanups=cleanups,
        after=tuple(after),
        expectations=Expectations(total=total),
        limits=Limits(_names(protected), most_rows, "this program"),
        described=True,
    )


class Connection:
    """One database; every call opens a session and closes it again."""

    def __init__(self, text: str) -> None:
        self._database = open_database(text)

    @property
    def shown(self) -> str:
        """The database's URL, without a password."""
        return self._database.shown

    def survey(self) -> Survey:
        """Return all tables with their row counts, keys and warnings."""
        with self._database.reading() as session:
            return survey(session)

    def table(self, name: str, rows: int = 0) -> TableDetail:
        """Return one table: columns, keys, foreign keys, and a few rows.

        Raises:
            UsageError: there is no such table.
        """
        with self._database.reading() as session:
            return survey_table(session, name, (), rows)

    def preview(self, what: Cleanup, rows: int = 10) -> Preview:
        """Return the first matched rows, their number, and what depends on them."""
        return look_at(self._database, what, (), rows)

    def duplicates(
        self,
        table: str,
        by: Names,
        keep: Names = (),
        groups: int = 5,
        **equality: Unpack[EqualityFields],
    ) -> DuplicateReport:
        """Return groups of rows that are equal on chosen columns; the largest `groups` row by row.

        Raises:
            UsageError: a name or a rule cannot be read.
        """
        wanted = _duplicates(table, by, keep, equality)
        with self._database.reading() as session:
            return find_duplicates(session, wanted, groups)

    def review(
        self,
        table: str,
        by: Names,
        file: str,
        keep: Names = (),
        **equality: Unpack[EqualityFields],
    ) -> WrittenReview:
        """Write all groups of duplicates row by row into a new file, in which a person decides.

        Args:
            file: its path; a workbook if it ends with `.xlsx`, else CSV.

        Raises:
            UsageError: a name cannot be read, or the file exists.
            Refused: the table has no key.
        """
        wanted = _duplicates(table, by, keep, equality)
        with self._database.reading() as session:
            return write_review(review(session, wanted), file)

    def plan(self, what: Cleanup | Job, *, with_rows: bool = False) -> JobPlan:
        """Return every step in order with its exact number of rows; blocking rows are named in it.

        Args:
            with_rows: note the rows and their new values too, so that a run for which this plan was
                agreed to refuses other rows of the same number. It reads each of them once.

        Raises:
            UsageError, Refused: it contradicts itself, or uses an unknown name.
        """
        wanted = self._job(what)
        if not with_rows:
            return running.plan(self._database, wanted)
        record = PlanRecord()
        found = running.plan(self._database, wanted, record)
        return NotedPlan(found.title, found.plans, found.follows, record)

    def why(self, what: Cleanup | Job | str | Path | Receipt, *rows: str) -> tuple[LookResult, ...]:
        """Tell why rows go, change or stay, for each cleanup: the rows that lead to each.

        Args:
            what: cleanups, which are planned; or a receipt, which tells it of its stored rows.
            rows: each as `TABLE:KEY`; the values of a key of several columns with commas between.

        Raises:
            UsageError: there is no such row, or its table has no key.
        """
        if not isinstance(what, Cleanup | Job):
            return (LookResult(why_of_receipt(_receipt(what), rows), ()),)
        look = CloserLook(rows)
        running.plan(self._database, self._job(what), look)
        return tuple(look.found)

    def check(
        self, what: Cleanup | Job, *, after: bool = False, lock_wait: float = _LOCK_WAIT
    ) -> tuple[ExpectationResult, ...]:
        """Compare the numbers of rows that must go with the database as it is now.

        A job whose later cleanups read what earlier ones change is rehearsed for it.

        Args:
            after: answer the checks instead that must hold when a run is done.
            lock_wait: seconds that a rehearsal waits for other sessions' locks.

        Raises:
            UsageError: nothing of that kind is expected.
        """
        when = expectation_results.When.AFTER if after else None
        return expectation_results.check_now(self._database, self._job(what), lock_wait, when)

    def rehearse(self, what: Cleanup | Job, lock_wait: float = _LOCK_WAIT) -> RunResult:
        """Carry everything out in a transaction, compare the counts, and roll back.

        Args:
            lock_wait: seconds to wait for other sessions' locks.

        Raises:
            Refused: rows block it.
            CountMismatch: a count differs from the planned or expected one.
        """
        return running.rehearse(self._database, self._job(what), lock_wait)

    def run(
        self,
        what: Cleanup | Job,
        *,
        receipts: str | Path,
        agreed: JobPlan | None = None,
        with_rows: bool = True,
        copy_to: str | None = None,
        lock_wait: float = _LOCK_WAIT,
    ) -> RunResult:
        """Remove the rows, if exactly the agreed or expected number goes; else change nothing.

        Args:
            receipts: the folder for the receipt.
            agreed: a plan whose counts must be found again, and its rows if it was made
                `with_rows`; without it, the cleanups need expectations.
            with_rows: store the rows, so that they can be put back.
            copy_to: "schema." or "prefix_" of tables that keep the rows instead of the receipt.
            lock_wait: seconds to wait for other sessions' locks.

        Raises:
            UsageError: the number of rows that must go is not given.
            Refused: rows block it, or the counts are not the agreed ones.
            CountMismatch: a count differs; everything was rolled back.
            DatabaseFailure: the database or the receipt's disk failed; everything was rolled back.
        """
        wanted = self._job(what)
        if agreed is None and not wanted.expects:
            raise UsageError(
                "The number of rows that must go is not given.",
                "Give every cleanup expect=…, or pass the plan as agreed=…",
            )
        record = agreed.record if isinstance(agreed, NotedPlan) else None
        seen = ConfirmedPlans(agreed.plans, record) if agreed else None
        place = CopyPlace.parse(copy_to) if copy_to else None
        receipt_options = ReceiptOptions(Path(receipts), with_rows, place)
        return running.run(self._database, wanted, receipt_options, lock_wait, seen)

    def compare(self, receipt: str | Path | Receipt) -> RestorePlan:
        """Compare the rows of a receipt with the database, to tell if they are still gone."""
        return restoring.compare(self._database, _receipt(receipt))

    def restore(
        self,
        receipt: str | Path | Receipt,
        receipts: str | Path | None = None,
        lock_wait: float = _LOCK_WAIT,
        accept_differences: Names = (),
        no_way_back: Names = (),
        allow_triggers: Names = (),
    ) -> RestoreResult:
        """Put the rows of a receipt back, parents first, and undo the links it cut.

        Args:
            receipts: the folder for the restore's own receipt, by which it can be undone; by
                default beside the restored one.
            accept_differences: tables whose rows may come back different; the result's
                `differences` tell how.
            no_way_back: tables without transactions, from which a restore that fails cannot take
                back what it has put there.
            allow_triggers: triggers whose changes to other rows are accepted.

        Raises:
            Refused: a key is taken by another row, or a parent is gone.
            CountMismatch: a count differs; everything was rolled back.
            DatabaseFailure: the database or the receipt's disk failed; everything was rolled back.
        """
        found = _receipt(receipt)
        receipt_options = ReceiptOptions(Path(receipts)) if receipts else None
        allowed = Acceptances(
            _names(allow_triggers), _names(no_way_back), _names(accept_differences)
        )
        return restoring.restore(
            self._database, found, lock_wait, allowed=allowed, receipt_options=receipt_options
        )

    def _job(self, what: Cleanup | Job) -> Job:
        job = what if isinstance(what, Job) else Job.of(what)
        if not self._database.traits.has_inheritance:
            return job
        with self._database.reading() as session:
            return split_by_heir(session, job)

    def script(
        self, what: Cleanup | Job, dialect: str | None = None, most_rows: int = sql_out.MOST_ROWS
    ) -> str:
        """Return the steps as a SQL script that stops if a count differs.

        Args:
            dialect: the system of another database with the same rows, which cannot be reached:
                every row is named by its key; None for a script for this database.
            most_rows: how many rows may be named so.
        """
        return sql_out.script(self._database, self._job(what), dialect, most_rows)


def _receipt(given: str | Path | Receipt) -> Receipt:
    return given if isinstance(given, Receipt) else read_receipt(Path(given))


def _names(given: Names) -> tuple[str, ...]:
    return (given,) if isinstance(given, str) else tuple(given)


def _rows(given: Rows) -> RowRange:
    return RowRange.parse(str(given))


def _duplicates(table: str, by: Names, keep: Names, equality: EqualityFields) -> Selection:
    return cleanup_from(table, {"duplicates_by": by, "keep": keep, **equality}).selection

"""Writing a cleanup as a SQL script that checks every count.

A script for the connected database has what a run would execute (`execution.script`): its own
statements with the user's condition, as that system takes them. A script for a database that cannot
be reached names every row by its key (`execution.named_rows`), and holds no condition.

After each statement its count is compared. Any other count than the planned one stops the script,
and everything is rolled back.
"""

from __future__ import annotations

import hashlib
import re
from collections.abc import Callable, Iterator, Sequence
from datetime import UTC, datetime
from typing import TYPE_CHECKING

from yeldro import __version__
from yeldro.core.execution.named_rows import NamedRows, NamedStep, RowsOfStatement, name_rows
from yeldro.core.execution.run import check_plans
from yeldro.core.execution.script import (
    CountCheck,
    ScriptStatements,
    ScriptStep,
    literal_check,
    script_statements,
)
from yeldro.core.model.messages.errors import Refused, UnknownName
from yeldro.core.model.messages.names import one_line
from yeldro.core.model.work.expectation import RowRange
from yeldro.core.planning.job import Job, JobPlan, rows_by_table, what_follows
from yeldro.formats.writing.frames import as_comments, ascii_only
from yeldro.formats.writing.lines import with_short_lines
from yeldro.formats.writing.same_schema import schema_questions
from yeldro.formats.writing.targets import TARGETS, Target
from yeldro.formats.writing.words import Names

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.tables.schema import ForeignKey, Table, TableName
    from yeldro.core.planning.plan import Plan
    from yeldro.formats.writing.frames import Frame

MOST_ROWS = 100_000  # that a script names, unless the user says another number
# Literals and quoted names, in which nothing is replaced, except the name "temp" before a dot.
_STANDARD = r"""'(?:[^']|'')*'|"(?!temp"\.)(?:[^"]|"")*\""""
_QUOTED = {
    "sqlite": _STANDARD,
    "postgres": r"[eE]'(?:[^'\\]|''|\\.)*'|" + _STANDARD,
    "mariadb": r"""'(?:[^'\\]|''|\\.)*'|"(?:[^"\\]|""|\\.)*"|`(?:[^`]|``)*`""",
}
_KEY_TABLE = r'("temp"\.|pg_temp\.)?yeldro_keys_(\d+)'
_PRIVATE = "yeldro_without_case("


def script(
    database: Database, job: Job, dialect: str | None = None, most_rows: int = MOST_ROWS
) -> str:
    """Return the job as a SQL script.

    Args:
        dialect: one of `TARGETS`, for a database out of reach; None for the connected one. Where
            conditions are not written for its system, rows are named by their keys.
        most_rows: rows that a script for a database out of reach may name.

    Raises:
        UsageError: the dialect is not known.
        Refused: a plan is blocked, or cannot be written for that system.
    """
    own = database.traits.sql_dialect
    if dialect is None and any(target.own == own for target in TARGETS.values()):
        return _own_script(database, job)
    dialect = dialect or database.traits.name.replace(" ", "").lower()
    if dialect not in TARGETS:
        raise UnknownName(f"There is no dialect {dialect!r}.", dialect, TARGETS)
    return _script_by_keys(database, job, dialect, most_rows)


def _own_script(database: Database, job: Job) -> str:
    own = database.traits.sql_dialect
    target = next(target for target in TARGETS.values() if target.own == own)
    frame = target.frame(enforces=own == "postgres")
    written: list[ScriptStatements] = []
    for cleanup in job.cleanups:
        before = sum(len(each.steps) for each in written)
        written.append(script_statements(database, cleanup, before, enforces=frame.enforces))
    _check_plans(job, [each.plan for each in written])
    for each in written:
        _check_can_be_written(each)
    body = _Body(frame, target, Names(target.words, as_declared=True))
    with database.reading() as session:
        for place, each in enumerate(written, 1):
            _add_own(body, session, each, place)
        for check in job.after:
            what = f"{check.about or check.query} (expected {check.expected})"
            body.lines += ["", f"-- {one_line(what)}"]
            body.ask(literal_check(session, check), check.expected, what)
    deferred = ["SET CONSTRAINTS ALL DEFERRED;"] if any(each.deferred for each in written) else []
    touched = [table for each in written for table in each.touched]
    plans = [each.plan for each in written]
    return _assembled(body, job, plans, touched, database.shown, deferred)


def _script_by_keys(database: Database, job: Job, dialect: str, most_rows: int) -> str:
    target = TARGETS[dialect]
    named: list[NamedRows] = []
    same_system = target.own == database.traits.sql_dialect
    for cleanup in job.cleanups:
        before = sum(len(each.steps) for each in named)
        left = most_rows - sum(each.plan.total for each in named)
        named.append(
            name_rows(
                database, cleanup, before, left, target.words.most_values, same_system=same_system
            )
        )
    _check_plans(job, [each.plan for each in named])
    names = Names(target.words, same_system, database.traits.sql_dialect.lowers_names)
    with database.reading() as session:
        meant = {step.table.name for each in named for step in each.steps}
        meant |= {key.child for each in named for key in each.referencing}
        names.check_tables(sorted(meant), session.catalogue.table_names())
    body = _Body(target.frame(enforces=True), target, names)
    for each in named:
        _add_named(body, each)
    lacking = [f"Not in it: {one_line(str(check.about or check.query))}" for check in job.after]
    if not target.catalogue:
        lacking.append(
            "Not checked: whether other relations of these tables would take rows along. Look at "
            "them first."
        )
    touched = [step.table for each in named for step in each.steps]
    text = _assembled(
        body, job, [each.plan for each in named], touched, database.shown, [], lacking
    )
    return with_short_lines(text) if dialect == "oracle" else text


def _check_plans(job: Job, plans: Sequence[Plan]) -> None:
    """Refuse plans that no script can follow.

    Raises:
        Refused: one is blocked, none has rows, or one reads what another changes.
    """
    follows = what_follows(plans)
    if any(follows):
        raise Refused(
            "A later remove reads what an earlier one changes, so its count is not known before "
            "that is done.",
            "Write and run one script after the other.",
        )
    check_plans(JobPlan(job.title, tuple(plans), follows), job)
    if not any(plan.total for plan in plans) and not job.after:
        raise Refused(
            "No row matches, so a script would do nothing, and check nothing.",
            "Look at the rows with ⟨preview⟩.",
        )


def _check_can_be_written(cleanup: ScriptStatements) -> None:
    texts = (*cleanup.sets, *(step.statement for step in cleanup.steps))
    if any(_PRIVATE in text for text in texts):
        raise Refused(
            f"Text of {cleanup.plan.table} is compared without case by a function of Yeldro's "
            f"own, which no other program has.",
            "Use ⟨run⟩, or drop ‹ignore_case›.",
        )


class _Body:
    """The lines of a script between its first and its last ones."""

    def __init__(self, frame: Frame, target: Target, names: Names) -> None:
        self.frame, self.target, self.names = frame, target, names
        self.lines: list[str] = []
        self.catalogue_is_read = False

    def comment(self, text: str) -> None:
        shown = ascii_only(text) if self.frame.ascii else one_line(text)
        self.lines += ["", f"{self.frame.comment} {shown}"]

    def add_schema(
        self, keys: Sequence[ForeignKey], removed: Sequence[Table], touched: Sequence[Table],
        *, actions: bool,
    ) -> None:  # fmt: skip
        """Add the questions whether the foreign keys and triggers are those of the plan."""
        questions = list(schema_questions(
            self.target.catalogue, self.names, keys, removed, touched, actions=actions
        ))  # fmt: skip
        if questions:
            self.comment("The foreign keys and triggers must be those of the plan.")
            self.catalogue_is_read = True
        for asked in questions:
            self.ask(asked.query, RowRange(asked.expected, asked.expected), asked.otherwise)

    def begin_step(self, step: NamedStep | ScriptStep) -> str:
        """Add what a step does as a comment; return it."""
        what = f"step {step.step.n}: {step.step.action} {step.step.table}"
        self.comment(f"{what}, {_rows(step.step.rows)}; {step.step.because}")
        return what

    def ask(self, query: str, expected: RowRange, what: str) -> None:
        """Add a check that a query gives one of the expected numbers."""
        self.lines += self.frame.ask(query, expected, what)


# A script for the connected database


def _add_own(body: _Body, session: Session, cleanup: ScriptStatements, place: int) -> None:
    renamed = _renaming(session.traits.sql_dialect, place)
    keys = [key for table in cleanup.removed for key in session.catalogue.referencing(table.name)]
    body.add_schema(keys, cleanup.removed, cleanup.touched, actions=True)
    for text in cleanup.sets:
        body.lines += ["", *body.frame.set_up(renamed(text))]
    for each in cleanup.steps:
        what = body.begin_step(each)
        for check in each.before:
            _add_check(body, check, renamed)
        body.lines += body.frame.step(renamed(each.statement), each.step.rows, what)
    for proof in cleanup.proofs:
        body.comment(f"There must be no {proof.about}")
        _add_check(body, proof, renamed)


def _add_check(body: _Body, check: CountCheck, renamed: Callable[[str], str]) -> None:
    expected = RowRange(check.expected, check.expected)
    body.ask(renamed(check.query), expected, check.otherwise)


def _renaming(dialect: str, place: int) -> Callable[[str], str]:
    """Return what gives a statement the script's own names of key tables."""
    either = re.compile(f"(?P<quoted>{_QUOTED[dialect]})|{_KEY_TABLE}", re.DOTALL)

    def rename(found: re.Match[str]) -> str:
        if found["quoted"] is not None:
            return found[0]
        return f"{found[2] or ''}yeldro_{place}_{found[3]}"

    return lambda text: either.sub(rename, text)


# A script for a database that cannot be reached


def _add_named(body: _Body, cleanup: NamedRows) -> None:
    removed = _tables(step for step in cleanup.steps if not step.changed)
    touched = _tables(cleanup.steps)
    body.add_schema(cleanup.referencing, removed, touched, actions=False)
    for step in cleanup.steps:
        what = body.begin_step(step)
        for number, part in enumerate(step.parts, 1):
            of = f", part {number} of {len(step.parts)}" if len(step.parts) > 1 else ""
            for known in part.references:
                query = _count_of(body.names, known.key, known.values)
                told = f"{what}{of}: other rows reference its rows by {known.key}"
                body.ask(query, RowRange(known.rows, known.rows), told)
            statement = _statement(body.names, step, part)
            lines = body.frame.step(statement, len(part.keys), f"{what}{of}")
            own = any(known.rows for known in part.references)
            body.lines += body.frame.of_themselves(lines) if own else lines


def _tables(steps: Iterator[NamedStep] | Sequence[NamedStep]) -> list[Table]:
    return list({step.table.name: step.table for step in steps}.values())


def _statement(names: Names, step: NamedStep, part: RowsOfStatement) -> str:
    """Return the statement that removes or changes the rows of a part."""
    table = _table(names, step.table.name)
    where = _among(names, [each.name for each in step.keys], part.keys)
    if not step.changed:
        return f"DELETE FROM {table} WHERE {where}"
    values = ", ".join(
        f"{names.written(column.name)} = {names.words.value(value)}"
        for column, value in zip(step.changed, part.changes, strict=True)
    )
    return f"UPDATE {table} SET {values} WHERE {where}"


def _count_of(names: Names, key: ForeignKey, values: Sequence[tuple[object, ...]]) -> str:
    """Return a query for the number of rows that reference some values."""
    where = _among(names, key.columns, values)
    return f"SELECT COUNT(*) FROM {_table(names, key.child)} WHERE {where}"


def _table(names: Names, table: TableName) -> str:
    return names.written(table.schema, table.name)


def _among(names: Names, columns: Sequence[str], rows: Sequence[tuple[object, ...]]) -> str:
    """Return the condition that columns have the values of one of some rows."""
    written = [[names.words.value(value) for value in row] for row in rows]  # type: ignore[arg-type]
    own = [names.written(name) for name in columns]
    if len(own) == 1:
        return f"{own[0]} IN ({', '.join(row[0] for row in written)})"
    return names.words.either.join(
        " AND ".join(f"{name} = {value}" for name, value in zip(own, row, strict=True))
        for row in written
    )


# Both


def _assembled(
    body: _Body,
    job: Job,
    plans: Sequence[Plan],
    touched: Sequence[Table],
    shown: str,
    deferred: Sequence[str],
    lacking: Sequence[str] = (),
) -> str:
    """Return the whole script: what it is for, how it begins, the body, how it ends."""
    frame = body.frame
    lines = [*deferred, *body.lines, "", *frame.end()]
    counts = rows_by_table(plans)
    listed = ", ".join(f"{name} {rows:,}" for name, rows in counts.items()) or "none"
    digest = hashlib.sha256("\n".join(lines).encode()).hexdigest()
    rights = ", ".join(dict.fromkeys(str(table.name) for table in touched)) or "none"
    catalogue = f"; {frame.catalogue}" if frame.catalogue and body.catalogue_is_read else ""
    head = [
        job.title,
        f"For {frame.name} {frame.since} or newer: {frame.call}",
        f"Made {datetime.now(UTC):%Y-%m-%d %H:%M} UTC by Yeldro {__version__}, counted on {shown}.",
        f"SHA-256 of what follows its first lines: {digest}",
        f"Rows that go or change: {listed}.",
        f"Rights: to read, change and remove rows of {rights}, and to read the tables that "
        f"reference them{catalogue}.",
        "Any other count stops the script, and everything is rolled back.",
        *lacking,
    ]
    told = [ascii_only(line) if frame.ascii else one_line(line) for line in head]
    text = [*frame.first, *as_comments(told, frame.comment), *frame.begin(), *lines]
    return "\n".join(text) + "\n"


def _rows(number: int) -> str:
    return "1 row" if number == 1 else f"{number:,} rows"

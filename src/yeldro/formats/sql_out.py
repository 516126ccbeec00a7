"""Writing a cleanup as a SQL script that checks every count, for each database system.

The script has what a run would execute (`execution.script`): the temporary key tables, the steps,
children first, and the proofs. After each statement its count is compared; any other count than the
planned one stops the script and rolls everything back.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from sqlglot import exp

from yeldro.core.database.catalogue import find_table
from yeldro.core.execution.run import check_plans
from yeldro.core.execution.script import (
    ScriptStatements,
    ZeroCheck,
    literal_check,
    script_statements,
)
from yeldro.core.model.errors import Fault, Refused, UnknownName
from yeldro.core.model.expectation import RowRange
from yeldro.core.model.names import one_line
from yeldro.core.planning.job import Job, JobPlan, rows_by_table, what_follows
from yeldro.core.selection.selection import related_columns
from yeldro.formats.writing.conditions import Conditions
from yeldro.formats.writing.frames import Frame
from yeldro.formats.writing.key_tables import KeyTableStatements, SetUp
from yeldro.formats.writing.lines import with_short_lines
from yeldro.formats.writing.mysql import check_functions, opened_once
from yeldro.formats.writing.same_schema import schema_questions
from yeldro.formats.writing.targets import KEY_TABLE, TARGETS, Target
from yeldro.formats.writing.translation import Translator

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.selection.conditions.checks import Check

# Literals and quoted names, in which nothing is replaced, except the name "temp" before a dot.
_STANDARD = r"""'(?:[^']|'')*'|"(?!temp"\.)(?:[^"]|"")*\""""
_QUOTED = {
    "sqlite": _STANDARD,
    "postgres": r"[eE]'(?:[^'\\]|''|\\.)*'|" + _STANDARD,
    "mariadb": r"""'(?:[^'\\]|''|\\.)*'|"(?:[^"\\]|""|\\.)*"|`(?:[^`]|``)*`""",
}
_PRIVATE = "yeldro_without_case("


def script(database: Database, job: Job, name: str | None) -> str:
    """Return the job as a SQL script.

    Args:
        name: one of `TARGETS`, None for the database's own system.

    Raises:
        UsageError: the dialect is not known.
        Refused: a plan is blocked, or cannot be written for that system.
    """
    if name is not None and name not in TARGETS:
        raise UnknownName(f"There is no dialect {name!r}.", name, TARGETS)
    source = database.traits.sql_dialect
    target = TARGETS[name] if name else next(t for t in TARGETS.values() if t.own == source)
    own = target.own == source
    written: list[ScriptStatements] = []
    for cleanup in job.cleanups:
        before = sum(len(each.steps) for each in written)
        enforces = target.frame.enforces
        written.append(script_statements(database, cleanup, before, own=own, enforces=enforces))
    plans = tuple(each.plan for each in written)
    follows = what_follows(plans)
    if any(follows):
        raise Refused(
            "A later remove reads what an earlier one changes, so its count is not known before "
            "that is done.",
            "Write and run one script after the other.",
        )
    check_plans(JobPlan(job.title, plans, follows), job)
    if not any(plan.total for plan in plans) and not job.after:
        raise Refused(
            "No row matches, so a script would do nothing, and check nothing.",
            "Look at the rows with 'yeldro preview'.",
        )
    _check_can_be_written(target, written, own)
    lines = [*_head(target, job, database.shown, written, own), *target.frame.begin]
    if any(each.deferred for each in written):
        lines.append(target.frame.deferred)
    with database.reading() as session:
        writing = (_OwnWriting if own else _OtherWriting)(session, target)
        body = _Body(target.frame, writing)
        for place, each in enumerate(written, 1):
            body.add_cleanup(place, each)
        for check in job.after:
            body.add_check(check, written)
    lines += [*body.lines, "", *target.frame.end(body.checks)]
    return with_short_lines("\n".join(lines) + "\n", target)


def _check_can_be_written(target: Target, written: Sequence[ScriptStatements], own: bool) -> None:
    for each in written:
        texts = (*each.sets, *(step.statement for step in each.steps))
        if any(_PRIVATE in text for text in texts):
            raise Refused(
                f"Text of {each.plan.table} is compared without case by a function of Yeldro's "
                f"own, which no other program has.",
                "Use 'yeldro run', or drop ‹ignore_case›.",
            )
        if not own and not each.has_keys:
            raise Refused(
                f"{each.plan.table}, or a table that depends on it, has no key, and nothing else "
                f"identifies its rows on {target.frame.name}.",
                "Give it a key, or write the script for this database's own system.",
            )
        if each.deferred and not target.frame.deferred:
            raise Refused(
                f"The order needs foreign keys that are checked at the commit, and "
                f"{target.frame.name} has none.",
                "Let one column of the cycle accept NULL.",
            )


def _head(
    target: Target, job: Job, shown: str, written: Sequence[ScriptStatements], own: bool
) -> Iterator[str]:
    """Return what the script is for, as comments."""
    frame = target.frame
    counts = rows_by_table([each.plan for each in written])
    listed = ", ".join(f"{name} {rows:,}" for name, rows in counts.items()) or "none"
    yield f"-- {one_line(job.title)}"
    yield f"-- For {frame.name} {frame.since} or newer: {frame.call}"
    yield f"-- Counted on {one_line(shown)}."
    if not own and any(each.cleanup.selection.where for each in written):
        yield f"-- By the rules of {frame.name} its conditions pick the same of these rows."
    yield f"-- Rows that go or change: {one_line(listed)}."
    yield "-- Any other count stops the script, and everything is rolled back."


class _Body:
    """The lines of a script between its first and its last ones.

    Attributes:
        checks: how many counts and questions they check.
    """

    def __init__(self, frame: Frame, writing: _OwnWriting | _OtherWriting) -> None:
        self.frame = frame
        self.writing = writing
        self.lines: list[str] = []
        self.checks = 0

    def add_cleanup(self, place: int, cleanup: ScriptStatements) -> None:
        """Add what removes the rows of one cleanup."""
        if cleanup.touched:
            self.lines += ["", "-- The foreign keys and triggers must be those of the plan."]
        target, catalogue = self.writing.target, self.writing.session.catalogue
        for asked in schema_questions(target, catalogue, cleanup.removed, cleanup.touched):
            expected = RowRange(asked.expected, asked.expected)
            self._ask([asked.query], expected, asked.otherwise)
        for made in self.writing.set_up(cleanup, place):
            self.lines += ["", *self.frame.set_up(made.statement, made.again)]
        for each in cleanup.steps:
            what = f"step {each.step.n}: {each.step.action} {each.step.table}"
            because = one_line(each.step.because)
            self.lines += ["", f"-- {one_line(what)}, {_rows(each.step.rows)}; {because}"]
            for check in each.before:
                self._zero(check, place)
            *before, last = self.writing.statements(each.statement, place)
            for first in before:
                self.lines += self.frame.set_up(first)
            self.lines += self.frame.step(last, each.step.rows, what)
            self.checks += 1
        for proof in cleanup.proofs:
            self.lines += ["", f"-- There must be no {one_line(proof.about)}"]
            self._zero(proof, place)
        self.writing.check_written()

    def add_check(self, check: Check, written: Sequence[ScriptStatements]) -> None:
        """Add a check that the user asked for."""
        what = f"{check.about or check.query} (expected {check.expected})"
        self.lines += ["", f"-- {one_line(what)}"]
        self._ask([self.writing.check(check, written)], check.expected, what)

    def _zero(self, check: ZeroCheck, place: int) -> None:
        queries = self.writing.statements(check.query, place)
        self._ask(queries, RowRange(0, 0), f"there are {check.about}")

    def _ask(self, queries: Sequence[str], expected: RowRange, what: str) -> None:
        """Add a check that the last of some statements gives one of the expected numbers."""
        for each in queries[:-1]:
            self.lines += self.frame.set_up(each)
        self.lines += self.frame.ask(queries[-1], expected, what)
        self.checks += 1


class _OwnWriting:
    """Writes the statements of a cleanup as this database has them."""

    def __init__(self, session: Session, target: Target) -> None:
        self.session = session
        self.target = target
        self.source = session.traits.sql_dialect
        self.translator = Translator(target, self.source, session.catalogue)

    def set_up(self, cleanup: ScriptStatements, place: int) -> Iterator[SetUp]:
        selection = cleanup.cleanup.selection
        if self.target.opens_once:
            check_functions(f"{selection.where or ''} {selection.order_by or ''}")
        for text in cleanup.sets:
            for each in self.statements(text, place):
                yield SetUp(each)

    def statements(self, text: str, place: int) -> list[str]:
        """Return a statement, after those that make the copies of key tables that it needs."""
        before: list[str] = []
        if self.target.opens_once:
            tree = self.translator.parsed(text)
            tree, before = opened_once(tree, lambda name: self.target.key_table(name, place))
            if before:
                text = tree.sql(dialect=self.target.dialect, comments=False)
        return [*before, self._renamed(text, place)]

    def check(self, check: Check, written: Sequence[ScriptStatements]) -> str:
        del written
        query = literal_check(self.session, check)
        if self.target.opens_once:
            check_functions(query)
        return query

    def check_written(self) -> None:
        """Do nothing: conditions stand in the statements as they were counted."""

    def _renamed(self, text: str, place: int) -> str:
        """Return a statement with the script's names of key tables."""
        either = re.compile(f"(?P<quoted>{_QUOTED[self.source]})|{KEY_TABLE.pattern}", re.DOTALL)

        def rename(found: re.Match[str]) -> str:
            if found["quoted"] is not None:
                return found[0]
            return (
                f"{found[2] or ''}{self.target.key_table(found[0][len(found[2] or '') :], place)}"
            )

        return either.sub(rename, text)


class _OtherWriting:
    """Writes the statements of a cleanup for another system."""

    def __init__(self, session: Session, target: Target) -> None:
        self.session = session
        self.target = target
        self.translator = Translator(target, session.traits.sql_dialect, session.catalogue)
        self.conditions = Conditions(session, self.translator)
        self._own: list[tuple[exp.Expr, exp.Expr]] = []
        self._adaptations = 0

    def set_up(self, cleanup: ScriptStatements, place: int) -> Iterator[SetUp]:
        self._prove(cleanup)
        writing = KeyTableStatements(self.translator, cleanup.sets, place, self._adapted)
        yield from writing.written()

    def statements(self, text: str, place: int) -> list[str]:
        """Return a statement, after those that make the copies of key tables that it needs."""
        return self.translator.statements(self._adapted(self.translator.parsed(text)), place)

    def check(self, check: Check, written: Sequence[ScriptStatements]) -> str:
        query = self.conditions.query(literal_check(self.session, check), written[0].table)
        return self.translator.sql(query, 0)

    def _prove(self, cleanup: ScriptStatements) -> None:
        """Refuse conditions, groups and orders that are not the same on the other system."""
        selection, table = cleanup.cleanup.selection, cleanup.table
        self._own, self._adaptations = [], 0
        if find_table(self.session.catalogue, selection.table).kind == "view":
            raise Refused(
                f"{selection.table} is a view, and what it shows on {self.target.frame.name} is "
                f"not known.",
                f"Name its table: {table.name}.",
            )
        if selection.where:
            written = self.conditions.where(table, selection.where)
            here = self.translator.parsed(selection.where).sql(
                self.translator.source, comments=False
            )
            self._own.append((self.translator.parsed(here), written))
        if selection.order_by:
            self.conditions.check_order(table, selection.order_by)
        self.conditions.check_duplicates(table, selection)
        catalogue = self.session.catalogue
        links = [(catalogue.table(key.child), key.columns, catalogue.table(key.parent),
                  key.referenced_columns) for key in cleanup.links]  # fmt: skip
        for related in (*selection.matching, *selection.missing_in):
            other = find_table(catalogue, related.other)
            ours, theirs = related_columns(related, table, other)
            links.append((table, tuple(ours), other, tuple(theirs)))
        self.conditions.check_links(links)

    def check_written(self) -> None:
        """Make sure that the condition that was read back is the one in the statements.

        Raises:
            Fault: it stands in none.
        """
        if self._own and not self._adaptations:
            raise Fault("a condition was read back, and stands in no statement")

    def _adapted(self, tree: exp.Expr) -> exp.Expr:
        """Return a statement with the user's condition as the other system has it."""
        changed = tree.copy()
        for each in list(changed.find_all(exp.Paren)):
            for here, there in self._own:
                if each.this == here:
                    each.set("this", there.copy())
                    self._adaptations += 1
        return changed


def _rows(number: int) -> str:
    return "1 row" if number == 1 else f"{number:,} rows"

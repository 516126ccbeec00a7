"""The statements that a run would execute, written down instead."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.facts import Mode
from yeldro.core.execution.proofs import dangling_references, lost_groups
from yeldro.core.execution.run import check_plan
from yeldro.core.execution.steps import statement_of
from yeldro.core.model.errors import MissingPrivilege, Refused
from yeldro.core.model.schema import ReferentialAction
from yeldro.core.model.steps import Action, Step
from yeldro.core.planning.plan import Cleanup, Plan, Prepared, prepare
from yeldro.core.planning.row_sets import depends_on, that_stay
from yeldro.core.selection.conditions.filters import with_literals

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.schema import ForeignKey, Table
    from yeldro.core.selection.conditions.checks import Check

_INSERTS = "INSERT INTO "  # after the WITH queries of a recursion
_TAKE_ALONG = (
    ReferentialAction.CASCADE, ReferentialAction.SET_NULL, ReferentialAction.SET_DEFAULT
)  # fmt: skip
_WRITES = ("CREATE TEMP", "CREATE INDEX", "INSERT INTO", "ANALYZE ", "UPDATE ", "DELETE FROM ")


@dataclass(frozen=True)
class ZeroCheck:
    """A query that must give zero when all is done, and what it counts."""

    about: str
    query: str


@dataclass(frozen=True)
class ScriptStep:
    """A step with its statement, and what must be zero before it."""

    step: Step
    statement: str
    before: tuple[ZeroCheck, ...]


@dataclass(frozen=True)
class ScriptStatements:
    """One cleanup as SQL in the database's own dialect.

    Args:
        cleanup: what was planned, with its parameters written out.
        table: the named table.
        sets: statements that make the temporary tables and fill them.
        steps: the steps, in their order.
        proofs: what must be zero afterwards.
        links: the foreign keys along which rows were followed.
        removed: the tables of which rows go.
        touched: these, and the tables of which rows change.
        deferred: foreign keys must be checked at the commit.
        has_keys: every table involved has a key, so no physical row id is used.
    """

    cleanup: Cleanup
    plan: Plan
    table: Table
    links: tuple[ForeignKey, ...]
    sets: tuple[str, ...]
    steps: tuple[ScriptStep, ...]
    proofs: tuple[ZeroCheck, ...]
    removed: tuple[Table, ...]
    touched: tuple[Table, ...]
    deferred: bool
    has_keys: bool


def script_statements(
    database: Database, cleanup: Cleanup, steps_before: int, *, own: bool, enforces: bool
) -> ScriptStatements:
    """Plan a cleanup and write down every statement; nothing is changed.

    Args:
        own: statements may have a form that only this database's system understands.
        enforces: the system that will run them checks foreign keys after each; otherwise the
            script proves them.

    Raises:
        Refused: the plan is blocked, or cannot be written as one script.
    """
    if cleanup.emptying:
        raise Refused(
            f"A script counts the rows that each statement affects, and ‹{cleanup.emptying}› gives "
            f"no such count.",
            f"Drop ‹{cleanup.emptying}›: the rows go by DELETE then.",
        )
    if cleanup.selection.decisions is not None:
        raise Refused(
            f"A script cannot hold the decisions in {cleanup.selection.decisions}, which are "
            f"compared with the rows as they are.",
            "Use 'yeldro run'.",
        )
    if cleanup.filling is not None:
        raise Refused(
            "A script cannot hold ‹fill›, as it would not see rows that disagree by then.",
            "Use 'yeldro run'; or drop ‹fill›.",
        )
    with database.reading(Mode(plain=True, checked_by_system=enforces)) as session:
        written = _writer(session)
        sets: list[str] = []

        def note(*arguments: Any) -> None:
            _, _, text, _, context, _ = arguments
            words = text.lstrip().upper()
            if words.startswith(_WRITES) or (words.startswith("WITH ") and _INSERTS in words):
                clause = context.invoked_statement if context.compiled else None
                sets.append(text if clause is None else written(clause))

        sa.event.listen(session.connection, "before_cursor_execute", note)
        literal = _literal(cleanup, session)
        prepared = prepare(session, literal, steps_before=steps_before)
        sa.event.remove(session.connection, "before_cursor_execute", note)
        check_plan(prepared.plan, cleanup)
        _check_traceable(session, prepared, enforces=enforces)
        steps = []
        for place, work in enumerate(prepared.work):
            statement = statement_of(work)
            statement = session.key_driven(statement) if own else statement
            before = (
                tuple(_what_would_follow(session, prepared, place, written)) if enforces else ()
            )
            steps.append(ScriptStep(work.step, written(statement), before))
        return ScriptStatements(
            cleanup=literal,
            plan=prepared.plan,
            table=prepared.matched.table,
            links=tuple(link.key for link in prepared.ripple.reach.links),
            sets=tuple(sets),
            steps=tuple(steps),
            proofs=tuple(_proofs(session, prepared, cleanup, written, dangling=not enforces)),
            removed=_tables(prepared, Action.REMOVE),
            touched=_tables(prepared, *Action),
            deferred=bool(prepared.deferred),
            has_keys=all(work.rows.table.has_key for work in prepared.work),
        )


def literal_check(session: Session, check: Check) -> str:
    """Return a check's query with its parameters written out."""
    return with_literals(check.query, check.parameters, session)


def _writer(session: Session) -> Callable[[sa.ClauseElement], str]:
    """Return a writer of statements with all values in them."""
    kind: Any = type(session.connection.dialect)
    dialect = kind(paramstyle="named")

    def written(statement: sa.ClauseElement) -> str:
        compiled = statement.compile(dialect=dialect, compile_kwargs={"literal_binds": True})
        return str(compiled)

    return written


def _literal(cleanup: Cleanup, session: Session) -> Cleanup:
    selection = cleanup.selection
    if selection.where is None or not selection.parameters:
        return cleanup
    where = with_literals(selection.where, selection.parameters, session)
    return replace(cleanup, selection=replace(selection, where=where, parameters={}))


def _check_traceable(session: Session, prepared: Prepared, *, enforces: bool) -> None:
    for work in prepared.work:
        removes = work.step.action is Action.REMOVE
        if removes and session.unseen_references(work.rows.table) != ():
            raise MissingPrivilege(
                f"This user does not see whether tables of other databases reference "
                f"{work.rows.table.name}, and a script cannot look for them.",
                "Use a user with SELECT on all databases, or 'yeldro run'.",
            )
        if work.at_once and enforces:
            raise Refused(
                f"Keys of {work.rows.table.name} move together with the rows that reference them, "
                f"which plain statements cannot do if the system checks each of them.",
                "Use 'yeldro run'.",
            )
        if work.rows.copies:
            raise Refused(
                f"{work.rows.table.name} has no key, and only some of several equal rows would go; "
                f"that takes a statement for each of them.",
                "Give the table a key first, or use 'yeldro run'.",
            )


def _tables(prepared: Prepared, *actions: Action) -> tuple[Table, ...]:
    """Return the tables that steps of these kinds are for, each once."""
    found = {
        work.rows.table.name: work.rows.table
        for work in prepared.work
        if work.step.action in actions
    }
    return tuple(found.values())


def _what_would_follow(
    session: Session, prepared: Prepared, place: int, written: Callable[[sa.ClauseElement], str]
) -> Iterator[ZeroCheck]:
    """Yield what shows that a step takes no rows along that its count does not tell.

    A system that checks foreign keys also carries out what they declare, and counts none of it.
    """
    work = prepared.work[place]
    if work.step.action is not Action.REMOVE:
        return
    still = {each.rows.table.name for each in prepared.work[place:]
             if each.step.action is Action.REMOVE}  # fmt: skip
    for link in prepared.ripple.reach.links:
        if link.key.parent != work.rows.table.name or link.key.on_delete not in _TAKE_ALONG:
            continue
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        follows = depends_on(session, link, child, rows, prepared.ripple.removed[link.key.parent])
        if child.name in still:
            follows = that_stay(session, child, follows, prepared.ripple.removed)
        query = sa.select(sa.func.count()).select_from(rows).where(follows)
        yield ZeroCheck(f"rows that would go or change by {link.key}", written(query))


def _proofs(
    session: Session,
    prepared: Prepared,
    cleanup: Cleanup,
    written: Callable[[sa.ClauseElement], str],
    *,
    dangling: bool,
) -> list[ZeroCheck]:
    found = []
    if dangling:
        for link, query in dangling_references(session, prepared):
            found.append(ZeroCheck(f"rows without a parent through {link.key}", written(query)))
    if cleanup.selection.duplicates_by:
        lost = lost_groups(session, prepared)
        if lost is not None:
            found.append(ZeroCheck("groups that would lose every row", written(lost)))
    return found

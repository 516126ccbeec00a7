"""The statements that a run would execute on the connected database, written down instead."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from decimal import Decimal
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import Change
from yeldro.core.changes.guard import check_way_back, triggers_fired
from yeldro.core.changes.statements import statement_of
from yeldro.core.database import sql
from yeldro.core.database.facts import Mode
from yeldro.core.execution.proofs import dangling_references, lost_groups
from yeldro.core.execution.run import check_plan
from yeldro.core.model.messages.errors import MissingPrivilege, Refused
from yeldro.core.model.messages.options import Option
from yeldro.core.model.tables.schema import ReferentialAction
from yeldro.core.model.work.steps import Action, Step
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.following.row_sets import depends_on, that_stay
from yeldro.core.planning.plan import Plan, Prepared, prepare
from yeldro.core.selection.conditions.filters import with_literals
from yeldro.core.selection.conditions.parameters import kind_of

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.model.tables.schema import Table
    from yeldro.core.selection.conditions.checks import Check

_INSERTS = "INSERT INTO "  # after the WITH queries of a recursion
_TAKE_ALONG = (
    ReferentialAction.CASCADE, ReferentialAction.SET_NULL, ReferentialAction.SET_DEFAULT
)  # fmt: skip
_WRITES = ("CREATE TEMP", "CREATE INDEX", "INSERT INTO", "ANALYZE ", "UPDATE ", "DELETE FROM ")


@dataclass(frozen=True)
class CountCheck:
    """A query that counts rows, of which there must be none, or so many as there were.

    Args:
        about: what it counts.
        expected: the number it must give.
    """

    about: str
    query: str
    expected: int = 0

    @property
    def otherwise(self) -> str:
        """What is wrong if it gives another number."""
        return (
            f"these are not the rows it was made for: {self.about}"
            if self.expected
            else f"there are {self.about}"
        )


@dataclass(frozen=True)
class ScriptStep:
    """A step with its statement, and what must be zero before it."""

    step: Step
    statement: str
    before: tuple[CountCheck, ...]


@dataclass(frozen=True)
class ScriptStatements:
    """One cleanup as SQL in the database's own dialect.

    Args:
        sets: statements that make the temporary tables and fill them.
        steps: the steps, in their order.
        proofs: what must be zero afterwards.
        removed: the tables of which rows go.
        touched: these, and the tables of which rows change.
        deferred: foreign keys must be checked at the commit.
    """

    plan: Plan
    sets: tuple[str, ...]
    steps: tuple[ScriptStep, ...]
    proofs: tuple[CountCheck, ...]
    removed: tuple[Table, ...]
    touched: tuple[Table, ...]
    deferred: bool


def script_statements(
    database: Database, cleanup: Cleanup, steps_before: int, *, enforces: bool
) -> ScriptStatements:
    """Plan a cleanup and write down every statement; nothing is changed.

    Args:
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
            "Use ⟨run⟩.",
        )
    if cleanup.filling is not None:
        raise Refused(
            "A script cannot hold ‹fill›, as it would not see rows that disagree by then.",
            "Use ⟨run⟩; or drop ‹fill›.",
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
        check_way_back(session, [each.touched for each in prepared.changes], cleanup.no_way_back)
        check_triggers(prepared, cleanup, session.event_triggers())
        _check_traceable(session, prepared, cleanup, enforces=enforces)
        steps = []
        for place, change in enumerate(prepared.changes):
            statement = session.key_driven(statement_of(change))
            before = list(_same_rows(session, cleanup, change, written))
            if enforces:
                before += _what_would_follow(session, prepared, place, written)
            steps.append(ScriptStep(change.step, written(statement), tuple(before)))
        return ScriptStatements(
            plan=prepared.plan,
            sets=tuple(sets),
            steps=tuple(steps),
            proofs=tuple(_proofs(session, prepared, cleanup, written, dangling=not enforces)),
            removed=_tables(prepared, Action.REMOVE),
            touched=_tables(prepared, *Action),
            deferred=bool(prepared.deferred),
        )


def check_triggers(
    prepared: Prepared, cleanup: Cleanup, event_triggers: Sequence[str] = ()
) -> None:
    """Refuse triggers that the user has not accepted: no count of a script tells what they change.

    Args:
        event_triggers: those that the script's temporary tables fire.

    Raises:
        Refused: a trigger or a rule would fire.
    """
    fired = triggers_fired(each.touched for each in prepared.changes)
    fired += event_triggers
    unnamed = [name for name in fired if name not in cleanup.allowed_triggers]
    if unnamed:
        options = " ".join(Option("allow_trigger", name).named for name in unnamed)
        raise Refused(
            f"{', '.join(unnamed)} would fire, and a script does not see what other rows that "
            f"changes.",
            f"⟨rehearse⟩ shows what it changes; accept it with {options}.",
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


def _check_traceable(
    session: Session, prepared: Prepared, cleanup: Cleanup, *, enforces: bool
) -> None:
    table = prepared.matched.table
    if cleanup.selection.limit and not table.has_key:
        raise Refused(
            f"{table.name} has no key by which a script could tell that it takes the same rows, "
            f"and with ‹limit› it would take the next ones when it is run twice.",
            "Use ⟨run⟩, or a condition in place of the limit.",
        )
    for change in prepared.changes:
        name = change.rows.table.name
        removes = change.step.action is Action.REMOVE
        if removes and session.unseen_references(change.rows.table) != ():
            raise MissingPrivilege(
                f"This user does not see whether tables of other databases reference "
                f"{name}, and a script cannot look for them.",
                "Use a user with SELECT on all databases, or ⟨run⟩.",
            )
        if change.at_once and enforces:
            raise Refused(
                f"Keys of {name} move together with the rows that reference them, "
                f"which plain statements cannot do if the system checks each of them.",
                "Use ⟨run⟩.",
            )
        if change.rows.copies:
            raise Refused(
                f"{name} has no key, and only some of several equal rows would go; "
                f"that takes a statement for each of them.",
                "Give the table a key first, or use ⟨run⟩.",
            )


def _tables(prepared: Prepared, *actions: Action) -> tuple[Table, ...]:
    """Return the tables that steps of these kinds are for, each once."""
    found = {
        change.rows.table.name: change.rows.table
        for change in prepared.changes
        if change.step.action in actions
    }
    return tuple(found.values())


def _same_rows(
    session: Session,
    cleanup: Cleanup,
    change: Change,
    written: Callable[[sa.ClauseElement], str],
) -> Iterator[CountCheck]:
    """Yield what shows that a script takes the rows it was made for, and not the next ones.

    A limit and a rule for what stays pick as many rows again when a script is run twice. Whole
    numbers of a key are summed up; of other keys the least and the greatest are compared.
    """
    selection = cleanup.selection
    if not (selection.limit or selection.duplicates_by) or change.step.action is not Action.REMOVE:
        return
    rows = change.rows
    names = rows.table.key
    for column in (rows.table.by_name[name] for name in names):
        value: sa.ColumnElement[Any] = rows.source.c[column.name]
        kind = kind_of(column)
        if kind not in ("number", "text", "date", "datetime"):
            value = sa.cast(value, sa.Text)  # least and greatest are not defined for every type
        going = sa.select(value.label("k")).select_from(rows.source).where(rows.condition)
        picked = going.subquery("yeldro_picked")
        wanted = (sa.func.sum,) if kind == "number" else (sa.func.min, sa.func.max)
        for each in (function(picked.c.k) for function in wanted):
            found = session.connection.execute(sa.select(each)).scalar_one()
            if isinstance(found, Decimal):
                found = int(found) if found == found.to_integral_value() else found
            if not isinstance(found, int | str):
                continue  # no literal of it is sure to be equal
            held = sa.select(sa.func.count()).select_from(
                sa.select(each.label("k")).subquery("yeldro_same")
            )
            same = held.where(sa.literal_column("yeldro_same.k") == sa.literal(found))
            yield CountCheck(f"{rows.table.name}.{column.name} differs", written(same), 1)


def _what_would_follow(
    session: Session, prepared: Prepared, place: int, written: Callable[[sa.ClauseElement], str]
) -> Iterator[CountCheck]:
    """Yield what shows that a step takes no rows along that its count does not tell.

    A system that checks foreign keys also carries out what they declare, and counts none of it.
    """
    change = prepared.changes[place]
    if change.step.action is not Action.REMOVE:
        return
    still = {each.rows.table.name for each in prepared.changes[place:]
             if each.step.action is Action.REMOVE}  # fmt: skip
    for link in prepared.ripple.reach.links:
        if link.key.parent != change.rows.table.name or link.key.on_delete not in _TAKE_ALONG:
            continue
        child = session.catalogue.table(link.key.child)
        rows = sql.rows_of(child)
        follows = depends_on(session, link, child, rows, prepared.ripple.removed[link.key.parent])
        if child.name in still:
            follows = that_stay(session, child, follows, prepared.ripple.removed)
        query = sa.select(sa.func.count()).select_from(rows).where(follows)
        yield CountCheck(f"rows that would go or change by {link.key}", written(query))


def _proofs(
    session: Session,
    prepared: Prepared,
    cleanup: Cleanup,
    written: Callable[[sa.ClauseElement], str],
    *,
    dangling: bool,
) -> list[CountCheck]:
    found = []
    if dangling:
        for link, query in dangling_references(session, prepared):
            found.append(CountCheck(f"rows without a parent through {link.key}", written(query)))
    if cleanup.selection.duplicates_by:
        lost = lost_groups(session, prepared)
        if lost is not None:
            found.append(CountCheck("groups that would lose every row", written(lost)))
    return found

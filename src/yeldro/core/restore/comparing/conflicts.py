"""Comparing the stored rows of one step with the database, and finding the conflicts."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import StrEnum
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.model.messages.names import counted, told_rows
from yeldro.core.model.work.steps import Action
from yeldro.core.restore.comparing.dangling import references_step, still_referenced
from yeldro.core.restore.comparing.key_swaps import goes_from

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import CandidateKey, Column, ForeignKey
    from yeldro.core.receipts.reader import ReceiptStep
    from yeldro.core.restore.staged.staged_rows import StagedRows


@dataclass(frozen=True)
class Restored:
    """How far the rows of a receipt's step are back.

    Args:
        stored: rows the step removed or changed.
        back: those in the database as they were before the step.
        missing: those that a restore puts back.
        left_out: those that it leaves out, as they are in conflict.
    """

    step: ReceiptStep
    stored: int
    back: int
    missing: int
    left_out: int = 0


class ConflictKind(StrEnum):
    """Why a stored row cannot simply be put back."""

    KEY_TAKEN = "key taken"
    PARENT_GONE = "parent gone"
    REFERENCED = "referenced since"
    CHANGED = "changed since"
    AMBIGUOUS = "ambiguous"
    COLUMN_ADDED = "column added"
    REFUSED = "refused by the database"


@dataclass(frozen=True)
class Conflict:
    """A reason why some stored rows of one table cannot be put back.

    Args:
        rows: how many stored rows it concerns.
        said: the reason, as a sentence without its full stop.
        which: true for these rows; None if nothing tells them from the others.
    """

    kind: ConflictKind
    table: str
    rows: int
    said: str
    which: sql.Predicate | None = None

    def document(self) -> dict[str, Any]:
        """Return it as a JSON value."""
        return {"kind": str(self.kind), "table": self.table, "rows": self.rows, "about": self.said}


def compare_step(each: StagedRows, others: Sequence[StagedRows]) -> tuple[Restored, list[Conflict]]:
    """Count what is back and what is missing, and find the conflicts."""
    if each.step.action is Action.REMOVE:
        return _compare_removed(each, others)
    if each.step.action is Action.ADD:
        return _compare_added(each, others)
    problems: list[Conflict] = []
    name = each.table.name
    cut = each.exists(*each.found_by(each.key), *each.agree(each.named("new")))
    linked = as_before(each, others)
    counted = is_counted(each)
    back = count_back(each, others)
    covered = [
        _covered_by(each, other)
        for other in others
        if each.told_by_count and other.table.name == each.table.name and other.step.n > each.step.n
    ]
    anew = sa.and_(~linked, ~cut, *(~condition for condition in covered))
    lost = 0
    if counted and back:
        taken = each.count(sa.or_(*covered)) if covered else 0
        lost = max(back - each.equal_rows("old") - taken, 0)
    back -= lost
    if 0 < back < each.stored and (counted or each.is_ambiguous()):
        said = (
            f"some changed rows of {each.table.name} are back, and nothing tells which of several "
            f"equal rows they are"
        )
        problems.append(Conflict(ConflictKind.AMBIGUOUS, str(name), back, said))
    rows = lost or (0 if counted else each.count(anew))
    if rows:
        said = f"{told_rows(rows, name, 'was', 'were')} removed or changed since"
        which = None if counted else anew
        problems.append(Conflict(ConflictKind.CHANGED, str(name), rows, said, which))
    if counted:
        linked = sa.true() if back == each.stored else sa.false()
    for key in each.table.foreign_keys:
        problems += parents_gone(each, key, others, linked)
    for key in each.session.catalogue.referencing(each.table.name):
        needed = still_referenced(each, key, others)
        problem = sa.and_(cut, ~linked, sa.false() if needed is None else needed)
        rows = 0 if needed is None else each.count(problem)
        if rows:
            said = f"{told_rows(rows, name, 'is', 'are')} referenced since by rows of {key.child}"
            said = f"{said} ({key}){sample(each, problem)}"
            problems.append(Conflict(ConflictKind.REFERENCED, str(name), rows, said, problem))
    return Restored(each.step, each.stored, back, each.stored - back - lost), problems


def _compare_added(
    each: StagedRows, others: Sequence[StagedRows]
) -> tuple[Restored, list[Conflict]]:
    """Count what is gone again of rows that a restore put back, and what is still there."""
    name = str(each.table.name)
    if each.told_by_count:
        still, rows = each.stored_among(each.equal_rows()), 0
        said = f"only {still:,} of {each.stored:,} rows added to {name} are left"
        some = 0 < still < each.stored
        found = [Conflict(ConflictKind.AMBIGUOUS, name, still, said)] if some else []
    else:
        still = each.count(each.as_stored)
        changed = sa.and_(each.is_there, ~each.as_stored)
        rows = each.count(changed)
        said = f"{told_rows(rows, name, 'was', 'were')} changed since the restore"
        said += sample(each, changed)
        found = [Conflict(ConflictKind.CHANGED, name, rows, said, changed)] if rows else []
    gone = each.stored - still - rows
    for key in each.session.catalogue.referencing(each.table.name):
        found += _needed(each, key, others)
    return Restored(each.step, each.stored, gone, still), found


def _needed(each: StagedRows, key: ForeignKey, others: Sequence[StagedRows]) -> list[Conflict]:
    """Return the rows that reference those that would go, and neither go nor are relinked."""
    needed = still_referenced(each, key, others)
    if needed is None:
        return []
    if not each.told_by_count:
        needed = sa.and_(needed, each.as_stored)
    rows = each.count(needed)
    if not rows:
        return []
    name = str(each.table.name)
    said = f"{told_rows(rows, name, 'is', 'are')} referenced by rows of {key.child} ({key})"
    said += sample(each, needed)
    return [Conflict(ConflictKind.REFERENCED, name, rows, said, needed)]


def is_counted(each: StagedRows) -> bool:
    """True if the rows of a step that are back can only be counted."""
    if each.holds_whole_rows:
        return each.told_by_count
    return each.told_by_count and each.step.equal_rows_left is not None


def count_back(each: StagedRows, others: Sequence[StagedRows]) -> int:
    """Return the number of a step's rows that are in the database as they were before it."""
    if not is_counted(each):
        return each.count(as_before(each, others))
    if each.holds_whole_rows:
        return each.stored_among(each.equal_rows())
    return each.stored - each.stored_among(each.equal_rows())


def _covered_by(each: StagedRows, later: StagedRows) -> sql.Predicate:
    """True if a later step of the receipt changed or removed a row as this step had left it.

    Then this step can be undone once the later one is.
    """
    staged = later.staged.alias("yeldro_later")
    found_by = dict(later.old_key)
    left = dict(later.named("value" if later.holds_whole_rows else "old"))
    pairs = [(ours, found_by) for ours in each.key] + [(new, left) for new in each.named("new")]
    same = [
        staged.c[theirs[name]].is_not_distinct_from(each.staged.c[own])
        for (name, own), theirs in pairs
        if name in theirs
    ]
    if len(same) < len(pairs):
        return sa.false()
    query = sa.select(sa.literal(1)).select_from(staged).where(*same)
    return sa.exists(query.correlate(each.staged))


def as_before(each: StagedRows, others: Sequence[StagedRows]) -> sql.Predicate:
    """True if a staged row is in the database as it was before its step."""
    if each.holds_whole_rows:
        return each.as_stored
    linked = each.exists(*each.found_by(each.old_key), *each.agree(each.named("old")))
    if any(goes_from(other, each) for other in others):
        cut = each.exists(*each.found_by(each.key), *each.agree(each.named("new")))
        linked = sa.and_(linked, ~cut)  # what has the old key is a row that is to go
    return linked


def changed_since(each: StagedRows) -> list[str]:
    """Return how the table's columns differ from those the rows were stored with, as sentences."""
    said = [
        f"{each.table.name} has a column {column.name} since; rows get its default there"
        for column in _columns_since(each)
    ]
    for stored in each.step.columns:
        now = each.table.by_name.get(stored.name)
        if now and stored.role != "row id" and now.type != stored.type:
            was = stored.type or "without a type"
            said.append(f"{each.table.name}.{now.name} was {was} and is {now.type} now")
    return said


def _columns_since(each: StagedRows) -> list[Column]:
    """Return the columns that the table did not have when its rows went."""
    if each.step.action is not Action.REMOVE:
        return []
    stored = dict(each.named("value"))
    return [column for column in each.table.stored_columns if column.name not in stored]


def _columns_to_fill(each: StagedRows, missing: int) -> list[Conflict]:
    """Return the columns added since that have no default and take no NULL."""
    name = str(each.table.name)
    return [
        Conflict(ConflictKind.COLUMN_ADDED, name, missing,
                 f"{name} has a column {column.name} since, which takes no NULL and has no default")
        for column in _columns_since(each)
        if not column.nullable and column.default is None
    ]  # fmt: skip


def _compare_removed(
    each: StagedRows, others: Sequence[StagedRows]
) -> tuple[Restored, list[Conflict]]:
    if each.told_by_count:
        back, there, problems = _compare_by_count(each)
        missing = each.stored - back
    else:
        there = each.is_there
        same = as_before(each, others)
        missing = each.count(~there)
        back = each.count(same) if missing < each.stored else 0
        taken = each.stored - back - missing
        problems = [_key_taken(each, taken, sa.and_(there, ~same))] if taken else []
    problems += _taken_elsewhere(each, there, others)
    problems += _columns_to_fill(each, missing) if missing else []
    for key in each.table.foreign_keys:
        problems += parents_gone(each, key, others, there)
    return Restored(each.step, each.stored, back, missing), problems


def _key_taken(each: StagedRows, taken: int, which: sql.Predicate) -> Conflict:
    name = each.table.name
    said = counted(
        taken, f"key of {name} is taken by another row", f"keys of {name} are taken by other rows"
    )
    return Conflict(ConflictKind.KEY_TAKEN, str(name), taken, f"{said}{sample(each, which)}", which)


def _compare_by_count(each: StagedRows) -> tuple[int, sql.Predicate, list[Conflict]]:
    """Compare the numbers of equal rows, which nothing else tells apart.

    Returns:
        The number of rows that are back, the condition that a staged row is back, the conflicts.
    """
    back = each.stored_among(each.equal_rows())
    said = (
        f"{back:,} rows equal to stored ones were added to {each.table.name} since, and "
        f"without a key nothing tells which"
    )
    found = [Conflict(ConflictKind.AMBIGUOUS, str(each.table.name), back, said)]
    some = 0 < back < each.stored
    return back, sa.true() if back else sa.false(), found if some else []


def _taken_elsewhere(
    each: StagedRows, there: sql.Predicate, others: Sequence[StagedRows]
) -> list[Conflict]:
    """Return conflicts of other unique keys than the row key, which other rows have and keep."""
    problems = []
    name, names = each.table.name, dict(each.whole)
    for key in each.table.candidate_keys:
        if key.columns == each.table.identity.columns or not set(key.columns) <= names.keys():
            continue
        pairs = [(column, names[column]) for column in key.columns]
        equal = [each.rows.c[ours] == each.typed(staged) for ours, staged in pairs]
        stay = (
            other.is_no_stored_row(each.rows)
            for other in others
            if other.table == each.table and {*key.columns} & dict(other.named("old")).keys()
        )
        taken = each.exists(*equal, *stay)
        found = each.count(~there, taken)
        if found:
            listed = ", ".join(key.columns)
            said = (
                counted(
                    found,
                    f"value of {name} ({listed}) is taken by another row",
                    f"values of {name} ({listed}) are taken by other rows",
                )
                + sample(each, ~there, taken)
                + _dropping(each, key)
            )
            which = sa.and_(~there, taken)
            problems.append(Conflict(ConflictKind.KEY_TAKEN, str(name), found, said, which))
    return problems


def _dropping(each: StagedRows, key: CandidateKey) -> str:
    """Return the statement that drops a unique key; empty if the key has no name."""
    if not key.constraint:
        return ""
    drop = each.session.dropping(each.table, key.constraint)
    return f", and unique by {key.constraint} ('{drop};' drops it)"


def parents_gone(
    each: StagedRows, key: ForeignKey, others: Sequence[StagedRows], there: sql.Predicate
) -> list[Conflict]:
    """Return conflicts of rows whose parents neither are there nor are restored too."""
    without = lacks_parent(each, key)
    if without is None:
        return []
    conditions = [~there, without]
    parent = each.session.catalogue.table(key.parent)
    for other in others:
        if other.table.name == key.parent and other.step.action is Action.REMOVE:
            theirs_names = dict(other.whole)
            if not theirs_names.keys() >= {*key.referenced_columns}:
                continue  # the referenced columns were not stored
            coming = other.staged.alias("yeldro_coming")
            is_coming = (
                each.session.typed(coming.c[theirs_names[theirs]], parent.by_name[theirs]) == value
                for value, theirs in _references(each, key)
            )
            conditions.append(~sa.exists().where(*is_coming))
        elif other.moves_under(key):
            conditions.append(~_is_coming(each, key, other))
    gone = each.count(*conditions)
    alone_before = each.step.orphans.get(key.name, 0)
    if not gone or (gone <= alone_before and each.session.traits.core_checks_foreign_keys):
        return []
    name = each.table.name
    since = "any more" if gone > alone_before else "and had none before; the system asks for one"
    said = (
        f"{told_rows(gone, name, 'has', 'have')} no parent row {since} ({key})"
        f"{sample(each, *conditions)}"
    )
    which = sa.and_(*conditions)
    return [Conflict(ConflictKind.PARENT_GONE, str(name), gone, said, which)]


def _is_coming(each: StagedRows, key: ForeignKey, other: StagedRows) -> sql.Predicate:
    """True if a staged row references a changed row of another step, once that is undone."""

    def references(mine: StagedRows, changed: StagedRows) -> list[sql.Predicate]:
        return [changed.restored_value(theirs) == value for value, theirs in _references(mine, key)]

    return each.matches_some(other, references)


def references_rows(each: StagedRows, key: ForeignKey, other: StagedRows) -> bool:
    """True if a staged row references one of another step that will come, go or move.

    Rows that come are compared as they will be when all is undone, rows that go as they are now.
    """
    parent = each.session.catalogue.table(key.parent)
    comes = Action.ADD not in (each.step.action, other.step.action)

    def references(mine: StagedRows, theirs: StagedRows) -> Iterator[sql.Predicate]:
        for name, named in zip(key.columns, key.referenced_columns, strict=True):
            value = mine.restored_value(name) if comes else mine.current(name)
            ours = each.session.referencing_value(
                value, each.table.by_name[name], parent.by_name[named]
            )
            yield ours == (theirs.restored_value(named) if comes else theirs.current(named))
        if not theirs.holds_whole_rows:
            names = key.referenced_columns
            yield sa.or_(
                *(theirs.current(n).is_distinct_from(theirs.restored_value(n)) for n in names)
            )

    return bool(each.count(each.matches_some(other, references)))


def other_parents(each: StagedRows, parents: Sequence[StagedRows]) -> list[Conflict]:
    """Return conflicts of rows whose parent went too, and whose parent's key another row has now.

    Args:
        parents: the steps that removed parents and are not undone in this restore.
    """
    problems = []
    for key in each.table.foreign_keys:
        for parent in parents:
            if parent.table.name != key.parent or not each.needs(key) or is_counted(parent):
                continue
            if not parent.brings(key):
                continue
            other = sa.and_(parent.is_there, ~as_before(parent, []))
            if not parent.count(other):
                continue
            numbers = sa.select(parent.staged.c.yeldro_row).where(other)
            mine = each.matches_some(parent, references_step(each, key, numbers))
            missing = sa.and_(mine, ~as_before(each, []))
            rows = each.count(missing)
            if rows:
                said = (
                    f"{told_rows(rows, each.table.name, 'would', 'would')} reference another row "
                    f"of {key.parent} than before: the key was taken since ({key})"
                    f"{sample(each, missing)}"
                )
                name = str(each.table.name)
                problems.append(Conflict(ConflictKind.KEY_TAKEN, name, rows, said, missing))
    return problems


def lacks_parent(each: StagedRows, key: ForeignKey) -> sql.Predicate | None:
    """True if a staged row has no parent row in the database; None if it needs none."""
    if not each.needs(key):
        return None
    parents = sql.parents_of(key, each.session.catalogue.table(key.parent))
    is_parent = (parents.c[theirs] == value for value, theirs in _references(each, key))
    some = (each.restored_value(ours).is_not(None) for ours in key.columns)
    return sa.and_(*some, ~sa.exists().where(*is_parent))


def _references(each: StagedRows, key: ForeignKey) -> list[tuple[sa.ColumnElement[Any], str]]:
    """Return pairs of a staged row's value and the parent's column that it is compared with."""
    parent = each.session.catalogue.table(key.parent)
    return [
        (
            each.session.referencing_value(
                each.restored_value(ours), each.table.by_name[ours], parent.by_name[theirs]
            ),
            theirs,
        )
        for ours, theirs in zip(key.columns, key.referenced_columns, strict=True)
    ]


def sample(each: StagedRows, *conditions: sql.Predicate) -> str:
    """Return the keys of a few staged rows that meet the conditions, as text."""
    pairs = (each.key or each.named("new"))[:3]
    query = sa.select(*(each.staged.c[staged] for _, staged in pairs)).where(*conditions).limit(3)
    rows = each.session.connection.execute(query).all()
    listed = "; ".join(
        ", ".join(f"{ours} {value!r}" for (ours, _), value in zip(pairs, row, strict=True))
        for row in rows
    )
    return f" (such as {listed})" if listed else ""

"""A map of tables and foreign keys: what a picture of a database, or of a plan, shows."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.database import sql
from yeldro.core.database.catalogue import find_table
from yeldro.core.model.messages.errors import Refused
from yeldro.core.model.work.chains import Fate
from yeldro.core.model.work.steps import Action, Step

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import ForeignKey, Table, TableName
    from yeldro.core.planning.job import JobPlan
    from yeldro.core.planning.plan import RippleLine

MOST = 60  # tables that are drawn if no fewer are asked for
_STRONGEST = (Fate.BLOCKS, Fate.REMOVED, Fate.REPOINTED, Fate.DETACHED, Fate.REMOVED_ELSEWHERE)


@dataclass(frozen=True)
class MapTable:
    """A table on a map.

    Args:
        rows: None if they were not counted.
        kind: table, view or the like.
        gone, changed: its rows that the plan removes, and that it detaches or repoints.
        steps: what is done to it, each step with its number as people see it.
        named: rows of this table are matched, or the map is drawn around it.
    """

    name: str
    rows: int | None = None
    kind: str = "table"
    gone: int = 0
    changed: int = 0
    steps: tuple[tuple[str, Step], ...] = ()
    named: bool = False

    @property
    def is_affected(self) -> bool:
        """True if the plan has a step for it."""
        return bool(self.steps)


@dataclass(frozen=True)
class MapKey:
    """A foreign key on a map.

    Args:
        fates: what happens to the rows that depend on removed ones, and for how many that holds;
            what matters most comes first.
    """

    key: ForeignKey
    fates: tuple[tuple[Fate, int], ...] = ()

    @property
    def fate(self) -> Fate | None:
        """What matters most of what happens to them; None if there are none."""
        return self.fates[0][0] if self.fates else None

    @property
    def child(self) -> str:
        return str(self.key.child)

    @property
    def parent(self) -> str:
        return str(self.key.parent)


@dataclass(frozen=True)
class KeyMap:
    """Tables and the foreign keys between them.

    Args:
        title: what was asked, in one line.
        total: rows that all steps remove or change; None for a map without a plan.
        left_out: tables of the database that are not on the map.
        done: the plan has been carried out.
    """

    title: str
    tables: tuple[MapTable, ...]
    keys: tuple[MapKey, ...]
    total: int | None = None
    left_out: int = 0
    done: bool = False

    @property
    def is_blocked(self) -> bool:
        """True if nothing can run."""
        return any(each.fate is Fate.BLOCKS for each in self.keys)


def map_of_database(session: Session, title: str, around: str | None = None) -> KeyMap:
    """Return all tables of a database, or those that foreign keys connect with one of them.

    Args:
        around: the table to begin with; None for all.

    Raises:
        UsageError: there is no such table.
        Refused: there are too many tables for one picture.
    """
    every = list(session.catalogue.table_names())
    if around is None and len(every) > MOST:
        raise Refused(
            f"There are {len(every):,} tables, and a picture of more than {MOST} cannot be read.",
            "Name the table to begin with: ⟨survey TABLE⟩ with ‹map› FILE.",
        )
    named = [find_table(session.catalogue, around)] if around else []
    shown = _around(session, named) if named else list(map(session.catalogue.table, every))
    names = {table.name for table in named}
    rows = sql.sizes(session.connection, [each for each in shown if each.kind == "table"])
    tables = [
        MapTable(str(each.name), rows.get(each.name), each.kind, named=each.name in names)
        for each in shown
    ]
    left_out = len(set(every) - {each.name for each in shown})
    return KeyMap(title, tuple(tables), tuple(_keys(shown, {})), left_out=left_out)


def map_of_plan(session: Session, found: JobPlan) -> KeyMap:
    """Return the tables that a plan reaches, and those that foreign keys connect with them."""
    steps: dict[str, list[tuple[str, Step]]] = {}
    for place, plan in enumerate(found.plans, 1):
        for step in plan.steps:
            label = f"{place}.{step.n}" if len(found.plans) > 1 else str(step.n)
            steps.setdefault(step.table, []).append((label, step))
    lines = [line for plan in found.plans for line in plan.ripple if line.rows]
    named = {plan.table for plan in found.plans}
    reached = named | steps.keys() | {line.table for line in lines}
    affected = [find_table(session.catalogue, name) for name in sorted(reached)]
    shown = _around(session, affected)
    rows = sql.sizes(session.connection, affected)
    tables = [
        _affected(table, rows.get(table.name), steps.get(str(table.name), ()), named)
        for table in shown
    ]
    keys = tuple(_keys(shown, _by_key(lines)))
    left_out = len(set(session.catalogue.table_names()) - {each.name for each in shown})
    return KeyMap(found.title, tuple(tables), keys, found.total, left_out)


def _affected(
    table: Table, rows: int | None, steps: Sequence[tuple[str, Step]], named: set[str]
) -> MapTable:
    counted: Counter[bool] = Counter()
    for _, step in steps:
        if not step.auxiliary:
            counted[step.action is Action.REMOVE] += step.rows
    name = str(table.name)
    return MapTable(
        name, rows, table.kind, counted[True], counted[False], tuple(steps), name in named
    )


def _around(session: Session, begin: Sequence[Table]) -> list[Table]:
    """Return what foreign keys connect with tables, or only the nearest if that is too much."""
    found = {table.name: table for table in begin}
    edge = list(begin)
    nearest: dict[TableName, Table] | None = None
    while edge:
        names = {name for table in edge for name in _neighbours(session, table)} - found.keys()
        edge = [session.catalogue.table(name) for name in sorted(names, key=str)]
        found |= {table.name: table for table in edge}
        if nearest is None:
            nearest = dict(found)
        if len(found) > MOST:
            return list(nearest.values())
    return list(found.values())


def _neighbours(session: Session, table: Table) -> set[TableName]:
    known = set(session.catalogue.table_names())
    parents = {key.parent for key in table.foreign_keys}
    children = {key.child for key in session.catalogue.referencing(table.name)}
    return (parents | children) & known


def _by_key(lines: Iterable[RippleLine]) -> dict[str, list[RippleLine]]:
    """Return the lines of each foreign key, by the key in words; what matters most comes first."""
    found: dict[str, list[RippleLine]] = {}
    for line in sorted(lines, key=lambda each: _STRONGEST.index(each.fate)):
        found.setdefault(line.foreign_key, []).append(line)
    return found


def _keys(shown: Sequence[Table], lines: Mapping[str, Sequence[RippleLine]]) -> list[MapKey]:
    names = {table.name for table in shown}
    keys = (key for table in shown for key in table.foreign_keys if key.parent in names)
    return [
        MapKey(key, tuple((line.fate, line.of_them) for line in lines.get(str(key), ())))
        for key in keys
    ]

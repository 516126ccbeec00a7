"""What happens to rows that reference a removed row: what the user said, else as declared."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property
from typing import TYPE_CHECKING

from yeldro.core.database.catalogue import foreign_keys_called
from yeldro.core.model.messages.errors import Refused, UnknownName, UsageError
from yeldro.core.model.messages.names import unquoted
from yeldro.core.model.messages.options import REPOINT, Option
from yeldro.core.model.tables.graph import components
from yeldro.core.model.tables.schema import ForeignKey, ReferentialAction, Table, TableName
from yeldro.core.model.work.steps import Reached

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Catalogue

Reason = ReferentialAction | Option


class Treatment(StrEnum):
    """What happens to a row whose parent row is removed."""

    REMOVE = "remove"
    DETACH = "detach"
    BLOCK = "block"
    REPOINT = "repoint"


class Cause(StrEnum):
    """Why the treatment of a foreign key cannot be propagated out."""

    NOT_NULL = "a column does not accept NULL"
    COMPUTED = "the database computes a column"
    NO_KEPT_ROW = "references have no row to be moved to"
    TWICE = "a unique key would occur twice"
    REFERENCED = "rows that stay reference the columns that would change"
    NO_KEY = "rows could not be found again"
    NO_FIXED_DEFAULT = "the default is computed anew for each row"
    NO_DEFAULT_ROW = "the default references no row that stays"


@dataclass(frozen=True)
class Obstacle:
    """What prevents a treatment, with words for people."""

    cause: Cause
    words: str

    def __str__(self) -> str:
        return self.words


@dataclass(frozen=True)
class Link:
    """A foreign key that the ripple can cross, and how.

    Args:
        key: from the child table to the table whose rows are removed.
        reason: the referential action, or the option that overrides it.
        to_default: detached rows take their columns' defaults, not NULL.
        path: the foreign keys that lead here from the named table, this one last.
        obstacle: why a declared action cannot be carried out, None if it can.
        only_conflicts: only those dependent rows go that could not be repointed.
        propagated: if the referenced columns move themselves, so that the child's move too: each
            child column with the column of the duplicates' table whose new value it takes.
    """

    key: ForeignKey
    treatment: Treatment
    reason: Reason
    to_default: bool
    path: tuple[ForeignKey, ...]
    obstacle: Obstacle | None = None
    only_conflicts: bool = False
    propagated: tuple[tuple[str, str], ...] = ()

    @property
    def because(self) -> str:
        """The foreign key and the reason, for people."""
        with_parents = ", with the rows they reference" if self.propagated else ""
        return f"{self.key} ({self.reason}{with_parents})"

    @property
    def reached(self) -> tuple[Reached, ...]:
        """What a receipt holds of it; nothing where values alone would not tell the parent row."""
        key = self.key
        if self.propagated or key.child_parts or key.parent_parts:
            return ()
        return (Reached(self.because, key.parent, key.columns, key.referenced_columns),)

    @property
    def moves(self) -> tuple[tuple[str, str], ...]:
        """The child's columns, each with the duplicates' column whose new value it takes."""
        direct = zip(self.key.columns, self.key.referenced_columns, strict=True)
        return self.propagated or tuple(direct)

    @property
    def moved_columns(self) -> frozenset[str]:
        """The child's columns that move."""
        return frozenset(ours for ours, _ in self.moves)


@dataclass(frozen=True)
class Choices:
    """What the user said about dependent rows; names are tables, `child.column`, or `all`.

    Args:
        repoint: move what references duplicates to the row that is kept.
    """

    follow: tuple[str, ...] = ()
    detach: tuple[str, ...] = ()
    repoint: bool = False


@dataclass(frozen=True)
class Reach:
    """The part of the schema that a cleanup can touch.

    Args:
        tables: the named table first, then every table whose rows may be removed.
        links: the foreign keys that reference any of them, in the order of discovery.
        unused: choices of the user's that match no foreign key in reach.
        moving_together: foreign keys that move together with the columns they reference.
        children: the tables of those foreign keys.
    """

    tables: tuple[Table, ...]
    links: tuple[Link, ...]
    unused: tuple[Option, ...]
    moving_together: frozenset[ForeignKey] = frozenset()
    children: tuple[Table, ...] = ()

    def links_to(self, parent: TableName) -> list[Link]:
        """Return the links that reference `parent`."""
        return self._by_parent[parent]

    def links_from(self, child: TableName, *treatments: Treatment) -> list[Link]:
        """Return the links of `child` that are treated in one of these ways."""
        return [link for link in self._by_child[child] if link.treatment in treatments]

    def movers(self, propagated: Link) -> list[Link]:
        """Return the links that move columns referenced by a propagated one."""
        moving = self.links_from(propagated.key.parent, Treatment.REPOINT)
        return [
            each for each in moving if each.moved_columns & {*propagated.key.referenced_columns}
        ]

    def shares_columns(self, link: Link) -> bool:
        """True if another detached link of the same child changes a column of this one."""
        return any(
            other is not link and set(other.key.changed_columns) & set(link.key.columns)
            for other in self.links_from(link.key.child, Treatment.DETACH)
        )

    @cached_property
    def _by_parent(self) -> dict[TableName, list[Link]]:
        found: dict[TableName, list[Link]] = defaultdict(list)
        for link in self.links:
            found[link.key.parent].append(link)
        return found

    @cached_property
    def _by_child(self) -> dict[TableName, list[Link]]:
        found: dict[TableName, list[Link]] = defaultdict(list)
        for link in self.links:
            found[link.key.child].append(link)
        return found


def reach(catalogue: Catalogue, start: Table, choices: Choices) -> Reach:
    """Follow foreign keys from the table `start` as far as rows may have to be removed.

    Raises:
        UsageError: a name in `choices` is unknown, or is both followed and detached.
        Refused: a foreign key is to be detached, and a column of it cannot be NULL.
    """
    tables = {start.name: start}
    paths: dict[TableName, tuple[ForeignKey, ...]] = {start.name: ()}
    links: list[Link] = []
    moving_together: frozenset[ForeignKey] = frozenset()
    children: dict[TableName, Table] = {}
    waiting = [start.name]
    for parent in waiting:
        found = []
        for key in catalogue.referencing(parent):
            child = children[key.child] = tables.get(key.child) or catalogue.table(key.child)
            link = _link(catalogue, key, child, choices, (*paths[parent], key))
            if choices.repoint and parent == start.name:
                found += _repointed(catalogue, link, child, choices)
            elif choices.repoint and child.name == start.name:
                found.append(_kept_from_going(link))
            else:
                found.append(link)
        if choices.repoint and parent == start.name:
            propagated, moving_together = propagate(catalogue, found, start.name)
            for link in propagated:
                found += _with_conflicts(catalogue, link, catalogue.table(link.key.child), choices)
        links += found
        for link in found:
            name = link.key.child
            if link.treatment is Treatment.REMOVE and name not in tables:
                tables[name] = catalogue.table(name)
                paths[name] = link.path
                waiting.append(name)
    keys = [link.key for link in links]
    return Reach(
        tables=tuple(tables.values()),
        links=tuple(links),
        unused=tuple(_unused_names(choices, keys, catalogue)),
        moving_together=moving_together,
        children=tuple(children.values()),
    )


def _repointed(catalogue: Catalogue, link: Link, child: Table, choices: Choices) -> list[Link]:
    """Return a link to duplicates, moved unless detached, and what goes where it cannot move."""
    if isinstance(link.reason, Option) and link.reason.name == "detach":
        return [link]
    moved = replace(link, treatment=Treatment.REPOINT, reason=REPOINT, obstacle=None)
    return _with_conflicts(catalogue, moved, child, choices)


def _with_conflicts(
    catalogue: Catalogue, moved: Link, child: Table, choices: Choices
) -> list[Link]:
    """Return a link that is moved and, if the user follows it, one for the rows that cannot be."""
    followed = _most_specific(catalogue, choices.follow, moved.key)
    breaks = any(set(key.columns) & moved.moved_columns for key in child.candidate_keys)
    start = moved.path[0].parent
    if not followed or not breaks or moved.key.child in (moved.key.parent, start):
        return [moved]
    reason = Option("follow", followed[1])
    conflicts = replace(moved, treatment=Treatment.REMOVE, reason=reason, only_conflicts=True)
    return [conflicts, moved]


def propagate(
    catalogue: Catalogue, links: Sequence[Link], start: TableName
) -> tuple[list[Link], frozenset[ForeignKey]]:
    """Follow foreign keys whose referenced columns move, so that the referencing ones move too.

    Args:
        links: those to the duplicates' table `start`.

    Returns:
        The links by which more rows are moved, and all foreign keys that move with their parents:
        those of these links, and those whose columns move by a link of their own. A key that
        references only some of the columns that move together, or that moves in a circle, is left
        out.
    """
    direct = [link for link in links if link.treatment is Treatment.REPOINT]
    waiting, propagated = list(direct), list[Link]()
    moves: dict[ForeignKey, bool] = {}
    for mover in waiting:
        for key in catalogue.referencing(mover.key.child):
            theirs = dict(zip(key.referenced_columns, key.columns, strict=True))
            if not mover.moved_columns & theirs.keys():
                continue
            if not mover.moved_columns <= theirs.keys():
                moves[key] = False
                continue
            moves.setdefault(key, True)
            pairs = tuple((theirs[ours], there) for ours, there in mover.moves)
            if key.child == mover.key.child and pairs == mover.moves:
                continue
            if key.child == start and all(ours == there for ours, there in pairs):
                continue  # only rows that go reference those
            if any(link.key.child == key.child and link.moves == pairs for link in direct):
                continue
            path = (*mover.path, key)
            link = Link(key, Treatment.REPOINT, REPOINT, False, path, propagated=pairs)
            if not any(each.key == key and each.propagated == pairs for each in propagated):
                propagated.append(link)
                waiting.append(link)
    reached = Reach((), (*direct, *propagated), ())
    movers = {
        link: [each for each in reached.movers(link) if each.propagated] for link in propagated
    }
    parts = components(movers)
    if any(len(part) > 1 or part[0] in movers[part[0]] for part in parts):
        return [], frozenset(
            key
            for key, moving in moves.items()
            if moving and key not in {c.key for c in propagated}
        )
    return propagated, frozenset(key for key, moving in moves.items() if moving)


def _kept_from_going(link: Link) -> Link:
    """Return a link by which rows without a kept row would go from the duplicates' own table."""
    if link.treatment is not Treatment.REMOVE:
        return link
    obstacle = Obstacle(Cause.NO_KEPT_ROW, "references to them have no row to be moved to")
    return replace(link, treatment=Treatment.BLOCK, obstacle=obstacle)


def _link(
    catalogue: Catalogue,
    key: ForeignKey,
    child: Table,
    choices: Choices,
    path: tuple[ForeignKey, ...],
) -> Link:
    followed = _most_specific(catalogue, choices.follow, key)
    detached = _most_specific(catalogue, choices.detach, key)
    if followed and detached and followed[0] == detached[0]:
        raise UsageError(
            f"{key.name} is both followed and detached.",
            f"Drop {Option('follow', followed[1]).named} or {Option('detach', detached[1]).named}.",
        )
    if followed and (not detached or followed > detached):
        return Link(key, Treatment.REMOVE, Option("follow", followed[1]), False, path)
    if detached:
        columns = (child.by_name[name] for name in key.changed_columns)
        fixed = [f"{column.name} {why}" for column in columns if (why := column.why_never_null)]
        if fixed:
            raise Refused(
                f"{key.name} cannot be detached: {key.child}.{fixed[0]}.",
                f"Remove those rows too with {Option('follow', key.name).named}, or keep their "
                f"parents.",
            )
        return Link(key, Treatment.DETACH, Option("detach", detached[1]), False, path)
    return _as_declared(key, child, path)


def _as_declared(key: ForeignKey, child: Table, path: tuple[ForeignKey, ...]) -> Link:
    action = key.on_delete
    if action is ReferentialAction.CASCADE:
        return Link(key, Treatment.REMOVE, action, False, path)
    if action in (ReferentialAction.NO_ACTION, ReferentialAction.RESTRICT):
        return Link(key, Treatment.BLOCK, action, False, path)
    to_default = action is ReferentialAction.SET_DEFAULT
    for name in key.changed_columns:
        column = child.by_name[name]
        becomes_null = not to_default or column.default is None or column.default.upper() == "NULL"
        why = column.why_never_null
        if why and (becomes_null or column.generated):
            cause = Cause.COMPUTED if column.generated else Cause.NOT_NULL
            obstacle = Obstacle(cause, f"{key.child}.{name} {why}")
            return Link(key, Treatment.BLOCK, action, to_default, path, obstacle)
    return Link(key, Treatment.DETACH, action, to_default, path)


def _most_specific(
    catalogue: Catalogue, names: Iterable[str], key: ForeignKey
) -> tuple[int, str] | None:
    """Return the name that speaks most exactly of `key`: foreign key, then table, then `all`."""
    found = [
        (0 if name == "all" else 2 if name.casefold() not in _table_names(key) else 1, name)
        for name in names
        if _means(catalogue, name, key)
    ]
    return max(found, default=None)


def _means(catalogue: Catalogue, name: str, key: ForeignKey) -> bool:
    """True if `name` means a foreign key; an exact spelling goes before a loose one."""
    if name == "all":
        return True
    name = unquoted(name)
    tables = [each for each in catalogue.table_names() if f"{name}.".startswith(f"{each}.")]
    if tables and max(tables, key=lambda each: len(str(each))) != key.child:
        return False
    if name != key.name and any(
        name == other.name for other in catalogue.table(key.child).foreign_keys
    ):
        return False
    return bool(foreign_keys_called(name, [key]))


def _table_names(key: ForeignKey) -> set[str]:
    return {str(key.child).casefold(), key.child.name.casefold()}


def _unused_names(
    choices: Choices, keys: list[ForeignKey], catalogue: Catalogue
) -> Iterable[Option]:
    for kind, names in (("follow", choices.follow), ("detach", choices.detach)):
        for name in names:
            option = Option(kind, name)
            if any(_means(catalogue, name, key) for key in keys):
                continue
            if name == "all":
                yield option
                continue
            tables = [str(table) for table in catalogue.table_names()]
            tables += [str(key.child) for key in keys]  # some are in other databases
            bare = [table.name for table in catalogue.table_names()]
            meant = unquoted(name)
            table = meant.rpartition(".")[0] or meant
            if not {table.casefold(), meant.casefold()} & {
                known.casefold() for known in tables + bare
            }:
                known = sorted({key.name for key in keys} | {str(key.child) for key in keys})
                raise UnknownName(f"{option.named} names no table and no foreign key.", name, known)
            yield option

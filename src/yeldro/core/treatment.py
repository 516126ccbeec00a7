"""What is done with the rows that reference a removed row: as the user said, else as declared."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable
from dataclasses import dataclass, replace
from enum import StrEnum
from functools import cached_property

from yeldro.core.catalogue import foreign_keys_called
from yeldro.core.errors import Refused, UsageError
from yeldro.core.names import suggestion
from yeldro.core.protocol import Catalogue
from yeldro.core.schema import ForeignKey, ReferentialAction, Table, TableName

NO_KEPT_ROW = "references to them have no row to be moved to"


class Treatment(StrEnum):
    """What happens to a row whose parent row is removed."""

    REMOVE = "remove"
    DETACH = "detach"
    BLOCK = "block"
    REPOINT = "repoint"


@dataclass(frozen=True)
class Link:
    """A foreign key that the ripple can cross, and how.

    Args:
        key: from the child table to the table whose rows are removed.
        reason: the referential action, or the option that overrides it.
        to_default: detached rows take their columns' defaults, not NULL.
        path: the foreign keys that lead here from the named table, this one last.
        obstacle: why a declared action can not be carried out, empty where it can.
        only_conflicts: of the rows that depend, only those go that could not be repointed.
    """

    key: ForeignKey
    treatment: Treatment
    reason: str
    to_default: bool
    path: tuple[ForeignKey, ...]
    obstacle: str = ""
    only_conflicts: bool = False


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
        unused: names the user gave that no foreign key in reach answers to.
    """

    tables: tuple[Table, ...]
    links: tuple[Link, ...]
    unused: tuple[str, ...]

    def links_to(self, parent: TableName) -> list[Link]:
        """The links that reference `parent`."""
        return self._by_parent[parent]

    def links_from(self, child: TableName, *treatments: Treatment) -> list[Link]:
        """The links of `child` that are treated in one of these ways."""
        return [link for link in self._by_child[child] if link.treatment in treatments]

    def shares_columns(self, link: Link) -> bool:
        """Whether another detached link of the same child changes a column of this one."""
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
    """Follows foreign keys from the table `start` as far as rows may have to be removed.

    Raises:
        UsageError: a name in `choices` is unknown, or is both followed and detached.
        Refused: a foreign key is to be detached, and a column of it can not be NULL.
    """
    tables = {start.name: start}
    paths: dict[TableName, tuple[ForeignKey, ...]] = {start.name: ()}
    links: list[Link] = []
    waiting = [start.name]
    for parent in waiting:
        for key in catalogue.referencing(parent):
            child = tables.get(key.child) or catalogue.table(key.child)
            link = _link(key, child, choices, (*paths[parent], key))
            if choices.repoint and parent == start.name:
                link, conflicts = _repointed(link, child, choices)
                links += [conflicts] if conflicts else []
            elif choices.repoint and child.name == start.name:
                link = _kept_from_going(link)
            links.append(link)
            goes = any(each.treatment is Treatment.REMOVE and each.key == key for each in links)
            if goes and key.child not in tables:
                tables[key.child] = child
                paths[key.child] = link.path
                waiting.append(key.child)
    keys = [link.key for link in links]
    return Reach(
        tables=tuple(tables.values()),
        links=tuple(links),
        unused=tuple(_unused_names(choices, keys, catalogue)),
    )


def _repointed(link: Link, child: Table, choices: Choices) -> tuple[Link, Link | None]:
    """A link to duplicates that is moved unless it is detached; and what goes where it cannot."""
    if link.reason.startswith("--detach"):
        return link, None
    moved = replace(link, treatment=Treatment.REPOINT, reason="--repoint", obstacle="")
    followed = _most_specific(choices.follow, link.key)
    breaks = any(set(key.columns) & set(link.key.columns) for key in child.candidate_keys)
    if not followed or not breaks or link.key.child == link.key.parent:
        return moved, None
    reason = f"--follow {followed[1]}"
    return moved, replace(moved, treatment=Treatment.REMOVE, reason=reason, only_conflicts=True)


def _kept_from_going(link: Link) -> Link:
    """A link by which more rows of the duplicates' table would go, which have no kept row."""
    if link.treatment is not Treatment.REMOVE:
        return link
    return replace(link, treatment=Treatment.BLOCK, obstacle=NO_KEPT_ROW)


def _link(key: ForeignKey, child: Table, choices: Choices, path: tuple[ForeignKey, ...]) -> Link:
    followed = _most_specific(choices.follow, key)
    detached = _most_specific(choices.detach, key)
    if followed and detached and followed[0] == detached[0]:
        raise UsageError(
            f"{key.name} is both followed and detached.",
            f"Drop --follow {followed[1]} or --detach {detached[1]}.",
        )
    if followed and (not detached or followed > detached):
        return Link(key, Treatment.REMOVE, f"--follow {followed[1]}", False, path)
    if detached:
        fixed = [name for name in key.changed_columns if not child.by_name[name].nullable]
        if fixed:
            raise Refused(
                f"{key.name} can not be detached: {key.child}.{fixed[0]} does not accept NULL.",
                f"Remove those rows too with --follow {key.name}, or keep their parents.",
            )
        return Link(key, Treatment.DETACH, f"--detach {detached[1]}", False, path)
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
        if becomes_null and not column.nullable:
            why = f"{key.child}.{name} does not accept NULL"
            return Link(key, Treatment.BLOCK, action, to_default, path, why)
    return Link(key, Treatment.DETACH, action, to_default, path)


def _most_specific(names: Iterable[str], key: ForeignKey) -> tuple[int, str] | None:
    """The name that speaks most exactly of `key`: a foreign key before a table before `all`."""
    found = [
        (0 if name == "all" else 2 if name.casefold() not in _table_names(key) else 1, name)
        for name in names
        if foreign_keys_called(name, [key])
    ]
    return max(found, default=None)


def _table_names(key: ForeignKey) -> set[str]:
    return {str(key.child).casefold(), key.child.name.casefold()}


def _unused_names(choices: Choices, keys: list[ForeignKey], catalogue: Catalogue) -> Iterable[str]:
    for option, names in (("--follow", choices.follow), ("--detach", choices.detach)):
        for name in names:
            if name == "all" or foreign_keys_called(name, keys):
                continue
            tables = [str(table) for table in catalogue.table_names()]
            bare = [table.name for table in catalogue.table_names()]
            table = name.rpartition(".")[0] or name
            if not {table.casefold(), name.casefold()} & {
                known.casefold() for known in tables + bare
            }:
                known = sorted({key.name for key in keys} | {str(key.child) for key in keys})
                raise UsageError(
                    f"{option} {name} names no table and no foreign key.",
                    suggestion(name, known),
                )
            yield f"{option} {name}"

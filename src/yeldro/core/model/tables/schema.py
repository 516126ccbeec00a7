"""Tables, keys and foreign keys, as a database declares them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from enum import StrEnum
from functools import cached_property


@dataclass(frozen=True, order=True)
class TableName:
    """A table's name, with its schema where the database system has schemas."""

    name: str
    schema: str | None = None

    def __str__(self) -> str:
        return f"{self.schema}.{self.name}" if self.schema else self.name


class ReferentialAction(StrEnum):
    """What the database does with a referencing row when its parent row goes (SQL:2016, 4.18.3)."""

    CASCADE = "cascade"
    SET_NULL = "set null"
    SET_DEFAULT = "set default"
    NO_ACTION = "no action"
    RESTRICT = "restrict"


@dataclass(frozen=True)
class Column:
    """One column.

    Args:
        type: as declared, in the database's own words.
        collation: name of the collation its values are compared with in a key, where not the
            system's default.
        default: the default as SQL text, None where there is none.
        generated: the database computes it, so it is never inserted.
        equates_texts: its collation takes different texts for equal; their text form must not.
        computed_from: the columns that a generated one may depend on, itself or through others.
        varies: a generated one may be computed otherwise at each read, as from the time now.
        changes_itself: the database updates it with its row, unless the statement sets it.
        row_id: it is another name for the system's physical row id.
    """

    name: str
    type: str = ""
    nullable: bool = True
    default: str | None = None
    generated: bool = False
    varies: bool = False
    collation: str | None = None
    row_id: bool = False
    changes_itself: bool = False
    computed_from: frozenset[str] = frozenset()
    equates_texts: bool = False

    @property
    def why_never_null(self) -> str | None:
        """Why it cannot be set to NULL, as a predicate; None where it can."""
        if self.generated:
            return "is computed by the database"
        return None if self.nullable else "does not accept NULL"


@dataclass(frozen=True)
class CandidateKey:
    """Columns that are unique together; `identifies` when they also cannot be NULL.

    Args:
        constraint: the name by which it can be dropped, empty where it has none.
    """

    columns: tuple[str, ...]
    primary: bool
    identifies: bool
    constraint: str = field(default="", compare=False)


class IdentityKind(StrEnum):
    """What tells a row from all others; the first that exists is used."""

    PRIMARY_KEY = "primary key"
    UNIQUE_KEY = "unique key"
    PHYSICAL = "physical row id"
    ALL_COLUMNS = "all columns"


@dataclass(frozen=True)
class RowIdentity:
    """The columns that tell a row from all others; a physical row id holds in one transaction."""

    kind: IdentityKind
    columns: tuple[str, ...]


@dataclass(frozen=True)
class Parts:
    """Some partitions of a table.

    Args:
        told_by: the column of the system's that tells in which partition a row lives.
        ids: its values for these partitions.
    """

    told_by: str
    ids: tuple[int, ...]


@dataclass(frozen=True)
class ForeignKey:
    """Rows of `child` reference rows of `parent`: `columns[i]` equals `referenced_columns[i]`.

    Args:
        named_to_change: where the declared action changes only some of the columns, those.
        child_parts, parent_parts: where the key is declared on or to some partitions only, these;
            None where it holds for the whole table.
    """

    child: TableName
    columns: tuple[str, ...]
    parent: TableName
    referenced_columns: tuple[str, ...]
    on_delete: ReferentialAction = ReferentialAction.NO_ACTION
    deferrable: bool = False
    constraint: str | None = None
    named_to_change: tuple[str, ...] = ()
    child_parts: Parts | None = None
    parent_parts: Parts | None = None

    @property
    def changed_columns(self) -> tuple[str, ...]:
        """The columns that the declared action sets to NULL or to their default."""
        return self.named_to_change or self.columns

    @property
    def name(self) -> str:
        """The name by which options and messages call it: `child.column`."""
        return f"{self.child}.{','.join(self.columns)}"

    def __str__(self) -> str:
        return f"{self.name} → {self.parent}.{','.join(self.referenced_columns)}"


@dataclass(frozen=True)
class Trigger:
    """A trigger of a table: `event` is insert, update or delete."""

    name: str
    event: str


@dataclass(frozen=True)
class Index:
    """Columns an index covers in order, up to the first that is an expression."""

    name: str
    columns: tuple[str, ...]
    partial: bool = False


@dataclass(frozen=True)
class Table:
    """One table with what a cleanup needs to know about it.

    Args:
        kind: "table", "view", or the system's word for anything else that holds rows.
        row_id_columns: those that are not the user's and tell a row from all others for as long
            as nobody changes it; none where the system has no physical row id.
        foreign_keys: those in which this table is the child.
        heirs: the tables that inherit from this one, at every depth; `Table` means its own rows.
        transactional: a removal can be rolled back.
        notes: warnings, as phrases.
    """

    name: TableName
    columns: tuple[Column, ...]
    candidate_keys: tuple[CandidateKey, ...] = ()
    foreign_keys: tuple[ForeignKey, ...] = ()
    triggers: tuple[Trigger, ...] = ()
    indexes: tuple[Index, ...] = ()
    row_id_columns: tuple[Column, ...] = ()
    kind: str = "table"
    transactional: bool = True
    heirs: tuple[TableName, ...] = ()
    notes: tuple[str, ...] = field(default=(), compare=False)

    @cached_property
    def by_name(self) -> dict[str, Column]:
        return {column.name: column for column in self.columns}

    @cached_property
    def stored_columns(self) -> tuple[Column, ...]:
        """The columns whose values a row carries itself: all but generated ones."""
        return tuple(column for column in self.columns if not column.generated)

    @cached_property
    def identity(self) -> RowIdentity:
        """Primary key; a unique key that cannot be NULL; physical row id; all columns.

        A key with a generated column is none: its value changes when other columns do.
        """
        for primary in (True, False):
            for key in self.candidate_keys:
                if key.identifies and key.primary is primary and not self._generates(key.columns):
                    kind = IdentityKind.PRIMARY_KEY if primary else IdentityKind.UNIQUE_KEY
                    return RowIdentity(kind, key.columns)
        if self.row_id_columns:
            names = tuple(column.name for column in self.row_id_columns)
            return RowIdentity(IdentityKind.PHYSICAL, names)
        return RowIdentity(
            IdentityKind.ALL_COLUMNS, tuple(column.name for column in self.stored_columns)
        )

    def _generates(self, names: tuple[str, ...]) -> bool:
        return any(self.by_name[name].generated for name in names)

    @property
    def has_key(self) -> bool:
        """True if a key tells every row from all others, for good."""
        return self.identity.kind in (IdentityKind.PRIMARY_KEY, IdentityKind.UNIQUE_KEY)

    @property
    def key(self) -> tuple[str, ...]:
        """The columns of that key; empty if there is none."""
        return self.identity.columns if self.has_key else ()

    def can_be_null(self, columns: tuple[str, ...]) -> bool:
        """True if every one of `columns` can be set to NULL."""
        return not any(self.by_name[name].why_never_null for name in columns)

    def changing_with(self, columns: Iterable[str]) -> frozenset[str]:
        """Return `columns`, and the generated columns that may change when these do."""
        changed = {name.lower() for name in columns}
        computed = [(each.name.lower(), {name.lower() for name in each.computed_from})
                    for each in self.columns if each.generated]  # fmt: skip
        for _ in computed:  # one may be computed from another
            changed |= {name for name, sources in computed if sources & changed}
        return frozenset(name for name in self.by_name if name.lower() in changed)

    def has_index_on(self, columns: tuple[str, ...]) -> bool:
        """True if an index starts with `columns`, in any order, so that they can be looked up."""
        wanted = set(columns)
        if len(columns) == 1 and columns[0] == self.identity.columns[0]:
            return True
        return any(
            set(index.columns[: len(wanted)]) == wanted and not index.partial
            for index in self.indexes
        )

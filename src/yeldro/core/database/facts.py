"""Plain values that engines and the core exchange."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from enum import StrEnum
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from yeldro.core.database.compared import Compared
    from yeldro.core.model.tables.schema import Parts, TableName


class SqlDialect(str):
    """The name by which the SQL parser knows a system's SQL, and what the parser does not tell.

    Args:
        name: the parser's name.
        lowers_names: names without quotes are read in lower case.
        has_hex_texts: a number such as `0x1f` is text in some places.
        plus_converts: a + before a value changes how it is compared.
        has_at_operator: @ before a value computes, and is no parameter.
        keeps_days_as_texts: a column of days holds whatever text it was given.
        row_id: the name by which statements call the physical row id; empty if they cannot.
        idle_words: what may follow DELETE and says nothing of the rows.
        lenient_words: what may follow DELETE and passes over errors.
    """

    lowers_names: bool
    has_hex_texts: bool
    plus_converts: bool
    has_at_operator: bool
    keeps_days_as_texts: bool
    row_id: str
    idle_words: frozenset[str]
    lenient_words: frozenset[str]

    def __new__(
        cls,
        name: str,
        *,
        lowers_names: bool = False,
        has_hex_texts: bool = False,
        plus_converts: bool = False,
        has_at_operator: bool = False,
        keeps_days_as_texts: bool = False,
        row_id: str = "",
        idle_words: frozenset[str] = frozenset(),
        lenient_words: frozenset[str] = frozenset(),
    ) -> SqlDialect:
        made = super().__new__(cls, name)
        made.lowers_names, made.has_hex_texts = lowers_names, has_hex_texts
        made.plus_converts, made.has_at_operator = plus_converts, has_at_operator
        made.keeps_days_as_texts, made.row_id = keeps_days_as_texts, row_id
        made.idle_words, made.lenient_words = idle_words, lenient_words
        return made


@dataclass(frozen=True)
class Traits:
    """What a database system is like.

    Args:
        name: the system's name, for people.
        sql_dialect: its SQL, as the parser and what reads it must know it.
        core_checks_foreign_keys: the core proves before the commit that no row is left without its
            parent, and the system checks nothing. Otherwise the system checks after each statement,
            or at the commit if it was told so.
        has_single_writer: nobody else can change a row while a session writes.
        has_inheritance: a table can inherit from another one, and its rows count as that one's too.
        has_transactional_ddl: a constraint can be made in the transaction that removes the rows.
        indexes_after_filling: an index of a temporary table is made once its rows are there, as
            a row can be too long for it.
        joins_in_deletions: a deletion looks rows of other tables up together, as a query does;
            elsewhere it may do so once for each row.
        joins_repeated_keys: rows are found quicker by a list of keys that may repeat than by one
            that is made unique first.
        own_numbers: types whose stored values are numbers of this one database's catalogue.
        recurses_by_union: a recursive query can drop the rows that it finds again.
        counts_changes: the system tells how many rows a session has changed, triggers and cascades
            included; else the statements' own numbers are all there is.
        needs_key_tables_first: every key table must be made before the first row is looked at.
    """

    name: str
    sql_dialect: SqlDialect
    core_checks_foreign_keys: bool = False
    has_single_writer: bool = False
    has_inheritance: bool = False
    has_transactional_ddl: bool = True
    indexes_after_filling: bool = False
    joins_in_deletions: bool = False
    joins_repeated_keys: bool = False
    own_numbers: frozenset[str] = frozenset()
    recurses_by_union: bool = True
    counts_changes: bool = True
    needs_key_tables_first: bool = False


@dataclass(frozen=True)
class Mode:
    """How a session works, given when it is opened.

    Args:
        stored_forms: values are read and written in the forms that receipts hold.
        plain: statements have a form that other systems, and people, can read.
        checked_by_system: all is planned as for a system that checks foreign keys after each
            statement.
    """

    stored_forms: bool = False
    plain: bool = False
    checked_by_system: bool = False


USUAL = Mode()


@dataclass(frozen=True)
class ChangeCount:
    """Rows changed so far by this session, as the database counts them.

    Args:
        total: all rows removed, changed and added, where the system gives only a total.
        tables: (removed, changed, added) by table, where the system counts by table.
        counted_under: for a table whose rows are counted under another one, that one.
        times: how often the system counts each row of a table, if more than once.
        by_new_tables: names in `tables` that count up when Yeldro makes tables and fills them.
        locked: tables that this session has locked for writing, where that is all that the system
            tells; None if it does not tell.
    """

    total: int | None = None
    tables: Mapping[str, tuple[int, ...]] | None = None
    counted_under: Mapping[str, str] = field(default_factory=dict)
    times: Mapping[str, int] = field(default_factory=dict)
    by_new_tables: frozenset[str] = frozenset()
    locked: frozenset[str] | None = None

    def since(self, earlier: ChangeCount | None) -> ChangeCount:
        """Return what a later count is compared with, so that nothing in between is left out.

        Where the system counts by table, that is the earlier count, and before it no row changed.
        """
        if self.tables is None:
            return self
        tables = dict(earlier.tables or {}) if earlier else {}
        tables |= {name: self.tables[name] for name in self.by_new_tables & self.tables.keys()}
        return replace(self, tables=tables)


@dataclass(frozen=True)
class TableLocks:
    """Tables that are locked before the first row is read, until the transaction ends.

    Args:
        exclusive: the table that nobody else may use meanwhile.
        unchanging: tables in which nobody else may add, change or remove a row.
    """

    exclusive: TableName | None = None
    unchanging: tuple[TableName, ...] = ()


NOTHING = TableLocks()


class Emptying(StrEnum):
    """A quicker way than DELETE, named like the option that asks for it."""

    TRUNCATE = "truncate"
    KEEP_SURVIVORS = "keep_survivors"
    BY_PARTITION = "by_partition"


@dataclass(frozen=True)
class Consequences:
    """What emptying a table at once means on a system.

    Args:
        forbidden: what stands in the way, as phrases; empty if nothing does.
        commits_by_itself: it ends the transaction, so nothing can be rolled back.
        notes: what to know before, as sentences.
        beside_others: other tables may reference it, and other steps may go before and after.
        cost_of_writing: how many rows are removed in the time that writing one back takes, about.
    """

    forbidden: tuple[str, ...] = ()
    commits_by_itself: bool = False
    notes: tuple[str, ...] = ()
    beside_others: bool = False
    cost_of_writing: int = 1


@dataclass(frozen=True)
class RowRefusal:
    """Why a database refuses a row.

    Args:
        reason: in the system's own words, without values that nobody can read.
        constraint: the constraint or unique index in the way; empty if the system names none.
    """

    reason: str
    constraint: str = ""


@dataclass(frozen=True)
class Partition:
    """What a partition is a part of.

    Args:
        parts: those in which its rows live.
    """

    whole: TableName
    parts: Parts


@dataclass(frozen=True)
class Prevention:
    """A constraint or unique index that lets no two equal rows in.

    Args:
        statement: the statement that makes it.
        compares: what it compares, if that is not just what the rows are grouped by.
        tried: the system has taken it in this session, on a trial that left nothing.
    """

    statement: str
    compares: tuple[Compared, ...] = ()
    tried: bool = False


@dataclass(frozen=True)
class LastingEffect:
    """Something that a trigger can do and a rollback does not undo.

    Args:
        trigger: its name.
        name: the table or function by which it does that; the user accepts it by this name.
        said: what it does, as the end of a sentence.
        remedy: what helps, as the beginning of a sentence.
        of_event: it belongs to no table, but to an event.
    """

    trigger: str
    name: str
    said: str
    remedy: str
    of_event: bool = False

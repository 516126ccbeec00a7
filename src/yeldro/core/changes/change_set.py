"""What is to be done to rows, in order, and what must hold beside it."""

from __future__ import annotations

from abc import ABC, abstractmethod
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.database.identity import copies_of_rows
from yeldro.core.model.messages.errors import Fault
from yeldro.core.model.work.steps import Action, Step

if TYPE_CHECKING:
    from yeldro.core.database.facts import Emptying
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table
    from yeldro.core.model.work.counts import Ledger, Tally
    from yeldro.core.receipts.writer import ReceiptWriter


@dataclass(frozen=True)
class RowSet:
    """Some rows of one table.

    Args:
        source: the table as it stands in statements.
        condition: true for exactly the rows of the set.
        rows: their number.
        keys: the key table with their row keys and referenced columns, if there is one.
        copies: only as many identical rows are meant as `keys` says for each row hash.
    """

    table: Table
    source: sa.TableClause
    condition: sql.Predicate
    rows: int
    keys: sa.TableClause | None = None
    copies: bool = False


@dataclass(frozen=True)
class OneRow:
    """One of several rows that are equal, whichever: no key tells them apart.

    Args:
        condition: true for each of them.
        values: new values by column, if the row is changed.
    """

    condition: sa.ColumnElement[bool]
    values: Mapping[str, sa.ColumnElement[Any]] = field(default_factory=dict)


@dataclass(frozen=True)
class NewRows:
    """Rows that are added.

    Args:
        names: the columns that `query` has values for, in its order.
    """

    names: Sequence[str]
    query: sa.Select[Any]


@dataclass(frozen=True)
class Change:
    """What one statement does to rows of one table.

    Args:
        step: what is counted and shown; a step without a number belongs to those around it, and
            may affect any number of rows.
        rows: the rows that go or change; of rows that come, their table and number.
        values: new values by column, for rows that are changed.
        added: the rows, if they are added.
        one_by_one: the rows, if no key tells which of several equal ones are meant.
        at_once: keys move together with the rows that reference them; a system that checks each
            statement needs all such changes in one.
        emptying: a quicker way than DELETE.
    """

    step: Step
    rows: RowSet
    values: Mapping[str, sa.ColumnElement[Any]] = field(default_factory=dict)
    added: NewRows | None = None
    one_by_one: Iterable[OneRow] | None = None
    at_once: bool = False
    emptying: Emptying | None = None

    @property
    def touched(self) -> Touched:
        """The table, and what is done to rows of it."""
        columns = None if self.step.action in (Action.REMOVE, Action.ADD) else tuple(self.values)
        return Touched(self.step.action, self.rows.table, columns)


@dataclass(frozen=True)
class Touched:
    """A table, and what is done to rows of it.

    Args:
        columns: those that get new values, None where whole rows go or come.
        commits_by_itself: the system commits at once what goes.
    """

    action: Action
    table: Table
    columns: tuple[str, ...] | None = None
    commits_by_itself: bool = False

    @property
    def event(self) -> str:
        """The event that fires triggers: insert, update or delete."""
        return {Action.REMOVE: "delete", Action.ADD: "insert"}.get(self.action, "update")


@dataclass(frozen=True)
class Affected:
    """What a statement did.

    Args:
        rows: the rows that it removed, changed or added.
        written_again: how many more the database counts, as rows that stay were written again.
    """

    rows: int
    written_again: int = 0


@dataclass(frozen=True)
class Acceptances:
    """What the user accepts by name.

    Args:
        triggers: triggers whose changes to other rows are accepted.
        no_way_back: tables in which nothing can be rolled back, or that triggers write to though
            it cannot be rolled back; None if everything must be rolled back, as in a rehearsal.
        differences: tables whose rows may come back different.
    """

    triggers: tuple[str, ...] = ()
    no_way_back: tuple[str, ...] | None = ()
    differences: tuple[str, ...] = ()


class ChangeSet(ABC):
    """A complete set of changes, in order, with what must hold beside it.

    Attributes:
        session: the session in which all of it happens.
        accepted: what the user accepts by name.
    """

    session: Session
    accepted: Acceptances

    @property
    @abstractmethod
    def named_table(self) -> str:
        """The table after which a receipt is called."""

    @property
    @abstractmethod
    def steps(self) -> Sequence[Step]:
        """The steps in order, each with the number of rows that it must affect."""

    @property
    @abstractmethod
    def touched(self) -> Sequence[Touched]:
        """The tables, and what is done to rows of them, in order."""

    @abstractmethod
    def lock(self) -> None:
        """Lock what must stay as it was found, beside the rows themselves; be ready to begin."""

    @abstractmethod
    def changes(self, receipt: ReceiptWriter | None) -> Iterator[Sequence[Change]]:
        """Yield the changes in order, those together that one statement must make.

        What a receipt holds of a change is stored before the change is yielded.
        """

    @abstractmethod
    def carry_out(self, change: Change) -> Affected:
        """Execute a change; return the rows that it affected."""

    @abstractmethod
    def corrections(self) -> Iterator[Change]:
        """Yield what has to be set once more, when all changes are made and counted.

        Raises:
            YeldroError: what there is now is not what was wanted.
        """

    @abstractmethod
    def prove(self, ledger: Ledger) -> None:
        """Look once more, when everything is counted.

        Raises:
            CountMismatch: other rows are left than should be.
        """

    @abstractmethod
    def store_after(self, receipt: ReceiptWriter, tally: Tally) -> None:
        """Store what is known only when all changes are made."""

    @abstractmethod
    def prove_at_the_end(self) -> None:
        """Look once more, when all change sets of the transaction are carried out.

        Raises:
            CountMismatch: a row is left without its parent.
        """


def rows_in(
    session: Session, found: RowSet, values: Sequence[sa.ColumnElement[Any]]
) -> sa.Select[Any]:
    """Return a query for `values` of the rows of a set."""
    if found.copies:
        if found.keys is None:
            raise Fault(f"the rows of {found.table.name} have no key table")
        return copies_of_rows(session, found.table, found.keys, values)
    return sa.select(*values).select_from(found.source).where(found.condition)

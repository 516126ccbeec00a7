"""Why rows of a receipt went or changed: the chains of its stored rows that lead to each.

Everything is read from the receipt. A row's parent is the row that went whose stored values are the
same; where the database holds two forms for equal, a parent may not be found, and that is said.
"""

from __future__ import annotations

import csv
import sqlite3
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation
from typing import Any

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import same_name
from yeldro.core.model.work.chains import Fate, Key, Reason, Why, chains_to, named, shown
from yeldro.core.model.work.steps import MATCHED, Action, Reached
from yeldro.core.receipts.format import quoted
from yeldro.core.receipts.reader import Receipt, ReceiptStep, opened

_MOST_ROWS = 500  # that are followed upwards from one row
_FATES = {
    Action.REMOVE: Fate.REMOVED,
    Action.DETACH: Fate.DETACHED,
    Action.REPOINT: Fate.REPOINTED,
    Action.FILL: Fate.FILLED,
}
_BEFORE = ("value", "computed", "old", "was", "key")  # roles that hold what a row was


@dataclass(frozen=True)
class _Node:
    """A stored row."""

    step: ReceiptStep = field(compare=False, hash=False)
    n: int
    place: int


def why(receipt: Receipt, asked: Sequence[str]) -> tuple[Why, ...]:
    """Tell why rows went or changed.

    Args:
        asked: each as `TABLE:KEY`; the values of a key of several columns with commas between.

    Raises:
        UsageError: the receipt is a restore's or holds no rows, or there is no such row in it.
    """
    if not asked:
        return ()
    if receipt.is_of_restore:
        raise UsageError(
            f"The receipt {receipt.id} is of a restore: its rows were put back, or linked again.",
            "Ask the receipt of the run whose rows they are.",
        )
    if not receipt.holds_rows:
        raise UsageError(
            f"The receipt {receipt.id} holds no rows, so it cannot tell why one went.",
            "Its steps name the foreign keys: ⟨receipt show⟩.",
        )
    with opened(receipt.path) as file:
        rows = _StoredRows(receipt, file)
        return tuple(rows.why(each) for each in asked)


class _StoredRows:
    """The rows of a receipt, followed from child to parent."""

    def __init__(self, receipt: Receipt, file: sqlite3.Connection) -> None:
        self.receipt = receipt
        self.file = file
        self.kept = [step for step in receipt.steps if step.rows_table and step.row_key]
        self.unclear: dict[str, None] = {}
        file.create_function("yeldro_alike", 2, _are_alike, deterministic=True)

    def why(self, typed: str) -> Why:
        table, key = self._table_and_key(typed)
        columns = next(step.row_key for step in self.kept if str(step.table) == table)
        self.unclear = {}
        of_table = [step for step in self.kept if str(step.table) == table]
        for same in ("CAST({} AS TEXT) = ?", "yeldro_alike({}, ?)"):
            found = [(each, n) for each in of_table for n in self._named(each, columns, key, same)]
            if found:
                break
        else:
            examples = (self._first_key(step) for step in of_table)
            like = next(
                (f" A key is written like {table}:{each}." for each in examples if each), ""
            )
            raise UsageError(
                f"This receipt holds no row {typed}.{like}",
                "⟨receipt export⟩ writes all rows that it holds.",
            )
        chains: list[tuple[Reason, ...]] = []
        left_out = False
        for step, place in found:
            some, more = self._chains(_Node(step, step.n, place))
            chains += some
            left_out = left_out or more
        first, place = found[0]
        fates = tuple(dict.fromkeys(_FATES[step.action] for step, _ in found))
        return Why(
            table,
            columns,
            self._key(_Node(first, first.n, place)),
            fates,
            tuple(dict.fromkeys(chains)),
            left_out,
            tuple(self.unclear),
        )

    def _table_and_key(self, typed: str) -> tuple[str, tuple[str, ...]]:
        known = list(dict.fromkeys(str(step.table) for step in self.kept))
        for place in (place for place, sign in enumerate(typed) if sign == ":"):
            table = same_name(typed[:place], known)
            if table:
                return table, tuple(next(csv.reader([typed[place + 1 :]]), []))
        raise UsageError(
            f"{typed!r} names no row of this receipt.",
            f"Write TABLE:KEY; it holds rows of {', '.join(known)}."
            if known
            else "It holds no rows of a table with a key.",
        )

    def _named(
        self, step: ReceiptStep, columns: Sequence[str], key: Sequence[str], same: str
    ) -> Iterator[int]:
        """Yield the places of the rows with a key, as people type it.

        Args:
            same: SQL that compares a stored value with a typed one.
        """
        stored = [_stored_before(step, name) for name in columns]
        if len(key) != len(columns):
            raise UsageError(
                f"{','.join(key)!r} is no key of {step.table}: that is {', '.join(columns)}.",
                f"Write {step.table}:{','.join(name.upper() for name in columns)}.",
            )
        if None not in stored:
            condition = " AND ".join(same.format(name) for name in stored)
            yield from self._places(step, condition, key)

    def _places(self, step: ReceiptStep, condition: str, values: Sequence[Any]) -> list[int]:
        query = f"SELECT rowid FROM {step.rows_table} WHERE {condition}"
        return [place for (place,) in map(tuple, self.file.execute(query, tuple(values)))]

    def _key(self, node: _Node) -> Key:
        return self._values(node, node.step.row_key) or ()

    def _first_key(self, step: ReceiptStep) -> str:
        places = self.file.execute(f"SELECT min(rowid) FROM {step.rows_table}").fetchone()
        key = () if places[0] is None else self._key(_Node(step, step.n, places[0]))
        return ",".join(map(shown, key))

    def _values(self, node: _Node, columns: Sequence[str]) -> Key | None:
        """Return what a row held before the step; None if some of it is not stored."""
        stored = [_stored_before(node.step, name) for name in columns]
        if None in stored or not stored:
            return None
        query = f"SELECT {', '.join(map(str, stored))} FROM {node.step.rows_table} WHERE rowid = ?"
        return tuple(self.file.execute(query, (node.place,)).fetchone())

    def _chains(self, asked: _Node) -> tuple[list[tuple[Reason, ...]], bool]:
        """Return a shortest chain from each first row to one row, and whether there may be more."""
        found, more = chains_to(asked, self._above, _MOST_ROWS)
        return [tuple(self._reasons(chain)) for chain in found], more

    def _above(self, node: _Node) -> list[tuple[_Node, str]] | None:
        return None if self._is_matched(node) else list(self._parents(node)) or None

    def _parents(self, node: _Node) -> Iterator[tuple[_Node, str]]:
        """Yield the rows that went and that a row references, with the foreign key."""
        for reached in node.step.reached:
            values = self._values(node, reached.columns)
            if values is None or None in values:
                continue
            found = [
                _Node(step, step.n, place)
                for step in self.receipt.steps
                if step.table == reached.parent and step.action is Action.REMOVE
                for place in self._with_values(step, reached, values)
            ]
            if len(found) > 1:
                self.unclear[
                    f"Several rows of {reached.parent} that went have the values which "
                    f"{self._shown(node)} references."
                ] = None
            elif found:
                yield found[0], reached.because

    def _with_values(self, step: ReceiptStep, reached: Reached, values: Key) -> list[int]:
        stored = [_stored_before(step, name) for name in reached.referenced]
        if None in stored or not step.rows_table:
            return []
        return self._places(step, " AND ".join(f"{name} = ?" for name in stored), values)

    def _reasons(self, chain: Sequence[tuple[_Node, str]]) -> Iterator[Reason]:
        """Yield the rows of a chain, from the first one down."""
        first = chain[0][0]
        matched = self._is_matched(first)
        if not matched and first.step.reached:
            self.unclear[
                f"The row that {self._shown(first)} references is not found among the stored rows."
            ] = None
        start = (first, MATCHED if matched else first.step.because)
        for node, because in (start, *chain[1:]):
            yield Reason(str(node.step.table), self._key(node), because)

    def _is_matched(self, node: _Node) -> bool:
        """True if the selection itself picked a row that went."""
        step = node.step
        if not step.matched_table:
            return step.action is Action.REMOVE and step.because.split("; ")[0] == MATCHED
        same = " AND ".join(f"{quoted(name)} IS ?" for name in step.row_key)
        query = f"SELECT 1 FROM {step.matched_table} WHERE {same}"
        return self.file.execute(query, self._key(node)).fetchone() is not None

    def _shown(self, node: _Node) -> str:
        return named(node.step.table, self._key(node))


def _are_alike(stored: Any, typed: str) -> bool:
    """True if a stored value is what somebody typed: a number in another form, or bytes."""
    if isinstance(stored, bytes):
        return shown(stored) == typed
    try:
        return Decimal(str(stored)) == Decimal(typed)
    except InvalidOperation:
        return False


def _stored_before(step: ReceiptStep, name: str) -> str | None:
    """Return the column of the rows table that holds a column as it was before the step."""
    found = {column.role: column.stored_as for column in step.columns if column.name == name}
    return next((quoted(found[role]) for role in _BEFORE if role in found), None)

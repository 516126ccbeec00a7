"""A small sketch of a large set of keys, from which two sets can be compared.

Every key is added to a few of a fixed number of cells. A cell holds the number of its keys, their
sum, and the sum of their hashes. When one sketch is subtracted from another, the common keys cancel
out. A cell with one key left gives that key, which is then taken out of its other cells, and so on.
Differences of up to about a thousand keys are found in full, however large the sets; of larger
ones only the numbers are known. (Invertible Bloom lookup tables: Goodrich and Mitzenmacher, 2011.)
"""

from __future__ import annotations

import hashlib
import json
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa

from yeldro.core.changes.change_set import rows_in
from yeldro.core.database.identity import column_list

if TYPE_CHECKING:
    from yeldro.core.changes.change_set import Change
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Column, Table

_CELLS_IN_A_PART = 512
_PARTS = 3
_LONGEST_KEY = 200
_ROWS_AT_ONCE = 1000
_MOST_EQUAL = 10_000_000  # rows of one key that are listed


@dataclass(frozen=True)
class Difference:
    """How a set of keys differs from an earlier one.

    Args:
        new, gone: keys as JSON text; these are all of them only if `whole`.
    """

    new: tuple[str, ...]
    gone: tuple[str, ...]
    whole: bool

    def __bool__(self) -> bool:
        return bool(self.new or self.gone or not self.whole)


@dataclass
class KeySketch:
    """The sketch of a set of keys; their order does not matter.

    Args:
        cells: by place, the number of keys, their sum, and the sum of their hashes.
    """

    rows: int = 0
    cells: dict[int, tuple[int, int, int]] = field(default_factory=dict)

    def add(self, key: bytes, times: int = 1) -> None:
        """Add a key `times` times, or take it out if that is negative."""
        self.rows += times
        value, digest = _number(key), _hash(key)
        for place in _places(digest):
            count, keys, hashes = self.cells.get(place, (0, 0, 0))
            changed = (count + times, keys + times * value, hashes + times * digest)
            if any(changed):
                self.cells[place] = changed
            else:
                self.cells.pop(place, None)

    def since(self, earlier: KeySketch) -> Difference:
        """Return the keys that are new or gone since an earlier sketch."""
        left = KeySketch(self.rows - earlier.rows, dict(self.cells))
        for place, cell in earlier.cells.items():
            own = left.cells.get(place, (0, 0, 0))
            changed = (own[0] - cell[0], own[1] - cell[1], own[2] - cell[2])
            if any(changed):
                left.cells[place] = changed
            else:
                left.cells.pop(place, None)
        new: list[str] = []
        gone: list[str] = []
        taken: set[bytes] = set()  # a key comes up once, but in a sketch whose cells do not fit
        waiting = list(left.cells)
        while waiting:
            found = _single(left.cells.get(waiting.pop(), (0, 0, 0)))
            if found is None:
                continue
            key, times = found
            if key in taken or abs(times) > _MOST_EQUAL:
                break
            taken.add(key)
            (new if times > 0 else gone).extend([key.decode("utf-8", "replace")] * abs(times))
            left.add(key, -times)
            waiting += _places(_hash(key))
        return Difference(tuple(sorted(new)), tuple(sorted(gone)), not left.cells)

    def document(self) -> dict[str, Any]:
        """Return the sketch as JSON holds it."""
        cells = {str(place): [n, f"{k:x}", f"{h:x}"] for place, (n, k, h) in self.cells.items()}
        return {"rows": self.rows, "cells": cells}

    @classmethod
    def read(cls, document: Mapping[str, Any]) -> KeySketch:
        """Return a sketch from JSON.

        Raises:
            KeyError, TypeError, ValueError: the document is not a sketch.
        """
        cells, rows = {}, int(document["rows"])
        for place, (count, keys, hashes) in document["cells"].items():
            if not (0 <= int(place) < _PARTS * _CELLS_IN_A_PART and 0 < int(count) <= rows):
                raise ValueError(place)
            cells[int(place)] = (int(count), int(keys, 16), int(hashes, 16))
        return cls(rows, cells)


def sketch_of(session: Session, change: Change) -> KeySketch:
    """Return the sketch of the rows that one step is about to remove or change.

    Of each it holds the key, or all columns where the table has none, and the values that the row
    is given.
    """
    table = change.rows.table
    source = change.rows.source
    names = key_names(table)
    values: list[tuple[Column, sa.ColumnElement[Any]]] = [
        (column, source.c[column.name]) for column in column_list(table, names)
    ]
    values += [(table.by_name[name], value) for name, value in change.values.items()]
    readable = [
        session.readable(value, column).label(f"c{place}")
        for place, (column, value) in enumerate(values)
    ]
    query = rows_in(session, change.rows, readable)
    found = session.connection.execute(query.execution_options(stream_results=True))
    made = KeySketch()
    for part in found.partitions(_ROWS_AT_ONCE):
        for key in _keys(session.stored(part), len(values), len(names)):
            made.add(key)
    return made


def key_names(table: Table) -> tuple[str, ...]:
    """Return the columns that a sketch takes as the key of a table."""
    if table.has_key:
        return table.identity.columns
    return tuple(column.name for column in table.stored_columns)


def _keys(rows: Iterable[Sequence[Any]], width: int, key_width: int) -> Iterator[bytes]:
    """Yield the values of rows as JSON; a digest takes the place of long ones.

    Args:
        width: the number of values; what else a row has is left out.
        key_width: the number of those that are its key.
    """
    for row in rows:
        key = _written(row[:width])
        if len(key) > _LONGEST_KEY:
            digest = hashlib.sha256(key).hexdigest()
            key = _written([*row[:key_width], digest])
            if width == key_width or len(key) > _LONGEST_KEY:
                key = _written([digest])
        yield key


def _written(values: Sequence[Any]) -> bytes:
    return json.dumps(tuple(values), ensure_ascii=False, default=_shown).encode("utf-8", "replace")


def _shown(value: Any) -> str:
    return value.hex() if isinstance(value, bytes) else str(value)


def _hash(key: bytes) -> int:
    return int.from_bytes(hashlib.blake2b(key, digest_size=8).digest(), "big")


def _number(key: bytes) -> int:
    return int.from_bytes(b"\x01" + key, "big")


def _places(digest: int) -> list[int]:
    """Return a cell in each part, so that no key counts twice in one cell."""
    return [
        part * _CELLS_IN_A_PART + (digest >> (part * 16)) % _CELLS_IN_A_PART
        for part in range(_PARTS)
    ]


def _single(cell: tuple[int, int, int]) -> tuple[bytes, int] | None:
    """Return the only key of a cell and how often it is there; None if the cell holds several."""
    count, keys, hashes = cell
    if not count or keys % count:
        return None
    value = keys // count
    if value <= 0:
        return None
    raw = value.to_bytes((value.bit_length() + 7) // 8, "big")
    if raw[:1] != b"\x01" or _hash(raw[1:]) * count != hashes:
        return None
    return raw[1:], count

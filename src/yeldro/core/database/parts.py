"""Rows in parts that take a bounded space, whatever is in them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

_BYTES = 4_000_000  # of texts and bytes in a part, about
_LONG = {str, bytes, bytearray}


class PartSize:
    """How many rows are to be read next, by the size of those that have been read.

    A part can be larger if its rows are much longer than those before; the next ones are not.

    Attributes:
        rows: how many to read next.
    """

    def __init__(self, most: int) -> None:
        """Begin with one row.

        Args:
            most: the most rows of a part.
        """
        self._most = most
        self.rows = 1

    def note(self, rows: Sequence[Sequence[Any]]) -> None:
        """Adjust the size to rows that have been read."""
        held = sum(map(_held, zip(*rows, strict=True)))
        fitting = _BYTES * len(rows) // max(held, 1)
        self.rows = max(1, min(self._most, 2 * self.rows, fitting))


def _held(column: Sequence[Any]) -> int:
    """Return how many characters and bytes the values of a column take; others are short."""
    kinds = set(map(type, column))
    if not kinds & _LONG:
        return 0
    if kinds <= _LONG:
        return sum(map(len, column))
    return sum(len(value) for value in column if type(value) in _LONG)

"""Rows of a result, read where the driver has them in its buffer.

The driver takes each row out of its buffer in two reads and an object, and each value by two calls.
Whole packets that stand in the buffer are cut up here ("Client/server protocol", result set row).
All else stays for the driver: the end of a result, an error, a packet that is not whole yet or is
longer than 16 MB.
"""

from __future__ import annotations

import io
from collections.abc import Callable, Sequence
from typing import Any

from yeldro.engines.mariadb.encoding import ENCODING

_BUFFER = 256 * 1024  # bytes
_HEADER = 4  # bytes: the length of the packet in three, and its number
_LONGEST = 0xFFFFFF  # of a packet; a longer one goes on in the next
_NO_ROW = 0xFE  # and above: the first byte of an error, and of the end of a result
_NULL = 0xFB  # instead of a length
_UTF8 = ("ascii", "utf8", ENCODING)  # what all but half a surrogate pair is decoded as
_WIDE = {0xFC: 2, 0xFD: 3, 0xFE: 8}  # bytes of a length that does not fit into the first

Read = Callable[[bytes], Any]


def widen(connection: Any) -> None:
    """Give a new connection of the driver a buffer for many rows."""
    connection._rfile = io.BufferedReader(connection._rfile.detach(), _BUFFER)


def fetched(cursor: Any, most: int) -> Sequence[tuple[Any, ...]]:
    """Return the next rows of an unbuffered cursor, none at the end.

    Args:
        most: how many rows at most.

    Raises:
        pymysql.Error: as the driver raises it.
    """
    result = cursor._result
    reads = [_read(*each) for each in result.converters]
    rows: list[tuple[Any, ...]] = []
    while len(rows) < most and result.unbuffered_active:
        rows += _whole(result.connection, reads, most - len(rows))
        if len(rows) < most:
            row = result._read_rowdata_packet_unbuffered()
            rows += [] if row is None else [row]
    return rows


def _read(encoding: str | None, converter: Read | None) -> Read:
    """Return what makes a value of its bytes, as the driver would."""
    if encoding is None:
        return converter or bytes
    if converter in (int, float):
        return converter  # which read digits as they are
    name = "utf8" if encoding in _UTF8 else encoding
    decoded: Read = bytes.decode if name == "utf8" else lambda value: value.decode(name)
    return decoded if converter is None else lambda value: converter(decoded(value))


def _whole(connection: Any, reads: Sequence[Read], most: int) -> list[tuple[Any, ...]]:
    """Return rows whose packets stand whole in the buffer, and take them out of it."""
    try:
        buffer = connection._rfile.peek()
    except OSError:
        return []  # the driver meets it too, and tells it in its own words
    rows: list[tuple[Any, ...]] = []
    at, number, ends = 0, connection._next_seq_id, len(buffer) - _HEADER
    while at < ends and len(rows) < most:
        place = at + _HEADER
        size = buffer[at] | buffer[at + 1] << 8 | buffer[at + 2] << 16
        after = place + size
        whole = size < _LONGEST and after <= len(buffer) and buffer[at + 3] == number
        if not whole or not size or buffer[place] >= _NO_ROW:
            break
        row: list[Any] = []
        try:
            # No call for a value but the one that makes it: this is done millions of times.
            for read in reads:
                length = buffer[place]
                place += 1
                if length >= _NULL:
                    if length == _NULL:
                        row.append(None)
                        continue
                    start = place + _WIDE[length]
                    length = int.from_bytes(buffer[place:start], "little")
                    place = start
                end = place + length
                row.append(read(buffer[place:end]))
                place = end
        except UnicodeDecodeError:
            break  # half of a surrogate pair, which the driver's encoding reads
        rows.append(tuple(row))
        at, number = after, (number + 1) % 256
    connection._rfile.read(at)
    connection._next_seq_id = number
    return rows

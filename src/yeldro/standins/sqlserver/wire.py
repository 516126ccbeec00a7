"""The published protocol of SQL Server (MS-TDS 7.4), as far as its drivers use it: bytes only."""

from __future__ import annotations

import select
import socket
import struct
import uuid
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from datetime import date, datetime, time, timedelta
from decimal import Decimal
from enum import IntEnum
from typing import Any

_HEADER = struct.Struct(">BBHHBB")  # kind, last, length, process, number, window
_PACKET = 4096
_LAST = 1
_VERSION = 0x74000004
_COLLATION = bytes.fromhex("0904d00034")  # Latin1_General_CI_AS
_LONGEST = 4000  # characters of NVARCHAR that is not max
_FIRST_DAY = date(1, 1, 1)


class Kind(IntEnum):
    """What a packet from a client is."""

    BATCH = 1
    PROCEDURE = 3
    ATTENTION = 6
    TRANSACTION = 14
    LOGIN = 16
    PRELOGIN = 18


class Change(IntEnum):
    """What a session tells that has changed in it."""

    DATABASE = 1
    LANGUAGE = 2
    PACKET_SIZE = 4
    COLLATION = 7
    BEGIN = 8
    COMMIT = 9
    ROLLBACK = 10


MORE, ERROR, COUNT, ATTENTION = 0x1, 0x2, 0x10, 0x20  # bits of DONE


@dataclass(frozen=True)
class Login:
    """What a client says when it logs in."""

    user: str
    password: str
    program: str
    database: str


class Connection:
    """Whole messages over a socket, whatever packets they come in."""

    def __init__(self, opened: socket.socket) -> None:
        self._socket = opened

    def receive(self) -> tuple[Kind, bytes] | None:
        """Return the next message; None if the client is gone."""
        parts: list[bytes] = []
        while True:
            head = self._exactly(_HEADER.size)
            if head is None:
                return None
            kind, last, length, *_ = _HEADER.unpack(head)
            body = self._exactly(length - _HEADER.size)
            if body is None:
                return None
            parts.append(body)
            if last & _LAST:
                return Kind(kind), b"".join(parts)

    def _exactly(self, length: int) -> bytes | None:
        found = b""
        while len(found) < length:
            part = self._socket.recv(length - len(found))
            if not part:
                return None
            found += part
        return found

    def has_more(self) -> bool:
        """True if the client has sent something, or is gone, while it is waited for an answer."""
        return bool(select.select([self._socket], [], [], 0)[0])

    def send(self, message: bytes) -> None:
        """Send an answer."""
        room = _PACKET - _HEADER.size
        starts = range(0, max(len(message), 1), room)
        packets = []
        for number, start in enumerate(starts, 1):
            body = message[start : start + room]
            last = _LAST if start + room >= len(message) else 0
            packets.append(_HEADER.pack(4, last, len(body) + _HEADER.size, 0, number % 256, 0))
            packets.append(body)
        self._socket.sendall(b"".join(packets))


def prelogin() -> bytes:
    """Return the answer to the first message: no encryption, one statement at a time."""
    options = [
        (0, bytes([16, 0, 3, 232, 0, 0])),
        (1, b"\x02"),
        (2, b"\x00"),
        (3, b""),
        (4, b"\x00"),
    ]
    place, head, body = 5 * len(options) + 1, b"", b""
    for kind, value in options:
        head += struct.pack(">BHH", kind, place + len(body), len(value))
        body += value
    return head + b"\xff" + body


def read_login(message: bytes) -> Login:
    """Return what a LOGIN7 message says."""

    def field(number: int) -> bytes:
        place, length = struct.unpack_from("<HH", message, 36 + 4 * number)
        return message[place : place + 2 * length]

    hidden = bytes(((each ^ 0xA5) << 4 & 0xF0) | ((each ^ 0xA5) >> 4) for each in field(2))
    user, program, database = (field(n).decode("utf-16-le") for n in (1, 3, 8))
    return Login(user, hidden.decode("utf-16-le"), program, database)


def read_batch(message: bytes) -> str:
    """Return the SQL of a batch, which follows headers that tell their own length."""
    (headers,) = struct.unpack_from("<I", message)
    return message[headers:].decode("utf-16-le")


def logged_in(program: str, database: str) -> bytes:
    """Return the answer to a login."""
    name = _short(program)
    body = struct.pack(">BI", 1, _VERSION) + name + bytes([16, 0, 3, 232])
    return b"".join(
        (
            changed(Change.DATABASE, _short(database), _short("master")),
            said(5701, f"Changed database context to '{database}'.", 0),
            changed(Change.COLLATION, _bytes(_COLLATION), _bytes(b"")),
            changed(Change.LANGUAGE, _short("us_english"), _short("")),
            said(5703, "Changed language setting to us_english.", 0),
            b"\xad" + struct.pack("<H", len(body)) + body,
            changed(Change.PACKET_SIZE, _short(str(_PACKET)), _short(str(_PACKET))),
            done(),
        )
    )


def changed(what: Change, now: bytes, before: bytes) -> bytes:
    """Return the token that tells a change of the session."""
    body = bytes([what]) + now + before
    return b"\xe3" + struct.pack("<H", len(body)) + body


def database_changed(name: str, before: str) -> bytes:
    """Return the token for another database."""
    return changed(Change.DATABASE, _short(name), _short(before))


def transaction_changed(what: Change, number: int) -> bytes:
    """Return the token for a transaction that begins or ends."""
    name, none = _bytes(struct.pack("<Q", number)), _bytes(b"")
    return changed(what, name, none) if what is Change.BEGIN else changed(what, none, name)


def said(number: int, text: str, severity: int) -> bytes:
    """Return an error, or a message if its severity is 10 or less."""
    words = text.encode("utf-16-le")
    body = struct.pack("<iBBH", number, 1, severity, len(text)) + words
    body += _short("standin") + _short("") + struct.pack("<i", 1)
    token = b"\xaa" if severity > 10 else b"\xab"
    return token + struct.pack("<H", len(body)) + body


def done(rows: int | None = None, status: int = 0, *, within: bool = False) -> bytes:
    """Return the end of a statement.

    Args:
        rows: how many it gave or changed, None if it counts none.
        within: it stands in a trigger.
    """
    status |= 0 if rows is None else COUNT
    return (b"\xff" if within else b"\xfd") + struct.pack("<HHQ", status, 0, rows or 0)


def result(names: Sequence[str], rows: Sequence[Sequence[Any]]) -> bytes:
    """Return the columns of a result, and its rows.

    The type of a column is that of its first value that is not NULL.
    """
    columns = [_column([row[place] for row in rows]) for place in range(len(names))]
    head = b"".join(
        struct.pack("<IH", 0, 9) + column.declared + _short(name)
        for name, column in zip(names, columns, strict=True)
    )
    listed = (
        b"\xd1" + b"".join(c.written(value) for c, value in zip(columns, row, strict=True))
        for row in rows
    )
    return b"\x81" + struct.pack("<H", len(names)) + head + b"".join(listed)


@dataclass(frozen=True)
class _Column:
    """How the values of a column are declared and written."""

    declared: bytes
    kind: type
    in_parts: bool = False
    scale: int = 0

    def written(self, value: Any) -> bytes:
        if value is None:
            wide = b"\xff" * 8 if self.in_parts else b"\xff\xff"
            return wide if self.kind in (str, bytes) else b"\x00"
        if self.kind in (str, bytes):
            text = _encoded(value)
            if self.in_parts:
                parts = struct.pack("<I", len(text)) + text if text else b""
                return struct.pack("<Q", len(text)) + parts + b"\x00" * 4
            return struct.pack("<H", len(text)) + text
        plain: bytes = _WRITTEN[self.kind](value, self.scale)
        return bytes([len(plain)]) + plain


def _column(values: Iterable[Any]) -> _Column:
    found = [each for each in values if each is not None]
    kinds = {type(each) for each in found}
    kind = kinds.pop() if len(kinds) == 1 else (str if kinds - {int, float} else float)
    if not found or kind is str:
        long = any(len(str(each)) > _LONGEST for each in found)
        size = 0xFFFF if long else 2 * _LONGEST
        return _Column(b"\xe7" + struct.pack("<H", size) + _COLLATION, str, long)
    if kind is bytes:
        long = any(len(each) > 2 * _LONGEST for each in found)
        return _Column(b"\xa5" + struct.pack("<H", 0xFFFF if long else 2 * _LONGEST), bytes, long)
    if kind is Decimal:
        scale = max(-min(int(each.as_tuple().exponent), 0) for each in found)
        return _Column(bytes([0x6A, 17, 38, scale]), Decimal, scale=scale)
    declared = _WITH_OFFSET if kind is datetime and found[0].tzinfo else _DECLARED[kind]
    return _Column(declared, kind)


def _encoded(value: Any) -> bytes:
    return value if isinstance(value, bytes) else str(value).encode("utf-16-le", "surrogatepass")


def _decimal(value: Decimal, scale: int) -> bytes:
    whole = int(abs(value).scaleb(scale))
    return bytes([value >= 0]) + whole.to_bytes(16, "little")


def _day(value: date) -> bytes:
    return (value - _FIRST_DAY).days.to_bytes(3, "little")


def _clock(value: time | datetime) -> bytes:
    seconds = (value.hour * 60 + value.minute) * 60 + value.second
    return ((seconds * 1_000_000 + value.microsecond) * 10).to_bytes(5, "little")


def _moment(value: datetime) -> bytes:
    offset = value.utcoffset()
    if offset is None:
        return _clock(value) + _day(value.date())
    there = value.replace(tzinfo=None) - offset
    minutes = offset // timedelta(minutes=1)
    return _clock(there) + _day(there.date()) + struct.pack("<h", minutes)


_WITH_OFFSET = b"\x2b\x07"
_DECLARED = {
    int: b"\x26\x08",
    bool: b"\x68\x01",
    float: b"\x6d\x08",
    date: b"\x28",
    time: b"\x29\x07",
    datetime: b"\x2a\x07",
    uuid.UUID: b"\x24\x10",
}
_WRITTEN: dict[type, Any] = {
    int: lambda value, _: struct.pack("<q", value),
    bool: lambda value, _: bytes([value]),
    float: lambda value, _: struct.pack("<d", value),
    date: lambda value, _: _day(value),
    time: lambda value, _: _clock(value),
    datetime: lambda value, _: _moment(value),
    uuid.UUID: lambda value, _: value.bytes_le,
    Decimal: _decimal,
}


def _short(text: str) -> bytes:
    return bytes([len(text)]) + text.encode("utf-16-le")


def _bytes(value: bytes) -> bytes:
    return bytes([len(value)]) + value

"""Functions of Transact-SQL that SQLite does not have."""

from __future__ import annotations

import hashlib
import math
import re
import sqlite3
import uuid
from collections.abc import Callable
from datetime import UTC, date, datetime, time
from decimal import Decimal, InvalidOperation
from typing import Any

from yeldro.standins.sqlserver.refusals import ReadError

_ALL_DIGITS = 3  # a style of CONVERT
_TEXTS = ("char", "nchar", "nvarchar", "varchar")
_WHOLE = ("bigint", "int", "smallint", "tinyint", "bit")
_RANGES = {
    "bigint": (-(2**63), 2**63 - 1),
    "int": (-(2**31), 2**31 - 1),
    "smallint": (-(2**15), 2**15 - 1),
    "tinyint": (0, 255),
}
_MOMENTS = {"datetime", "datetime2", "smalldatetime", "datetimeoffset"}
_FRACTION = re.compile(r"(\.\d*?)0*(?=$| ?[+-]\d\d:)")
_DISGUISE, _LAST_HALF = 0x100000, 0xDFFF
_HALVES = re.compile("[\U0010d800-\U0010dbff][\U0010dc00-\U0010dfff]")
_HALF = re.compile("[\U0010d800-\U0010dfff]")
CHECKED = {*_TEXTS, *_RANGES, *_MOMENTS, "bit", "date", "time", "binary", "varbinary",
           "uniqueidentifier", "decimal", "numeric"}  # fmt: skip


def add_functions(file: sqlite3.Connection) -> None:
    """Give a connection of SQLite the functions that depend on nothing but their arguments."""
    lasting: tuple[tuple[str, int, Callable[..., Any]], ...] = (
        ("datalength", 1, _length),
        ("nchar", 1, _character),
        ("yeldro_len", 1, _characters),
        ("yeldro_convert", 3, converted),
        ("yeldro_sha256", 1, _sha256),
        ("yeldro_concat", -1, _concatenated),
        ("yeldro_plus", 2, _plus),
        ("lower", 1, lambda text: None if text is None else str(text).lower()),
        ("upper", 1, lambda text: None if text is None else str(text).upper()),
    )
    for name, arguments, function in lasting:
        file.create_function(name, arguments, function, deterministic=True)
    file.create_collation("yeldro_blind", lambda one, other: _order(one.lower(), other.lower()))
    file.create_collation("yeldro_exact", _order)
    file.create_function("newid", 0, lambda: str(uuid.uuid4()).upper())
    file.create_function("has_perms_by_name", -1, lambda *_: 1)
    file.create_function("serverproperty", 1, _property)
    file.create_function("sysdatetime", 0, _now)
    file.create_function("sysutcdatetime", 0, _now)
    file.create_function("getdate", 0, _now)
    file.create_function("sysdatetimeoffset", 0, lambda: f"{_now()} +00:00")


def _order(one: str, other: str) -> int:
    """Compare two texts; blanks at the end do not count, whatever the collation."""
    one, other = one.rstrip(" "), other.rstrip(" ")
    return (one > other) - (one < other)


def _length(value: Any) -> int | None:
    if value is None or isinstance(value, bytes):
        return None if value is None else len(value)
    return 8 if isinstance(value, int | float) else 2 * len(value)


def _characters(value: Any) -> int | None:
    """Return the length of a text without the blanks at its end (LEN)."""
    return None if value is None else len(str(value).rstrip(" "))


def converted(declared: str, value: Any, style: int) -> Any:
    """Return a value converted with a style (CAST and CONVERT), which cuts what is too long."""
    if value is None:
        return None
    kind, _, size = declared.removesuffix(")").partition("(")
    made = _as(kind, value, style)
    is_cut = kind in (*_TEXTS, "binary", "varbinary") and size.isdigit()
    return made[: int(size)] if is_cut else made


def _as(kind: str, value: Any, style: int) -> Any:
    if kind in _TEXTS:
        if isinstance(value, bytes):
            if style:
                return ("0x" if style == 1 else "") + value.hex().upper()
            return value.decode("utf-16-le", "surrogatepass")
        if isinstance(value, float):
            # SQLite holds decimals as such numbers, too, and these are written with all digits.
            return format(value, ".17g" if style == _ALL_DIGITS else ".15g")
        return str(value)
    if kind in ("binary", "varbinary"):
        if isinstance(value, str):
            return value.encode("utf-16-le", "surrogatepass")
        return value if isinstance(value, bytes) else int(value).to_bytes(8, "big", signed=True)
    if kind in _MOMENTS:
        return moment(str(value))
    if kind == "date":
        return date.fromisoformat(str(value)[:10]).isoformat()
    if kind in _WHOLE and isinstance(value, str | float):
        return int(value)
    if kind in ("float", "real") and isinstance(value, str | int):
        return float(value)
    return value


def _sha256(value: Any) -> bytes | None:
    if value is None:
        return None
    data = value if isinstance(value, bytes) else str(value).encode("utf-16-le", "surrogatepass")
    return hashlib.sha256(data).digest()


def _concatenated(*values: Any) -> str:
    """Return the texts of values one after the other; NULL is an empty text (CONCAT)."""
    return "".join("" if each is None else str(each) for each in values)


def _character(number: int) -> str:
    """Return a character (NCHAR); halves of a pair, which SQLite cannot hold, stand in disguise."""
    return chr(number + (_DISGUISE if 0xD800 <= number <= _LAST_HALF else 0))


def _joined(text: str) -> str:
    """Return a text in which two halves that meet are the character that they stand for."""
    return _HALVES.sub(
        lambda pair: "".join(chr(ord(each) - _DISGUISE) for each in pair[0])
        .encode("utf-16-le", "surrogatepass").decode("utf-16-le"),
        text,
    )  # fmt: skip


def _plus(left: Any, right: Any) -> Any:
    """Add numbers; put texts, or bytes, together."""
    if left is None or right is None:
        return None
    result = left + right
    if isinstance(result, str):
        return _joined(result)
    return None if isinstance(result, float) and math.isnan(result) else result


def _property(name: str) -> Any:
    return {"productmajorversion": "16", "edition": "stand-in", "engineedition": 3}.get(
        name.casefold()
    )


def _now() -> str:
    return datetime.now(UTC).strftime("%Y-%m-%d %H:%M:%S.%f")


def stored(declared: str, value: Any) -> Any:
    """Return a value as a column holds it.

    Args:
        declared: the column's type.

    Raises:
        ReadError: the column cannot hold it.
    """
    if value is None:
        return None
    kind, _, sizes = declared.removesuffix(")").partition("(")
    try:
        return _as_kind(kind, sizes.split(","), value)
    except (ValueError, InvalidOperation) as error:
        raise ReadError(241, f"Conversion failed when converting to {declared}.") from error


def _as_kind(kind: str, sizes: list[str], value: Any) -> Any:
    if kind in _RANGES:
        number = int(value)
        lowest, highest = _RANGES[kind]
        if not lowest <= number <= highest:
            raise ReadError(8115, f"Arithmetic overflow error converting expression to {kind}.")
        return number
    if kind == "bit":
        return int(bool(int(value)))
    if kind in _TEXTS or kind in ("binary", "varbinary"):
        return _fitted(kind, sizes[0], value)
    if kind == "date":
        return date.fromisoformat(str(value)[:10]).isoformat()
    if kind == "time":
        return _FRACTION.sub(_without_zeros, time.fromisoformat(str(value)).isoformat())
    if kind in _MOMENTS:
        return moment(str(value))
    if kind == "uniqueidentifier":
        return str(uuid.UUID(str(value))).upper()
    if kind in ("decimal", "numeric") and len(sizes) > 1:
        exact = Decimal(str(value)).quantize(Decimal(1).scaleb(-int(sizes[1])))
        return str(exact)  # which SQLite keeps as a number
    return value


def _fitted(kind: str, size: str, value: Any) -> Any:
    """Return a text or bytes, with blanks or zeros at the end where the length is fixed."""
    if kind in _TEXTS and isinstance(value, bytes):
        value = value.decode("utf-16-le", "surrogatepass")
    elif kind in _TEXTS:
        value = str(value)
        if _HALF.search(value):
            raise ReadError(50000, "The stand-in cannot hold half of a pair of surrogates.")
    length = 1 if not size else 2**31 if size == "max" else int(size)
    if len(value) > length:
        raise ReadError(2628, "String or binary data would be truncated.")
    if kind in ("char", "nchar"):
        return value.ljust(length)
    return value.ljust(length, b"\0") if kind == "binary" else value


def moment(text: str) -> str:
    """Return a day and time as they are stored: with a blank between, and no needless zeros."""
    day, clock = text[:10], text[11:] or "00:00:00"
    date.fromisoformat(day)
    return f"{day} {_FRACTION.sub(_without_zeros, clock)}"


def _without_zeros(found: re.Match[str]) -> str:
    return found[1].rstrip("0").rstrip(".")

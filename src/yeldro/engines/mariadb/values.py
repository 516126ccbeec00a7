"""Lossless forms of MariaDB's values, and conversions back."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Column

SORTED_BYTES = 1024
_TEXT = "LONGTEXT CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"
_WHOLE = re.compile(r"(tiny|small|medium)?int\b|int\b|bigint\b|year\b")
_BYTES = re.compile(
    r"(var)?binary\b|(tiny|medium|long)?blob\b|vector\b|.*CHARACTER SET|geometry|point|linestring"
    r"|polygon|multi"
)
_SHAPES = re.compile(r"geometry|point|linestring|polygon|multi|vector")
_LETTERS = re.compile(r"(var)?char\b|(tiny|medium|long)?text\b|enum\b|set\b")
_EXACT = re.compile(r"decimal\(\d+,\d+\)")
_LONG = re.compile(r"(tiny|medium|long)?(text|blob)\b")


def readable(value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Return MariaDB's own text form, or the value if SQLite can hold it as it is."""
    declared = column.type
    if _BYTES.match(declared):
        return _cast(value, "BINARY")
    kind = staging_type(column)
    if kind == "double":
        return sa.type_coerce(_cast(value, "DOUBLE"), sa.Double())
    if kind == "bigint":
        filled = declared.startswith("year") or "zerofill" in declared
        return _cast(value, "UNSIGNED") if filled else value
    if declared.startswith("enum"):
        error = sa.func.char(sa.literal_column("0"))  # the server takes it for no label
        return sa.case((value + 0 == 0, _as_text(error)), else_=_as_text(value))
    if declared.startswith("bit"):
        value = _cast(value, "UNSIGNED")
    if declared.startswith("timestamp"):
        value = _timestamp_in_utc(value)
    return _as_text(value)


def typed(value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Return a value in that form as one of the column's type, compared as the column compares."""
    declared = column.type
    charset = (column.collation or "").partition("_")[0]
    if _LETTERS.match(declared) and charset:
        converted = _Converted(value, sa.literal_column(charset))
        return sa.collate(converted, str(column.collation))
    if _EXACT.match(declared):
        return _cast(value, _EXACT.match(declared)[0])  # type: ignore[index]
    if declared.startswith(("bit", "bigint")) and staging_type(column) == _TEXT:
        return _cast(value, "UNSIGNED")
    return value


def is_as_it_was(
    value: sa.ColumnElement[Any], now: Column, stored: sa.ColumnElement[Any], then: Column
) -> sa.ColumnElement[bool]:
    """True if a column whose type has changed holds the very value that is stored.

    Exact numbers are compared as numbers, everything else by its text or bytes.
    """
    number = r"decimal|(tiny|small|medium|big)?int\b"
    if re.match(number, now.type) and re.match(number, then.type):
        exact = "DECIMAL(65,30)"
        return _cast(value, exact).is_not_distinct_from(_cast(stored, exact))
    kinds = staging_type(now), staging_type(then)
    if kinds[0] == kinds[1]:
        return readable(value, now).is_not_distinct_from(stored)
    if "LONGBLOB" in kinds:
        return _cast(value, "BINARY").is_not_distinct_from(_cast(stored, "BINARY"))
    return _as_text(value).is_not_distinct_from(_as_text(stored))


def staging_type(column: Column) -> str:
    """Return the type of a temporary column that holds what `readable` gives."""
    declared = column.type
    if _BYTES.match(declared):
        return "LONGBLOB"
    if declared.startswith("bigint") and "unsigned" in declared:
        return _TEXT
    if _WHOLE.match(declared):
        return "bigint"
    if declared.startswith(("float", "double")):
        return "double"
    return _TEXT


def text_of_bytes(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return the text whose bytes are given."""
    return _as_text(value)


def may_be_cut(column: Column) -> bool:
    """True if sorting may compare only a part of a column's value.

    A character weighs up to 4 bytes, and by the Unicode collation algorithm up to 16.
    """
    if is_long(column.type) or _SHAPES.match(column.type):
        return True
    length = re.match(r"(?:var)?(char|binary)\((\d+)\)", column.type)
    if not length:
        return False
    if length[1] == "binary":
        return int(length[2]) > SORTED_BYTES
    simple = re.search(r"_(general_ci|general_nopad_ci|bin|nopad_bin)$", column.collation or "")
    unicode = re.match(r"utf|ucs", column.collation or "")
    return int(length[2]) * (4 if simple or not unicode else 16) > SORTED_BYTES


def collation_hash(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return a hash that is equal if values are equal by their collation, whatever their length.

    Trailing spaces are ignored, except by collations with `nopad` in their name.
    """
    weights = sa.func.weight_string(value)
    one_space = sa.func.left(sa.func.concat(sa.literal_column("' '"), value), sa.text("1"))
    trimmed = _TrimmedEnd(sa.func.weight_string(one_space), weights)
    collation = sa.func.collation(value)
    pads = collation.regexp_match(sa.literal_column("'nopad|^binary$'"))
    whole = sa.case((pads, weights), else_=trimmed)
    return sa.func.unhex(sa.func.sha2(whole, sa.text("256")))


def hashed(columns: Sequence[Column], compared: Sequence[str], *, null_is_equal: bool) -> str:
    """Return a hash of several values as SQL, for a generated column.

    Args:
        compared: for each column, the SQL of what is compared.
        null_is_equal: else the hash is NULL if any value is.
    """
    missing = "'-'" if null_is_equal else "NULL"
    parts = []
    for column, value in zip(columns, compared, strict=True):
        weighed = value
        if is_letters(column):
            padded = "nopad" not in (column.collation or "")
            weighed = f"weight_string(rtrim({value}))" if padded else f"weight_string({value})"
        parts.append(f"ifnull(sha2({weighed}, 256), {missing})")
    return f"unhex(sha2(concat({', '.join(parts)}), 256))"


def is_hashed_exactly(column: Column) -> bool:
    """True if `collation_hash` is equal exactly when values are equal by the collation.

    Tested with every collation of the server: it is not so for those of several levels, and for a
    few that are made for one language.
    """
    return not re.search(r"_a[is]_c[is]$(?<!_ai_ci)|_w2$|^(big5|tis620|cp1250_czech)",
                         column.collation or "")  # fmt: skip


def declared_type(column: Column) -> str:
    """Return a column's type as its table declares it, so that both compare alike."""
    if not column.collation:
        return column.type
    charset = column.collation.partition("_")[0]
    plain = column.type.partition(" CHARACTER SET")[0]
    return f"{plain} CHARACTER SET {charset} COLLATE {column.collation}"


def is_letters(column: Column) -> bool:
    """True if a column holds text of a character set."""
    return _LETTERS.match(column.type) is not None


def is_long(declared: str) -> bool:
    """True if values of a type are too long for a plain index."""
    return _LONG.match(declared.lower()) is not None


def _timestamp_in_utc(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return a TIMESTAMP in UTC; the zero timestamp stays zero."""
    start: sa.ColumnElement[Any] = sa.literal_column("TIMESTAMP '1970-01-01 00:00:00'")
    seconds = sa.func.unix_timestamp(value)
    moved = sa.func.timestampadd(sa.literal_column("MICROSECOND"), seconds * 1000000, start)
    return sa.case((seconds == 0, sa.literal("0000-00-00 00:00:00")), else_=_as_text(moved))


class _Converted(FunctionElement[Any]):
    """CONVERT(value USING charset), for text and everything that has a text form."""

    inherit_cache = True
    name = "yeldro_converted"


class _Cast(FunctionElement[Any]):
    """CAST(value AS words), for types that the library knows no cast for."""

    inherit_cache = True
    name = "yeldro_cast"


class _TrimmedEnd(FunctionElement[Any]):
    """TRIM(TRAILING end FROM value), byte by byte where both are bytes."""

    inherit_cache = True
    name = "yeldro_trimmed_end"


@compiles(_TrimmedEnd)
def _write_trimmed_end(element: _TrimmedEnd, compiler: Any, **words: Any) -> str:
    end, value = (compiler.process(each, **words) for each in element.clauses)
    return f"TRIM(TRAILING {end} FROM {value})"


@compiles(_Converted)
def _write_converted(element: _Converted, compiler: Any, **words: Any) -> str:
    value, charset = (compiler.process(part, **words) for part in element.clauses)
    return f"CONVERT({value} USING {charset})"


@compiles(_Cast)
def _write_cast(element: _Cast, compiler: Any, **words: Any) -> str:
    value, declared = (compiler.process(part, **words) for part in element.clauses)
    return f"CAST({value} AS {declared})"


def _cast(value: sa.ColumnElement[Any], declared: str) -> sa.ColumnElement[Any]:
    return _Cast(value, sa.literal_column(declared))


def _as_text(value: sa.ColumnElement[Any]) -> sa.ColumnElement[Any]:
    """Return the text form, compared by its bytes alone."""
    return sa.collate(_Converted(value, sa.literal_column("utf8mb4")), "utf8mb4_nopad_bin")

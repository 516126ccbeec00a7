"""Lossless forms of SQL Server's values, and conversions back.

Times and exact numbers are read as text, as drivers round them; styles of CONVERT make that text
the same in every language and date format (Transact-SQL reference, "CAST and CONVERT").
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import sqlalchemy as sa
from sqlalchemy.ext.compiler import compiles
from sqlalchemy.sql.functions import FunctionElement

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import Column

EXACT = "Latin1_General_BIN2"  # compares texts by their code points
TEXT = "nvarchar(max)"
_WHOLE = {"bigint", "int", "smallint", "tinyint", "bit"}
_APPROXIMATE = {"float", "real"}
_EXACT_NUMBERS = {"decimal", "numeric", "money", "smallmoney"}
_TIMES = {"date", "datetime", "datetime2", "datetimeoffset", "smalldatetime", "time"}
_TEXTS = {"char", "nchar", "nvarchar", "varchar"}
_BYTES = {"binary", "varbinary"}
_STYLES = {
    **dict.fromkeys(("float", "real"), 3),  # 17 digits, which tell every value apart
    **dict.fromkeys(("money", "smallmoney"), 2),  # all four decimals
    **dict.fromkeys(_TIMES, 121),  # ODBC canonical, with all digits of a second
}


class _Convert(FunctionElement[Any]):
    """CONVERT(type, value, style)."""

    inherit_cache = False

    def __init__(self, declared: str, value: sa.ColumnElement[Any], style: int) -> None:
        super().__init__(value)
        self.declared, self.style = declared, style


@compiles(_Convert)
def _write_convert(element: _Convert, compiler: Any, **words: Any) -> str:
    (value,) = (compiler.process(each, **words) for each in element.clauses)
    style = f", {element.style}" if element.style else ""
    return f"CONVERT({element.declared}, {value}{style})"


def bare(column: Column) -> str:
    """Return the name of a column's type, without its size."""
    return column.type.partition("(")[0]


def is_known(column: Column) -> bool:
    """True if a receipt can hold its values, and they can be written back as they were."""
    kinds = (_WHOLE, _APPROXIMATE, _EXACT_NUMBERS, _TIMES, _TEXTS, _BYTES, {"uniqueidentifier"})
    return any(bare(column) in each for each in kinds)


def is_letters(column: Column) -> bool:
    """True for types of text."""
    return bare(column) in _TEXTS


def converted(declared: str, value: sa.ColumnElement[Any], style: int = 0) -> _Convert:
    """Return a value as one of another type."""
    return _Convert(declared, value, style)


def as_text(value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Return a text that tells every value of a column apart."""
    kind = bare(column)
    return _Convert(TEXT, value, 1 if kind in _BYTES else _STYLES.get(kind, 0))


def readable(value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Return the value if SQLite can hold it as it is and drivers lose nothing, else its text."""
    kind = bare(column)
    if kind == "bit":
        return _Convert("int", value, 0)
    if kind in _WHOLE | _APPROXIMATE | _BYTES:
        return value
    text = as_text(value, column)
    return sa.collate(text, EXACT) if kind in _TEXTS else text


def staging_type(column: Column) -> str:
    """Return the type of a temporary column that holds what `readable` gives."""
    kind = bare(column)
    if kind in _WHOLE:
        return "bigint"
    if kind in _APPROXIMATE:
        return "float"
    return "varbinary(max)" if kind in _BYTES else TEXT


def typed(value: sa.ColumnElement[Any], column: Column) -> sa.ColumnElement[Any]:
    """Return a value in that form as one of the column's type, compared as the column compares."""
    kind = bare(column)
    made = _Convert(column.type, value, _STYLES.get(kind, 0) if kind in _TIMES else 0)
    return sa.collate(made, column.collation) if column.collation else made


def same(one: sa.ColumnElement[Any], other: sa.ColumnElement[Any]) -> sa.ColumnElement[bool]:
    """True if two texts are the same to the last blank, or both are NULL.

    `=` takes texts for equal that differ in blanks at their end, whatever the collation.
    """
    bytes_of = (_Convert("varbinary(max)", _Convert(TEXT, each, 0), 0) for each in (one, other))
    left, right = bytes_of
    return left.is_not_distinct_from(right)

"""Values of parameters as people type them, read by the type of the column that they meet."""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from datetime import date, datetime, timedelta
from typing import TYPE_CHECKING, Any

from sqlglot import exp
from sqlglot.errors import SqlglotError

from yeldro.core.database.catalogue import find_table
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.selection.conditions.filters import parameters_in
from yeldro.core.selection.conditions.parsing import own_column, parse

if TYPE_CHECKING:
    from yeldro.core.database.facts import SqlDialect
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Column, Table
    from yeldro.core.selection.asked import Selection

_RELATIVE = re.compile(r"today(?:([+-]\d{1,5})([dwmy]))?", re.IGNORECASE)
_LIKE_RELATIVE = re.compile(r"\s*today\s*[+-]", re.IGNORECASE)
_NUMBER = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)(e[+-]?\d+)?", re.IGNORECASE)
_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_TRUTH = {"true": True, "yes": True, "1": True, "false": False, "no": False, "0": False}
_COMPARISONS = (exp.EQ, exp.NEQ, exp.LT, exp.LTE, exp.GT, exp.GTE, exp.NullSafeEQ, exp.NullSafeNEQ,
                exp.Is, exp.Like, exp.ILike)  # fmt: skip
_GIVE_TEXT = (exp.Lower, exp.Upper, exp.Trim, exp.Substring, exp.Concat, exp.Left, exp.Right,
              exp.Replace, exp.DPipe)  # fmt: skip
_KINDS = {
    "boolean": ("bool", "boolean"),
    "number": (
        "tinyint", "smallint", "mediumint", "int", "integer", "bigint", "serial", "bigserial",
        "int2", "int4", "int8", "numeric", "decimal", "real", "float", "double", "money",
    ),
    "date": ("date",),
    "datetime": ("datetime", "timestamp"),
    "text": (
        "text", "char", "character", "varchar", "nchar", "nvarchar", "clob", "tinytext",
        "mediumtext", "longtext",
    ),
}  # fmt: skip
_EXAMPLES = {
    "boolean": "true or false",
    "number": "a number, such as 12 or 2.5",
    "date": "2020-01-31 or today-90d",
    "datetime": "2020-01-31T12:00:00, 2020-01-31 or today-90d",
}


@dataclass(frozen=True)
class Typed:
    """A value as it was typed: a word of a command line, whose type is not known yet."""

    text: str


def kind_of(column: Column) -> str | None:
    """Return what the values of a column are, one of `_KINDS`; None for any other type.

    SQLite's types are free words; a column has the kind that its declared type names
    (sqlite.org/datatype3.html, 3.1).
    """
    declared = column.type.lower().strip()
    if declared == "tinyint(1)":
        return "boolean"
    first = re.split(r"[^a-z0-9]", declared, maxsplit=1)[0]
    if declared.endswith("]"):
        return None
    return next((kind for kind, names in _KINDS.items() if first in names), None)


def read_parameters(selection: Selection, session: Session) -> Selection:
    """Return a selection whose typed parameters are read by the columns they are compared with.

    A value in single quotes is text. Without a column it is compared with, a number is a number,
    and anything else is text.

    Raises:
        UsageError: a value cannot be of its column's type.
    """
    typed = {name: v for name, v in selection.parameters.items() if isinstance(v, Typed)}
    if not typed:
        return selection
    met: dict[str, list[_Met]] = {}
    if any(not _is_quoted(value.text) for value in typed.values()) and selection.where:
        table = find_table(session.catalogue, selection.table)
        met = _met(selection.where, table, session.traits.sql_dialect)
    read = {name: _read(name, value.text, met.get(name, [])) for name, value in typed.items()}
    return replace(selection, parameters={**selection.parameters, **read})


def types_of_parameters(selection: Selection, session: Session) -> dict[str, str]:
    """Return a type for each parameter of a condition that has no value.

    Returns:
        That of what it is compared with; `text` where nothing is known.
    """
    if selection.where is None:
        return {}
    table = find_table(session.catalogue, selection.table)
    met = _met(selection.where, table, session.traits.sql_dialect)
    return {
        name: next((one.kind for one in met.get(name, ()) if one.kind), "text")
        for name in sorted(parameters_in(selection.where) - selection.parameters.keys())
    }


def relative_day(text: str, today: date | None = None) -> date | None:
    """Return the day that `today`, `today-90d` or `today+2m` names; None if `text` is no such.

    Days, weeks, months and years are counted from the day of this machine's clock. A month that
    is too short gives its last day.

    Raises:
        ValueError: the day is outside the years 1 to 9999.
    """
    found = _RELATIVE.fullmatch(text.strip())
    if found is None:
        return None
    today = today or date.today()
    number, unit = int(found[1] or 0), (found[2] or "d").lower()
    try:
        if unit in "dw":
            return today + timedelta(days=number * (7 if unit == "w" else 1))
        months = today.year * 12 + today.month - 1 + number * (12 if unit == "y" else 1)
        year, month = months // 12, months % 12 + 1
        return date(year, month, min(today.day, calendar.monthrange(year, month)[1]))
    except (OverflowError, ValueError, calendar.IllegalMonthError) as error:
        raise ValueError(f"{text} is outside the years 1 to 9999") from error


@dataclass(frozen=True)
class _Met:
    """What a parameter is compared with.

    Args:
        told: it and its type, for people.
    """

    told: str
    kind: str | None


def _met(where: str, table: Table, dialect: SqlDialect) -> dict[str, list[_Met]]:
    """Return what each parameter is compared with, outside subqueries."""
    try:
        trees = parse(where, dialect)
    except SqlglotError:
        return {}  # the condition itself is refused later, with its place
    met: dict[str, list[_Met]] = {}
    for sides in (sides for tree in trees for sides in _compared(tree)):
        found = [one for side in sides if (one := _side(side.unnest(), table, dialect))]
        for side in sides:
            if isinstance(side.unnest(), exp.Placeholder):
                met.setdefault(side.unnest().name, []).extend(found)
    return met


def _side(node: exp.Expr, table: Table, dialect: str) -> _Met | None:
    if isinstance(node, _GIVE_TEXT):
        return _Met(f"{node.sql(dialect=dialect)} is text", "text")
    name = own_column(node, table)
    if name is None:
        return None
    column = table.by_name[name]
    return _Met(f"{name} is {column.type}", kind_of(column))


def _compared(tree: exp.Expr) -> Iterator[list[exp.Expr]]:
    """Yield the operands of each comparison, except in subqueries."""
    for node in tree.walk(prune=lambda each: isinstance(each, exp.Query)):
        if isinstance(node, _COMPARISONS):
            yield [node.this, node.expression]
        elif isinstance(node, exp.In):
            yield [node.this, *node.expressions]
        elif isinstance(node, exp.Between):
            yield [node.this, node.args["low"], node.args["high"]]


def _is_quoted(text: str) -> bool:
    return len(text) >= 2 and text[0] == text[-1] == "'"


def unquoted_text(text: str) -> str:
    """Return a typed value without the single quotes that say that it is text."""
    return text[1:-1].replace("''", "'") if _is_quoted(text) else text


def _read(name: str, text: str, met: list[_Met]) -> Any:
    if _is_quoted(text):
        return unquoted_text(text)
    told = ", ".join(dict.fromkeys(each.told for each in met))
    kinds = {each.kind for each in met if each.kind}
    if len(kinds) > 1 and kinds != {"date", "datetime"}:
        raise UsageError(
            f"‹param› {name} is compared with values of several kinds: {told}.",
            f"Give each its own parameter, or the text in single quotes, as \"{name}='…'\".",
        )
    kind = kinds.pop() if kinds else None
    if kind in (None, "text"):
        return _as_text_or_day(name, text) if kind else _guessed(_as_text_or_day(name, text))
    try:
        return _READ[str(kind)](text)
    except ValueError as error:
        empty = f"For NULL, say ‹param_null› {name}. " if not text else ""
        raise UsageError(
            f"‹param› {name} is {text!r}, and {told}.",
            f"Write {_EXAMPLES[str(kind)]}. {empty}"
            f"In single quotes, as \"{name}='…'\", it is passed on as text.",
        ) from error


def _as_text_or_day(name: str, text: str) -> str:
    """Return a text, or the day that it names; `today` alone may be the word or the day."""
    if text.strip().lower() == "today":
        raise UsageError(
            f"‹param› {name} is {text!r}, which may be the word or the day.",
            f"Write {name}=today-0d for the day, or \"{name}='today'\" for the word.",
        )
    try:
        day = relative_day(text)
    except ValueError as error:
        raise UsageError(f"‹param› {name}: {error}.", "Write the date.") from error
    if day is None and _LIKE_RELATIVE.match(text):
        raise UsageError(
            f"‹param› {name} is {text!r}, which reads like a relative day, and is none.",
            f"Write it as today-90d, today-12w, today-6m or today-3y; or \"{name}='{text}'\" for "
            f"the text.",
        )
    return text if day is None else day.isoformat()


def _guessed(text: str) -> Any:
    """Return a number where the text is one in its only usual form, else the text."""
    if re.fullmatch(r"-?(0|[1-9]\d{0,17})", text) and text != "-0":
        return int(text)
    if re.fullmatch(r"-?\d+\.\d+", text) and repr(float(text)) == text:
        return float(text)
    return text


def _number(text: str) -> Any:
    if not _NUMBER.fullmatch(text.strip()):
        raise ValueError(text)
    return _guessed(text.strip())


def _boolean(text: str) -> bool:
    try:
        return _TRUTH[text.strip().lower()]
    except KeyError as error:
        raise ValueError(text) from error


def _day(text: str) -> str:
    """Check a date, or a date with a time; its own form is kept, as texts compare by it."""
    day = relative_day(text)
    if day is not None:
        return day.isoformat()
    datetime.fromisoformat(text.strip())
    if not re.match(
        r"\d{4}-\d\d-\d\d", text.strip()
    ):  # Python reads 20200131, other systems differ
        raise ValueError(text)
    return text.strip()


_READ: Mapping[str, Callable[[str], Any]] = {
    "number": _number,
    "boolean": _boolean,
    "date": _day,
    "datetime": _day,
}

"""Comparisons of days and moments, as plain comparisons of the column.

What is computed from a column is brought to the other side: `year(day) < 2018` becomes
`day < 2018-01-01`, and `now() - day > 30` becomes `day < now() - 30`.
"""

from __future__ import annotations

from datetime import date, datetime, timedelta
from decimal import Decimal
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from yeldro.formats.foreign.constants import Constants, moment_of, read_iso
from yeldro.formats.foreign.texts import number_of
from yeldro.formats.foreign.unlike import Unlike

if TYPE_CHECKING:
    from yeldro.formats.foreign.scope import Known
    from yeldro.formats.foreign.stored import Stored

TURNED: dict[type[exp.Expr], type[exp.Expr]] = {
    exp.LT: exp.GT, exp.GT: exp.LT, exp.LTE: exp.GTE, exp.GTE: exp.LTE,
}  # fmt: skip
# A day is before a moment of the same day, and never after it.
_BY_DAY: dict[type[exp.Expr], type[exp.Expr]] = {
    exp.LT: exp.LTE, exp.LTE: exp.LTE, exp.GT: exp.GT, exp.GTE: exp.GT,
}  # fmt: skip
_BACK: dict[type[exp.Expr], type[exp.Expr]] = {
    exp.Sub: exp.Add, exp.Add: exp.Sub, exp.DateAdd: exp.DateSub, exp.DateSub: exp.DateAdd,
}  # fmt: skip
_DAY_UNITS = ("DAY", "DD", "D")
_LINEAR_UNITS = (*_DAY_UNITS, "HOUR", "HH", "MINUTE")
KINDS = ("date", "datetime")


class Days:
    """Carries comparisons of one column with a day over.

    Args:
        source: the dialect in which they are written.
    """

    def __init__(self, source: str, constants: Constants, stored: Stored) -> None:
        self.source = source
        self.constants = constants
        self.stored = stored

    def carried(
        self, node: exp.Expr, column: exp.Column, known: Known, value: Any
    ) -> exp.Expr | None:
        """Return a comparison of what is computed from a column with a value; None if it is none.

        Raises:
            Unlike: it is computed by rules that differ.
        """
        if known.kind not in KINDS and not (known.kind == "text" and self._stores_text):
            return None
        left = node.this.unnest()
        if left is column:
            if isinstance(node.expression, exp.Placeholder):
                return self._with_parameter(node, known)
            if known.kind in KINDS:
                day = self._as_day(node, value)
                if self.source == "sqlite" and isinstance(day, datetime) != (
                    known.kind == "datetime"
                ):
                    raise Unlike(
                        node,
                        "compares a day with a moment, which are texts there",
                        "Write the day as it is stored, with its time or without.",
                    )
                return self._limited(node, column, known, day)
            return self._limited(node, column, known, value) if isinstance(value, date) else None
        found = (
            self._of_whole_day(node, left, column, known, value)
            or self._of_year(node, left, column, known, value)
            or self._of_difference(node, left, column, known, value)
            or self._of_sum(node, left, column, known, value)
        )
        if found is None and known.kind in KINDS:
            raise Unlike(
                node,
                "computes with a day by rules that differ, or that are not known here",
                "Compare the column with a day.",
            )
        return found

    def _with_parameter(self, node: exp.Expr, known: Known) -> exp.Expr | None:
        """Return a comparison with a parameter, which is bound in the form of the column's type."""
        if known.kind not in KINDS:
            return None
        if self.stored.days_as(known, node) != known.kind:
            raise Unlike(
                node,
                "compares days that are stored in another form than their type says",
                "Write the day as it is stored, in place of the parameter.",
            )
        return node

    @property
    def _stores_text(self) -> bool:
        return self.stored.dialect == "sqlite"

    def _as_day(self, node: exp.Expr, value: Any) -> date:
        if isinstance(value, date):
            return value
        if isinstance(value, str):
            day = self.constants.read_day(value, node.expression)
            if self.source == "tsql" and isinstance(day, datetime) and day.microsecond:
                raise Unlike(node, "has a part of a second, which a type there may round up",
                             "Write < and the next whole second, or the next day.")  # fmt: skip
            return day
        if isinstance(value, int) and self.source == "mysql" and 10_000_101 <= value <= 99_991_231:
            found = read_iso(f"{value // 10_000}-{value // 100 % 100:02}-{value % 100:02}")
            if found:
                return found
        raise Unlike(node, "compares a day with what is none", "Write the day as '2018-01-31'.")

    def _of_whole_day(
        self, node: exp.Expr, left: exp.Expr, column: exp.Column, known: Known, value: Any
    ) -> exp.Expr | None:
        """Carry `CAST(moment AS date) = day` over."""
        if _whole_day(left, self.source) is not column:
            return None
        day = moment_of(self._as_day(node, value))
        if day != _midnight(day):
            raise Unlike(node, "compares a whole day with a time of day", "Compare it with a day.")
        return self._spanned(node, column, known, day, day + timedelta(days=1))

    def _of_year(
        self, node: exp.Expr, left: exp.Expr, column: exp.Column, known: Known, value: Any
    ) -> exp.Expr | None:
        """Carry `year(day) < 2018` over."""
        is_year = isinstance(left, exp.Year) or (
            isinstance(left, exp.Extract) and left.name.lower() == "year"
        )
        number = number_of(value) if isinstance(value, str) else value
        if not is_year or not isinstance(number, int) or not 1 <= number < 9999:
            return None
        first, after = datetime(number, 1, 1), datetime(number + 1, 1, 1)
        return self._spanned(node, column, known, first, after)

    def _of_difference(
        self, node: exp.Expr, left: exp.Expr, column: exp.Column, known: Known, value: Any
    ) -> exp.Expr | None:
        """Carry `datediff(day, column, now) > 30` over, which counts midnights."""
        if not isinstance(left, exp.DateDiff) or not isinstance(value, int):
            return None
        unit = left.args.get("unit")
        by_day = unit is None or unit.name.upper() in _DAY_UNITS
        if not by_day or _bare(left.expression) is not column:
            return None
        today = self.constants.value(left.this)
        if not isinstance(today, date):
            return None
        day = _midnight(moment_of(today)) - timedelta(days=value)
        return self._spanned(_turned(node, column), column, known, day, day + timedelta(days=1))

    def _of_sum(
        self, node: exp.Expr, left: exp.Expr, column: exp.Column, known: Known, value: Any
    ) -> exp.Expr | None:
        """Carry `now() - column > 30` and `column + 30 < now()` over."""
        if isinstance(left, exp.Sub) and _bare(left.expression) is column:
            base = self.constants.value(left.this)
            if self.source != "oracle" or not isinstance(base, datetime):
                return None
            if not isinstance(value, int | Decimal):
                return None
            limit = base - timedelta(microseconds=int(Decimal(value) * 86_400_000_000))
            return self._limited(_turned(node, column), column, known, limit)
        if type(left) not in _BACK or _bare(left.this) is not column:
            return None
        if not isinstance(value, date | str) or not self._is_linear(left):
            return None
        limit = moment_of(self._as_day(node, value))
        form = exp.Literal.string("%Y-%m-%d %H:%M:%S.%f")
        day = exp.StrToTime(this=exp.Literal.string(f"{limit:%Y-%m-%d %H:%M:%S.%f}"), format=form)
        back = _BACK[type(left)](
            this=day, expression=left.expression.copy(), unit=left.args.get("unit")
        )
        alone = type(node)(this=column.copy(), expression=node.expression)
        return self._limited(alone, column, known, self.constants.value(back))

    def _is_linear(self, left: exp.Expr) -> bool:
        """True if what is added is of one length, as days are and months are not."""
        if isinstance(left, exp.DateAdd | exp.DateSub):
            unit = left.args.get("unit")
            return unit is None or unit.name.upper() in _LINEAR_UNITS
        if self.source in ("oracle", "tsql"):
            return isinstance(self.constants.value(left.expression), int | Decimal)
        return not getattr(self.constants.value(left.expression), "months", 1)

    def _spanned(
        self, node: exp.Expr, column: exp.Column, known: Known, first: date, after: date
    ) -> exp.Expr:
        """Return the comparison of a column with a span of days that counts as one value."""

        def limit(kind: type[exp.Expr], day: date) -> exp.Expr:
            return self._limited(kind(this=column.copy(), expression=node), column, known, day)

        if isinstance(node, exp.LT | exp.GTE):
            return limit(type(node), first)
        if isinstance(node, exp.LTE | exp.GT):
            return limit(exp.LT if isinstance(node, exp.LTE) else exp.GTE, after)
        if isinstance(node, exp.EQ):
            within = exp.And(this=limit(exp.GTE, first), expression=limit(exp.LT, after))
            return exp.Paren(this=within)
        return exp.Paren(this=exp.Or(this=limit(exp.LT, first), expression=limit(exp.GTE, after)))

    def _limited(self, node: exp.Expr, column: exp.Column, known: Known, value: date) -> exp.Expr:
        """Return the comparison of a column with a day or moment, as this system stores them."""
        form, moment = self.stored.days_as(known, node), moment_of(value)
        kind = type(node)
        if form == "date" and moment != _midnight(moment):
            if kind not in _BY_DAY:
                raise Unlike(node, "compares a day with a time of day", "Compare it with a day.")
            kind = _BY_DAY[kind]
        text = f"{moment:%Y-%m-%d}" if form == "date" else f"{moment:%Y-%m-%d %H:%M:%S}"
        if form != "date" and moment.microsecond:
            if self._stores_text:
                raise Unlike(node, "compares with a part of a second", "Write whole seconds.")
            text += f".{moment.microsecond:06}"
        literal: exp.Expr = exp.Literal.string(text)
        if not self._stores_text:
            moments = "timestamp" if self.stored.dialect == "postgres" else "datetime"
            declared = exp.DataType.build("date" if form == "date" else moments)
            literal = exp.Cast(this=literal, to=declared)
        return kind(this=column.copy(), expression=literal)


def _turned(node: exp.Expr, column: exp.Column) -> exp.Expr:
    """Return a comparison of the column whose sides have changed places."""
    return TURNED.get(type(node), type(node))(this=column.copy(), expression=node.expression)


def _midnight(moment: datetime) -> datetime:
    return datetime(moment.year, moment.month, moment.day)


def _bare(node: exp.Expr) -> exp.Expr:
    """Return what a conversion that only says that something is a moment holds."""
    while isinstance(
        node, exp.TimeStrToTime | exp.TsOrDsToDate | exp.TsOrDsToTimestamp | exp.Paren
    ):
        node = node.this
    return node


def _whole_day(node: exp.Expr, source: str) -> exp.Expr | None:
    """Return the column of which an expression takes the day without its time; None for others."""
    inner: exp.Expr | None = None
    has_days = source != "oracle"  # there a DATE keeps its time of day
    if isinstance(node, exp.TsOrDsToDate) or (
        isinstance(node, exp.Cast) and node.to.is_type("date") and has_days
    ):
        inner = node.this
    elif isinstance(node, exp.Convert) and node.this.is_type("date") and has_days:
        inner = node.expression
    elif isinstance(node, exp.DateTrunc | exp.TimestampTrunc):
        unit = node.args.get("unit")
        inner = node.this if unit is not None and unit.name.upper() in ("DD", "DAY") else None
    elif isinstance(node, exp.Anonymous) and str(node.this).upper() == "TRUNC":
        inner = node.expressions[0] if len(node.expressions) == 1 else None
    return _bare(inner) if inner is not None else None

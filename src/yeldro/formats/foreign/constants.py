"""Constant expressions, computed as the system computes them that they are written for.

Moments are those of the database server's own clock. Where a system's rule depends on a setting
that nobody can see here, the expression is refused.
"""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable
from datetime import date, datetime, timedelta
from decimal import Decimal, InvalidOperation
from typing import Any

from sqlglot import exp

from yeldro.formats.foreign.unlike import Unlike

NOT_CONSTANT = object()
_BASE = datetime(1900, 1, 1)  # T-SQL's day 0
_ISO = re.compile(r"(\d{4})-(\d\d)-(\d\d)(?:[ T](\d\d):(\d\d)(?::(\d\d)(?:\.(\d{1,6}))?)?)?")
_CODED = re.compile(r"\\\\|\\([0-9a-fA-F]{4})")  # as Oracle's UNISTR has them
_PACKED = re.compile(r"(\d{4})(\d\d)(\d\d)")
_LINEAR = {"DAY": 86_400, "HOUR": 3_600, "MINUTE": 60, "SECOND": 1, "WEEK": 604_800}
_MONTHS = {"MONTH": 1, "QUARTER": 3, "YEAR": 12}
_UNITS = {
    "DD": "DAY", "D": "DAY", "DAYS": "DAY", "HH": "HOUR", "HOURS": "HOUR", "MI": "MINUTE",
    "N": "MINUTE", "MINUTES": "MINUTE", "SS": "SECOND", "S": "SECOND", "SECONDS": "SECOND",
    "WK": "WEEK", "WW": "WEEK", "WEEKS": "WEEK", "MM": "MONTH", "M": "MONTH", "MON": "MONTH",
    "MONTHS": "MONTH", "QQ": "QUARTER", "Q": "QUARTER", "YY": "YEAR", "YYYY": "YEAR",
    "YEARS": "YEAR",
}  # fmt: skip
_DAYS_BY_NUMBER = {"tsql", "oracle", "access"}  # where a number added to a moment means days
# Systems on which ISO 8601 text is a date under every setting.
_ISO_TEXTS = {"tsql", "mysql", "postgres", "sqlite", "access"}


class Interval:
    """A length of time: seconds, or months."""

    def __init__(self, seconds: Decimal = Decimal(0), months: int = 0) -> None:
        self.seconds = seconds
        self.months = months


class Constants:
    """Computes the constant expressions of one system.

    Args:
        source: the dialect of that system.
        clock: returns the moment of the database server's clock, in its own time.
    """

    def __init__(self, source: str, clock: Callable[[], datetime]) -> None:
        self.source = source
        self._clock = clock
        self._moment: datetime | None = None

    @property
    def now(self) -> datetime:
        """The moment at which the statement runs, the same for all of it."""
        if self._moment is None:
            self._moment = self._clock()
        return self._moment

    def value(self, node: exp.Expr) -> Any:
        """Return the value of an expression, `NOT_CONSTANT` if it names or counts rows.

        Raises:
            Unlike: it is constant, and cannot be computed exactly.
        """
        if node.find(exp.Column, exp.Query, exp.Placeholder, exp.AggFunc):
            return NOT_CONSTANT
        return self._value(node)

    def _value(self, node: exp.Expr) -> Any:
        if isinstance(node, exp.Paren):
            return self._value(node.this)
        found = _OF.get(type(node))
        if found is None:
            raise Unlike(node, "is not known here", "Write the value that it has.")
        try:
            return found(self, node)
        except (ValueError, OverflowError, InvalidOperation, ZeroDivisionError) as error:
            raise Unlike(
                node, f"has no value ({error})", "Write the value that is meant."
            ) from error

    def _literal(self, node: exp.Expr) -> Any:
        if node.args.get("join_mark"):
            raise Unlike(node, "has the mark (+) of an outer join", "Write it as LEFT JOIN.")
        if node.args.get("is_string"):
            return str(node.this)
        text = str(node.this)
        return int(text) if text.isdigit() else Decimal(text)

    def _national(self, node: exp.Expr) -> str:
        return str(node.this)

    def _moment_now(self, node: exp.Expr) -> datetime:
        del node
        return self.now

    def _today(self, node: exp.Expr) -> date:
        del node
        return self.now.date()

    def _negative(self, node: exp.Expr) -> Any:
        value = self._value(node.this)
        if isinstance(value, int | Decimal) and not isinstance(value, bool):
            return -value
        raise Unlike(node, "negates what is no number")

    def _sum(self, node: exp.Expr) -> Any:
        left, right = self._value(node.this), self._value(node.expression)
        sign = -1 if isinstance(node, exp.Sub) else 1
        if isinstance(left, str) and isinstance(right, str) and self.source == "tsql" and sign > 0:
            return left + right
        if _is_number(left) and _is_number(right):
            return left + sign * right
        if isinstance(right, Interval) and isinstance(left, date):
            moved = _moved(left, right, sign)
            if self.source == "oracle" and right.months and moved.day != left.day:
                raise Unlike(node, "names a day that its month does not have, which Oracle refuses",
                             "Write it with ADD_MONTHS.")  # fmt: skip
            return moved
        if isinstance(left, date) and _is_number(right):
            if self.source in _DAYS_BY_NUMBER and (isinstance(left, datetime) or sign):
                if self.source == "tsql" and not isinstance(left, datetime):
                    raise Unlike(node, "adds a number to a date, which SQL Server refuses",
                                 "Write DATEADD(day, …).")  # fmt: skip
                return _moved(left, Interval(Decimal(right) * 86_400), sign)
            whole = isinstance(right, int)
            if self.source == "postgres" and not isinstance(left, datetime) and whole:
                return left + sign * timedelta(days=right)
        if isinstance(left, date) and isinstance(right, date) and sign < 0:
            if self.source == "oracle":
                return _seconds(moment_of(left) - moment_of(right)) / 86_400
            if self.source == "postgres" and not isinstance(left, datetime):
                return (left - right).days
        raise Unlike(
            node,
            "computes with values for which the systems have other rules",
            "Write a function that names the unit, or the value that is meant.",
        )

    def _product(self, node: exp.Expr) -> Any:
        left, right = self._value(node.this), self._value(node.expression)
        if _is_number(left) and _is_number(right):
            if isinstance(node, exp.Mul):
                return left * right
            if left % right == 0:
                return left // right
        raise Unlike(node, "is computed by other rules on other systems", "Write its value.")

    def _interval(self, node: exp.Expr) -> Interval:
        number = self._number(node.this, node)
        return self._length(node, number, str(node.args["unit"].name))

    def _length(self, node: exp.Expr, number: Decimal, unit: str) -> Interval:
        name = _UNITS.get(unit.upper(), unit.upper())
        if name in _LINEAR:
            return Interval(number * _LINEAR[name])
        if name in _MONTHS and number == int(number):
            return Interval(months=int(number) * _MONTHS[name])
        raise Unlike(node, f"counts in {unit}, which is not known here", "Count days or months.")

    def _number(self, node: exp.Expr, whole: exp.Expr) -> Decimal:
        value = self._value(node)
        if isinstance(value, str) and re.fullmatch(r"-?\d+(\.\d+)?", value.strip()):
            value = Decimal(value.strip())
        if not _is_number(value):
            raise Unlike(whole, "needs a number")
        return Decimal(value)

    def _day(self, node: exp.Expr) -> date:
        """Return the value of an expression that must be a moment or a day."""
        value = self._value(node)
        if self.source == "tsql" and _is_number(value):
            return _moved(_BASE, Interval(Decimal(value) * 86_400), 1)
        if isinstance(value, str):
            value = self.read_day(value, node)
        if not isinstance(value, date):
            raise Unlike(node, "is no date")
        return value

    def read_day(self, text: str, node: exp.Expr) -> date:
        """Return the day or moment that a text is, where every setting reads it so.

        Raises:
            Unlike: it is none, or a setting decides how it is read.
        """
        found = read_iso(text)
        if found is None and self.source in ("tsql", "mysql", "postgres"):
            packed = _PACKED.fullmatch(text.strip())
            found = date(*map(int, packed.groups())) if packed else None
        if found is None or self.source not in _ISO_TEXTS:
            raise Unlike(
                node, "is read as a date by rules that settings change",
                "Write DATE '2018-01-31' or TIMESTAMP '2018-01-31 12:00:00'."
                if self.source == "oracle" else "Write the date as '2018-01-31'.",
            )  # fmt: skip
        return found

    def _shifted(self, node: exp.Expr) -> date:
        sign = -1 if isinstance(node, exp.DateSub) else 1
        unit = node.args.get("unit")
        number = self._number(node.expression, node)
        length = self._length(node, number, unit.name if unit else "DAY")
        return _moved(self._day(node.this), length, sign)

    def _difference(self, node: exp.Expr) -> int:
        later, earlier = moment_of(self._day(node.this)), moment_of(self._day(node.expression))
        unit = node.args.get("unit")
        name = _UNITS.get(unit.name.upper(), unit.name.upper()) if unit else "DAY"
        return boundaries(later, earlier, name, node)

    def _months_on(self, node: exp.Expr) -> date:
        began = self._day(node.this)
        moved = _moved(began, Interval(months=int(self._number(node.expression, node))), 1)
        if began.day == calendar.monthrange(began.year, began.month)[1]:
            moved = moved.replace(day=calendar.monthrange(moved.year, moved.month)[1])
        return moved

    def _last_day(self, node: exp.Expr) -> date:
        found = self._day(node.this)
        last = found.replace(day=calendar.monthrange(found.year, found.month)[1])
        keeps_time = self.source == "oracle" and isinstance(last, datetime)
        return last if keeps_time else date(last.year, last.month, last.day)

    def _truncated(self, node: exp.Expr) -> date:
        found = moment_of(self._day(node.this))
        unit = node.args.get("unit")
        name = unit.name.upper() if unit else "DD"
        day = found.replace(hour=0, minute=0, second=0, microsecond=0)
        if name in ("DD", "DAY", "DDD", "J") and not (self.source == "oracle" and name == "DAY"):
            return day
        if name in ("MM", "MONTH", "MON"):
            return day.replace(day=1)
        if name in ("YYYY", "YEAR", "YY", "Y"):
            return day.replace(month=1, day=1)
        raise Unlike(node, f"begins at {name}, which is not known here", "Write its value.")

    def _of_parts(self, node: exp.Expr) -> date:
        parts = [self._number(node.args[name], node) for name in ("year", "month", "day")]
        return date(*map(int, parts))

    def _part(self, node: exp.Expr) -> int:
        if isinstance(node, exp.Extract):
            name, value = node.name.lower(), self._day(node.expression)
        else:
            name, value = type(node).__name__.lower(), self._day(node.this)
        if name in ("year", "month", "day"):
            return int(getattr(value, name))
        raise Unlike(node, "takes a part that is not known here", "Write its value.")

    def _converted(self, node: exp.Expr) -> Any:
        if isinstance(node, exp.Convert):
            kind, inner, style = node.this, node.expression, node.args.get("style")
        else:
            kind, inner, style = node.args["to"], node.this, None
        if style is not None and self._value(style) not in (112, 120, 121, 23, 126):
            raise Unlike(node, "has a style that is not known here", "Write '2018-01-31'.")
        name = kind.this.name if isinstance(kind.this, exp.DType) else str(kind.this)
        if name in ("DATE", "DATE32"):
            found = self._day(inner)
            whole = self.source == "oracle"  # there a DATE has a time of day
            return moment_of(found) if whole else date(found.year, found.month, found.day)
        if name in ("DATETIME", "DATETIME2", "TIMESTAMP", "TIMESTAMPNTZ", "SMALLDATETIME",
                    "TIMESTAMPTZ"):  # fmt: skip
            return moment_of(self._day(inner))
        if name in ("INT", "BIGINT", "SMALLINT"):
            number = self._number(inner, node)
            if number == int(number):
                return int(number)
        raise Unlike(node, "converts by rules that differ between systems", "Write its value.")

    def _from_text(self, node: exp.Expr) -> date:
        text = self._value(node.this)
        form = node.args.get("format")
        if not isinstance(text, str):
            raise Unlike(node, "converts what is no text", "Write its value.")
        if form is None or isinstance(node, exp.DateStrToDate | exp.Date):
            found = read_iso(text)
            if found is None:
                raise Unlike(node, "is not of the form DATE '2018-01-31'")
            return found
        shape = self._value(form)
        if not set(re.findall(r"%(.)", shape)) <= set("YmdHMSfIyT") or "%y" in shape:
            raise Unlike(node, "has a format that is not known here", "Write DATE '2018-01-31'.")
        shape = shape.replace("%T", "%H:%M:%S")
        try:
            moment = datetime.strptime(text, shape)
        except ValueError:
            if not shape.endswith(".%f"):
                raise
            moment = datetime.strptime(text, shape.removesuffix(".%f"))
        has_time = any(f"%{sign}" in shape for sign in "HMSI")
        return moment if has_time or self.source == "oracle" else moment.date()

    def _to_day(self, node: exp.Expr) -> date:
        found = self._day(node.this)
        return date(found.year, found.month, found.day)

    def _to_moment(self, node: exp.Expr) -> datetime:
        return moment_of(self._day(node.this))

    def _truth(self, node: exp.Expr) -> bool:
        return bool(node.this)

    def _nothing(self, node: exp.Expr) -> None:
        del node

    def _joined(self, node: exp.Expr) -> str:
        left, right = self._value(node.this), self._value(node.expression)
        if isinstance(left, str) and isinstance(right, str) and self.source != "mysql":
            return left + right
        raise Unlike(node, "joins what is no text", "Write the text that it gives.")

    def _named(self, node: exp.Expr) -> Any:
        name = str(node.this).upper()
        if (self.source, name) in (("tsql", "NCHAR"), ("oracle", "UNISTR")):
            value = self._value(node.expressions[0])
            if name == "NCHAR" and _is_number(value):
                return chr(value)
            if isinstance(value, str):
                coded = _CODED.sub(lambda each: chr(int(each[1] or "5c", 16)), value)
                return coded.encode("utf-16-le", "surrogatepass").decode("utf-16-le")
        if self.source in ("mysql", "mariadb") and name in ("NOW", "SYSDATE", "LOCALTIME"):
            return self.now
        raise Unlike(node, "is not known here", "Write the value that it has.")


_OF: dict[type, Callable[[Constants, exp.Expr], Any]] = {
    exp.Literal: Constants._literal,
    exp.National: Constants._national,
    exp.Neg: Constants._negative,
    exp.Add: Constants._sum,
    exp.Sub: Constants._sum,
    exp.DPipe: Constants._joined,
    exp.Mul: Constants._product,
    exp.Div: Constants._product,
    exp.Boolean: Constants._truth,
    exp.Null: Constants._nothing,
    exp.CurrentTimestamp: Constants._moment_now,
    exp.CurrentDatetime: Constants._moment_now,
    exp.Localtimestamp: Constants._moment_now,
    exp.Systimestamp: Constants._moment_now,
    exp.CurrentDate: Constants._today,
    exp.Interval: Constants._interval,
    exp.DateAdd: Constants._shifted,
    exp.DateSub: Constants._shifted,
    exp.DateDiff: Constants._difference,
    exp.AddMonths: Constants._months_on,
    exp.LastDay: Constants._last_day,
    exp.DateTrunc: Constants._truncated,
    exp.TimestampTrunc: Constants._truncated,
    exp.DateFromParts: Constants._of_parts,
    exp.Year: Constants._part,
    exp.Month: Constants._part,
    exp.Day: Constants._part,
    exp.Extract: Constants._part,
    exp.TsOrDsToDate: Constants._to_day,
    exp.TimeStrToTime: Constants._to_moment,
    exp.Cast: Constants._converted,
    exp.Convert: Constants._converted,
    exp.DateStrToDate: Constants._from_text,
    exp.Date: Constants._from_text,
    exp.StrToDate: Constants._from_text,
    exp.StrToTime: Constants._from_text,
    exp.Anonymous: Constants._named,
}


def read_iso(text: str) -> date | None:
    """Return the day or moment that a text is in ISO 8601; None if it is none."""
    found = _ISO.fullmatch(text.strip())
    if not found:
        return None
    year, month, day, hour, minute, second, part = found.groups()
    try:
        if hour is None:
            return date(int(year), int(month), int(day))
        micros = int((part or "0").ljust(6, "0"))
        return datetime(int(year), int(month), int(day), int(hour), int(minute), int(second or 0),
                        micros)  # fmt: skip
    except ValueError:
        return None


def boundaries(later: datetime, earlier: datetime, unit: str, node: exp.Expr) -> int:
    """Return how many borders of a unit lie between two moments, as DATEDIFF counts them."""
    if unit == "DAY":
        return (later.date() - earlier.date()).days
    if unit in _MONTHS:
        months = (later.year - earlier.year) * 12 + later.month - earlier.month
        if unit == "YEAR":
            return later.year - earlier.year
        if unit == "MONTH":
            return months
    raise Unlike(node, f"counts in {unit}, which is not known here", "Count days or months.")


def _is_number(value: Any) -> bool:
    return isinstance(value, int | Decimal) and not isinstance(value, bool)


def moment_of(value: date) -> datetime:
    """Return a day as the moment at which it begins; a moment is returned unchanged."""
    return value if isinstance(value, datetime) else datetime(value.year, value.month, value.day)


def _seconds(length: timedelta) -> Decimal:
    return Decimal(length.days * 86_400 + length.seconds) + Decimal(length.microseconds) / 1_000_000


def _moved(began: date, length: Interval, sign: int) -> date:
    """Return a day or moment moved by a length; a month that is too short gives its last day."""
    seconds = length.seconds * sign
    if isinstance(began, datetime) or seconds % 86_400:
        began = moment_of(began)
    moved = began + timedelta(days=int(seconds // 86_400),
                              microseconds=int(seconds % 86_400 * 1_000_000))  # fmt: skip
    months = moved.year * 12 + moved.month - 1 + length.months * sign
    year, month = months // 12, months % 12 + 1
    return moved.replace(
        year=year, month=month, day=min(moved.day, calendar.monthrange(year, month)[1])
    )

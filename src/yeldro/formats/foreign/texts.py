"""Conditions on text: what another system would say of each value that is stored here.

How text compares depends on a system's collation, which no statement tells. So each value in the
column is looked at: what the other system surely says of it, and what it might say under a
collation without case, accents or trailing blanks. Where the two differ, or this database says
something else, the condition is refused with the value.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any

from sqlglot import exp

from yeldro.formats.foreign.unlike import Unlike

LOOSE = {"tsql", "mysql", "sqlite", "access"}  # systems on which a collation may pass over case

Truth = bool | None
Seen = Callable[[Any], Any]


def exactly(text: str) -> str:
    """Return a text as it compares under a collation that tells everything apart."""
    return text


def loosely(text: str) -> str:
    """Return a text as it compares under a collation that passes over as much as any does."""
    plain = unicodedata.normalize("NFKD", text.rstrip(" "))
    return "".join(each for each in plain if not unicodedata.combining(each)).casefold()


class Reading:
    """One way in which a system can read a condition on a text column.

    Args:
        source: its dialect.
        form: what two texts are compared by.
        fold: what the letters of a text and a pattern are compared by.
        constant: returns the value of a constant expression.
    """

    def __init__(
        self,
        source: str,
        form: Callable[[str], str],
        fold: Callable[[str], str],
        constant: Callable[[exp.Expr], Any],
    ) -> None:
        self.source = source
        self.form = form
        self.fold = fold
        self.constant = constant

    def says(self, node: exp.Expr, value: str | None) -> Truth:
        """Return what the system says of a condition where the column has this value.

        Raises:
            Unlike: a part of it is not known.
        """
        if self.source == "oracle" and value == "":
            value = None
        if isinstance(node, exp.Paren):
            return self.says(node.this, value)
        if isinstance(node, exp.Not):
            said = self.says(node.this, value)
            return None if said is None else not said
        if isinstance(node, exp.Is):
            return self._text(node.this, value) is None
        if isinstance(node, exp.In):
            found = [self._equal(self._text(node.this, value), self._text(each, value), node)
                     for each in node.expressions]  # fmt: skip
            return True if True in found else None if None in found else False
        if isinstance(node, exp.Like | exp.ILike):
            return self._like(node, value)
        if isinstance(node, exp.Escape):
            return self._like(node.this, value, escape=str(node.expression.this))
        if isinstance(node, exp.EQ | exp.NEQ):
            said = self._equal(
                self._text(node.this, value), self._text(node.expression, value), node
            )
            return said if said is None or isinstance(node, exp.EQ) else not said
        if isinstance(node, exp.GT | exp.GTE | exp.LT | exp.LTE):
            one, other = self._text(node.this, value), self._text(node.expression, value)
            if one is None or other is None:
                return None
            if isinstance(one, str) or isinstance(other, str):
                raise Unlike(node, "orders text, which each collation does in its own way",
                             "Compare with =, IN or LIKE.")  # fmt: skip
            order = {exp.GT: one > other, exp.GTE: one >= other, exp.LT: one < other,
                     exp.LTE: one <= other}  # fmt: skip
            return bool(order[type(node)])
        raise Unlike(node, "is not known here as a condition on text", "Write =, IN or LIKE.")

    def _equal(self, one: Any, other: Any, node: exp.Expr) -> Truth:
        if one is None or other is None:
            return None
        if isinstance(one, str) and isinstance(other, str):
            return self.form(one) == self.form(other)
        if isinstance(one, str) or isinstance(other, str):
            raise Unlike(node, "compares text with a number, which each system converts by its own "
                         "rules", "Compare it with a text in quotes.")  # fmt: skip
        return bool(one == other)

    def _like(self, node: exp.Expr, value: str | None, escape: str = "") -> Truth:
        text, pattern = self._text(node.this, value), self._text(node.expression, value)
        if text is None or pattern is None:
            return None
        if not isinstance(text, str) or not isinstance(pattern, str):
            raise Unlike(node, "is a LIKE of what is no text")
        escape = escape or ("\\" if self.source in ("postgres", "mysql") else "")
        sets = self.source in ("tsql", "access")
        # Trailing blanks count in a pattern; only letters are compared by the collation.
        fold = _without_case if isinstance(node, exp.ILike) else self.fold
        wanted = _as_pattern(fold(pattern), escape, sets, node)
        matches = bool(re.fullmatch(wanted, fold(text), re.DOTALL))
        return matches != bool(node.args.get("negate"))

    def _text(self, node: exp.Expr, value: str | None) -> Any:
        """Return the value of an expression where the column has this value."""
        if isinstance(node, exp.Column):
            return value
        if isinstance(node, exp.Paren):
            return self._text(node.this, value)
        if isinstance(node, exp.Cast) and node.to.is_type("text"):
            return self._text(node.this, value)
        if not node.find(exp.Column):
            found = self.constant(node)
            return None if self.source == "oracle" and found == "" else found
        function = _FUNCTIONS.get(type(node))
        if function is None:
            raise Unlike(node, "is not known here", "Compare the column itself.")
        return function(self, node, value)

    def _argument(self, node: exp.Expr, value: str | None) -> str | None:
        found = self._text(node, value)
        if found is not None and not isinstance(found, str):
            raise Unlike(node, "is no text")
        return found

    def _lower(self, node: exp.Expr, value: str | None) -> str | None:
        found = self._argument(node.this, value)
        return None if found is None else found.lower()

    def _upper(self, node: exp.Expr, value: str | None) -> str | None:
        found = self._argument(node.this, value)
        return None if found is None else found.upper()

    def _trim(self, node: exp.Expr, value: str | None) -> str | None:
        if node.args.get("expression"):
            raise Unlike(node, "trims other characters than blanks", "Compare the column itself.")
        found = self._argument(node.this, value)
        side = (node.args.get("position") or "").upper()
        if found is None:
            return None
        found = found if side == "TRAILING" else found.lstrip(" ")
        found = found if side == "LEADING" else found.rstrip(" ")
        return self._or_null(found)

    def _or_null(self, text: str) -> str | None:
        return None if self.source == "oracle" and not text else text

    def _length(self, node: exp.Expr, value: str | None) -> int | None:
        found = self._argument(node.this, value)
        if found is None:
            return None
        if node.args.get("binary"):
            if not found.isascii():
                raise Unlike(node, "counts bytes, which depend on the encoding", "CHAR_LENGTH")
            return len(found)
        return len(found.rstrip(" ")) if self.source == "tsql" else len(found)

    def _part(self, node: exp.Expr, value: str | None) -> str | None:
        found = self._argument(node.this, value)
        if isinstance(node, exp.Substring):
            start = self._text(node.args["start"], value)
            length = self._text(node.args["length"], value) if node.args.get("length") else None
        else:
            length, start = self._text(node.expression, value), 1
        if not isinstance(start, int) or start < 1 or (length is not None and not (
            isinstance(length, int) and length >= 0
        )):  # fmt: skip
            raise Unlike(node, "has places that each system counts in its own way",
                         "Count from 1 on.")  # fmt: skip
        if found is None:
            return None
        if isinstance(node, exp.Right):
            return self._or_null(found[-length:] if length else "")
        end = None if length is None else start - 1 + length
        return self._or_null(found[start - 1 : end])

    def _replaced(self, node: exp.Expr, value: str | None) -> str | None:
        if self.fold is not exactly:
            raise Unlike(node, "looks for text by the rules of a collation",
                         "Compare the column itself.")  # fmt: skip
        parts = [node.this, node.expression, node.args.get("replacement")]
        one, old, new = (self._argument(each, value) if each is not None else "" for each in parts)
        if one is None:
            return None
        if not old or new is None:
            raise Unlike(node, "replaces nothing, or by nothing", "Compare the column itself.")
        return self._or_null(one.replace(old, new))

    def _joined(self, node: exp.Expr, value: str | None) -> str | None:
        infix = isinstance(node, exp.Add | exp.DPipe | exp.BitwiseAnd)
        parts = list(node.flatten()) if infix else node.expressions
        found = [self._argument(each, value) for each in parts]
        joins_null = self.source == "tsql" and isinstance(node, exp.Concat)
        if self.source == "oracle" or joins_null or isinstance(node, exp.BitwiseAnd):
            return self._or_null("".join(each or "" for each in found))
        if self.source == "postgres" and isinstance(node, exp.Concat):
            return "".join(each or "" for each in found)
        return None if None in found else "".join(each or "" for each in found)

    def _first_value(self, node: exp.Expr, value: str | None) -> Any:
        for each in (node.this, *node.expressions):
            found = self._text(each, value)
            if found is not None:
                return found
        return None


_FUNCTIONS: dict[type, Callable[[Reading, Any, str | None], Any]] = {
    exp.Lower: Reading._lower,
    exp.Upper: Reading._upper,
    exp.Trim: Reading._trim,
    exp.Length: Reading._length,
    exp.Substring: Reading._part,
    exp.Left: Reading._part,
    exp.Right: Reading._part,
    exp.Replace: Reading._replaced,
    exp.Concat: Reading._joined,
    exp.DPipe: Reading._joined,
    exp.Add: Reading._joined,
    exp.BitwiseAnd: Reading._joined,  # the & of Access
    exp.Coalesce: Reading._first_value,
}


def _without_case(text: str) -> str:
    plain = unicodedata.normalize("NFKD", text)
    return "".join(each for each in plain if not unicodedata.combining(each)).casefold()


def _as_pattern(pattern: str, escape: str, sets: bool, node: exp.Expr) -> str:
    """Return a LIKE pattern as a regular expression."""
    written, place = "", 0
    while place < len(pattern):
        sign = pattern[place]
        if escape and sign == escape and place + 1 < len(pattern):
            place += 1
            written += re.escape(pattern[place])
        elif sign == "%":
            written += ".*"
        elif sign == "_":
            written += "."
        elif sets and sign == "[":
            end = pattern.find("]", place + 1)
            inner = pattern[place + 1 : end]
            if end < 0 or not re.fullmatch(r"\^?[0-9]-[0-9]|\^?[^\W_]+|[%_\[]", inner):
                raise Unlike(node, "has a set of characters that each collation orders in its own "
                             "way", "Write a LIKE for each character.")  # fmt: skip
            signs, others = inner.removeprefix("^"), inner.startswith("^")
            listed = signs if "-" in signs else re.escape(signs)
            written += f"[{'^' if others else ''}{listed}]"
            place = end
        else:
            written += re.escape(sign)
        place += 1
    return written


def disagreement(
    node: exp.Expr,
    source: str,
    constant: Callable[[exp.Expr], Any],
    values: Sequence[tuple[str | None, Truth]],
    *,
    negated: bool,
) -> str:
    """Return why a condition cannot be carried over, as a value behind it; empty if it can.

    Args:
        values: each value of the column with what this database says of it.
        negated: it matters if the condition is false or unknown.
    """
    sure = Reading(source, exactly, exactly, constant)
    if source in LOOSE:
        other = Reading(source, loosely, _without_case, constant)
    else:
        other = Reading(source, _unpadded, exactly, constant)
    for value, here in values:
        there, might = sure.says(node, value), other.says(node, value)
        if there != might:
            return (
                f"may or may not be true of {value!r} there, as its collation tells case, accents "
                f"and blanks apart or not"
            )
        if there != here and (there or here or negated):
            return f"is {_word(there)} of {value!r} there, and {_word(here)} here"
    return ""


def _unpadded(text: str) -> str:
    return text.rstrip(" ")


def _word(said: Truth) -> str:
    return "unknown" if said is None else "true" if said else "false"


def number_of(text: str) -> int | Decimal | None:
    """Return the number that a text is on every system; None if it is none."""
    text = text.strip()
    if re.fullmatch(r"-?\d{1,18}", text):
        return int(text)
    return Decimal(text) if re.fullmatch(r"-?\d{1,15}\.\d{1,15}", text) else None

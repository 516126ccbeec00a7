"""Carries conditions on text over, once they are held against every stored value."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from contextlib import contextmanager
from typing import TYPE_CHECKING, Any

from sqlglot import exp

from yeldro.formats.foreign.stored import MOST_VALUES
from yeldro.formats.foreign.texts import disagreement
from yeldro.formats.foreign.unlike import Unlike

if TYPE_CHECKING:
    from yeldro.formats.foreign.scope import Known, Scope
    from yeldro.formats.foreign.stored import Stored


_BACKSLASH_ESCAPES = ("postgres", "mysql", "mariadb")


class Texts:
    """Carries conditions on one text column over.

    Args:
        source: the dialect in which they are written.
        value: returns the value of a constant expression or a parameter.
    """

    def __init__(self, source: str, value: Callable[[exp.Expr], Any], stored: Stored) -> None:
        self.source = source
        self.value = value
        self.stored = stored
        self._negations = 0

    @contextmanager
    def negated(self) -> Iterator[None]:
        """Hold what is carried over within the block for part of a negation.

        There it matters if a condition is false or unknown.
        """
        self._negations += 1
        try:
            yield
        finally:
            self._negations -= 1

    def carried(self, node: exp.Expr, scope: Scope) -> exp.Expr:
        """Return a condition as it is written here.

        Raises:
            Unlike: it is not of one column, or this database says something else of a value.
        """
        refuse_marks(node)
        if self.source == "oracle":
            for text in node.find_all(exp.Literal):
                if text.is_string and not text.this:
                    problem = "is NULL there and an empty text here"
                    raise Unlike(text, problem, "Write IS NULL or IS NOT NULL.")
        known = self._only_column(node, scope)
        carried = _inside_out(node.transform(self._computed), self._written_here)
        name = known.stored[1].name
        bare = carried.transform(self._for_itself, name)
        said = bare.sql(dialect=self.stored.dialect, comments=False)
        values = self.stored.texts(known, said)
        if len(values) > MOST_VALUES:
            raise Unlike(
                node,
                f"is a condition on more than {MOST_VALUES:,} different texts, and whether each "
                "compares here as it does there was not checked",
                "Drop ‹dialect›: then this database's own rules hold.",
            )
        negated = bool(self._negations)
        problem = disagreement(node, self.source, self.value, values, negated=negated)
        if problem:
            raise Unlike(node, problem, "Write it by this database's rules, and drop ‹dialect›.")
        return carried

    def _computed(self, node: exp.Expr) -> exp.Expr:
        """Return a text that is joined or coded by its value."""
        if isinstance(node, exp.Add | exp.DPipe | exp.Anonymous):
            value = self.value(node)
            if isinstance(value, str):
                return exp.Literal.string(value)
        return node

    def _only_column(self, node: exp.Expr, scope: Scope) -> Known:
        found = [scope.find(each) for each in node.find_all(exp.Column)]
        known = found[0] if found else None
        alone = all(each is not None and each == known for each in found)
        if known is None or not known.is_stored or known.kind != "text" or not alone:
            raise Unlike(
                node,
                "is a condition on text that is not of one column",
                "Compare one column with texts in quotes.",
            )
        return known

    def _written_here(self, node: exp.Expr) -> exp.Expr:
        """Return a part of a condition as this system has it."""
        if isinstance(node, exp.National):
            return exp.Literal.string(str(node.this))
        if isinstance(node, exp.Cast) and node.to.is_type("text"):
            inner: exp.Expr = node.this
            return inner
        if isinstance(node, exp.Add):
            return exp.DPipe(this=node.this, expression=node.expression, safe=True)
        if isinstance(node, exp.Length):
            text = node.this.this if isinstance(node.this, exp.Cast) else node.this
            if self.source == "tsql":  # trailing blanks do not count there
                text = exp.Trim(this=text, position="TRAILING")
            return exp.Length(this=text)
        if isinstance(node, exp.Coalesce):
            return exp.Coalesce(this=node.this, expressions=node.expressions)
        if isinstance(node, exp.Concat) and self.source == "tsql":
            parts = [
                exp.Coalesce(this=each, expressions=[exp.Literal.string("")])
                for each in node.expressions
            ]
            return exp.Concat(expressions=parts, safe=True, coalesce=False)
        if isinstance(node, exp.BitwiseAnd):
            if self.source != "access":
                raise Unlike(node, "computes with bits of text", "Compare the column itself.")
            joined = [
                exp.Coalesce(this=each, expressions=[exp.Literal.string("")])
                for each in node.flatten()
            ]
            return exp.Concat(expressions=joined, safe=True, coalesce=False)
        if isinstance(node, exp.Left | exp.Right) and self.stored.dialect == "sqlite":
            return _part_of(node)
        if isinstance(node, exp.Like | exp.ILike) and not isinstance(node.parent, exp.Escape):
            return self._with_escape(self._with_sets(node))
        return node

    def _with_escape(self, node: exp.Expr) -> exp.Expr:
        pattern = self.value(node.expression) if isinstance(node, exp.Like | exp.ILike) else None
        return with_escape(node, pattern, self.source, self.stored.dialect)

    def _with_sets(self, node: exp.Like | exp.ILike) -> exp.Expr:
        """Return a LIKE whose pattern has sets of characters in the form that this system has."""
        pattern = self.value(node.expression)
        sets = self.source in ("tsql", "access")
        if not sets or not isinstance(pattern, str) or "[" not in pattern:
            return node
        if self.stored.dialect == "sqlite":
            signs = {"%": "*", "_": "?", "*": "[*]", "?": "[?]"}
            wanted = exp.Literal.string(_signs(pattern, signs))
            return _perhaps_not(exp.Glob(this=node.this, expression=wanted), node)
        signs = {"%": ".*", "_": ".", **{each: f"\\{each}" for each in ".*+?()|{}^$\\"}}
        wanted = exp.Literal.string(f"^{_signs(pattern, signs)}$")
        return _perhaps_not(exp.RegexpLike(this=node.this, expression=wanted), node)

    def _for_itself(self, node: exp.Expr, name: str) -> exp.Expr:
        """Return a part of a condition for a query of its own, on the column of this name."""
        if isinstance(node, exp.Column):
            return exp.column(name, quoted=True)
        if isinstance(node, exp.Placeholder):
            return exp.convert(self.value(node))
        return node


def with_escape(node: exp.Expr, pattern: Any, source: str, target: str) -> exp.Expr:
    """Return a LIKE in which a backslash means what it means there: an escape, or itself.

    Args:
        pattern: the pattern, if it is known.
        source, target: the dialect that it comes from, and the one that it is written in.
    """
    escapes, there = (each in _BACKSLASH_ESCAPES for each in (source, target))
    if escapes == there or not isinstance(pattern, str) or "\\" not in pattern:
        return node
    if escapes:
        return exp.Escape(this=node, expression=exp.Literal.string("\\"))
    unused = next(each for each in "!|~^@#&" if each not in pattern)
    return exp.Escape(this=node, expression=exp.Literal.string(unused))


def _inside_out(node: exp.Expr, change: Callable[[exp.Expr], exp.Expr]) -> exp.Expr:
    """Change the parts of a condition, and then what they are part of."""
    for part in list(node.iter_expressions()):
        changed = _inside_out(part, change)
        if changed is not part:
            part.replace(changed)
    return change(node)


def _part_of(node: exp.Expr) -> exp.Expr:
    """Return the first or last characters of a text, where no function is named after that."""
    text = node.this.this if isinstance(node.this, exp.Cast) else node.this
    if isinstance(node, exp.Left):
        start: exp.Expr = exp.Literal.number(1)
        return exp.Substring(this=text, start=start, length=node.expression)
    return exp.Substring(this=text, start=exp.Neg(this=node.expression))


def _perhaps_not(matches: exp.Expr, node: exp.Expr) -> exp.Expr:
    return exp.Paren(this=exp.Not(this=matches)) if node.args.get("negate") else matches


def _signs(pattern: str, signs: dict[str, str]) -> str:
    """Return a pattern in which the signs outside sets are written in another way."""
    written, inside = "", False
    for each in pattern:
        written += each if inside else signs.get(each, each)
        inside = each == "[" or (inside and each != "]")
    return written


def refuse_marks(node: exp.Expr) -> None:
    """Refuse Oracle's old form of outer joins.

    Raises:
        Unlike: a side of the condition has the mark (+).
    """
    for each in node.find_all(exp.Column, exp.Literal):
        if each.args.get("join_mark"):
            raise Unlike(node, "has the mark (+) of an outer join", "Write it as LEFT JOIN.")

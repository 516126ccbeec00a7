"""Lists of values in conditions."""

from __future__ import annotations

from sqlglot import exp

from yeldro.formats.foreign.texts import number_of
from yeldro.formats.foreign.unlike import Unlike


def either(conditions: list[exp.Expr]) -> exp.Expr:
    """Return that one of some conditions holds: as a list, where each is an equation of one side.

    A list may be long, and systems nest the parts of OR only so deep.
    """
    first = conditions[0]
    if all(isinstance(each, exp.EQ) and each.this == first.this for each in conditions):
        return exp.In(this=first.this, expressions=[each.expression for each in conditions])
    return exp.Paren(this=exp.or_(*conditions))


def of_array(node: exp.Any) -> list[exp.Expr]:
    """Return the values of `ANY('{1,2}')` and `ANY(ARRAY[1, 2])`."""
    inner = node.this.unnest()
    if isinstance(inner, exp.Array):
        return list(inner.expressions)
    if isinstance(inner, exp.Literal) and inner.is_string:
        text = str(inner.this).strip()
        if text[:1] == "{" and text[-1:] == "}" and not set(text[1:-1]) & set('{}"\\'):
            values = [each.strip() for each in text[1:-1].split(",")]
            if all(number_of(each) is not None for each in values):
                return [exp.Literal.number(each) for each in values]
    raise Unlike(node, "is an array that is not known here", "Write IN (1, 2).")

"""SQL text as syntax trees, in which every name is spelled as the system reads it."""

from __future__ import annotations

import sqlglot
from sqlglot import exp


def parse(text: str, dialect: str) -> list[exp.Expr]:
    """The statements or conditions of a text.

    PostgreSQL reads a name without quotes in lower case, so `Buoy` never means a table "Buoy"
    there (its manual, 4.1.1).

    Raises:
        SqlglotError: the text cannot be read.
    """
    trees = [tree for tree in sqlglot.parse(text, dialect=dialect) if tree is not None]
    if dialect == "postgres":
        for tree in trees:
            for name in tree.find_all(exp.Identifier):
                if not name.quoted:
                    name.set("this", name.this.lower())
    return trees

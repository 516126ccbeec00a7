"""A part of a statement that cannot be carried over exactly."""

from __future__ import annotations

from sqlglot import exp


class Unlike(Exception):
    """Raised where a part means something else here, or is not known.

    Args:
        node: the part.
        problem: what is different, as the end of a sentence that begins with the part.
        next_step: what to write instead.
    """

    def __init__(self, node: exp.Expr, problem: str, next_step: str = "") -> None:
        self.node = node
        self.problem = problem
        self.next_step = next_step
        super().__init__(problem)

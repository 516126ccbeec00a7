"""When two values count as equal: as the database compares them, or more loosely."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class EqualityRules:
    """What is ignored when rows are compared.

    Args:
        ignore_case: the case of text.
        trim: spaces around text.
        null_distinct: a NULL is equal to nothing, so its row is in no group.
        as_text: values of types that the system cannot compare are compared by their text.
    """

    ignore_case: bool = False
    trim: bool = False
    null_distinct: bool = False
    as_text: bool = False

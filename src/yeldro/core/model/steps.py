"""Steps of a plan: one statement's worth of work each."""

from __future__ import annotations

from dataclasses import dataclass
from enum import StrEnum


class Action(StrEnum):
    """What one step does; the last two are a restore's."""

    REMOVE = "remove"
    DETACH = "detach"
    REPOINT = "repoint"
    ADD = "add"
    RELINK = "relink"


@dataclass(frozen=True)
class Step:
    """One statement's worth of work.

    Args:
        because: the foreign keys that are the reason, with their action or the user's option.
        path: the tables from the named table to this one.
        in_passing: these rows are changed only so that a later step can remove them; that step
            counts and stores them.
    """

    n: int
    action: Action
    table: str
    rows: int
    because: str
    path: tuple[str, ...]
    in_passing: bool = False

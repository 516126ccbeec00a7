"""Why a row goes, changes or stays: chains of rows that lead to it."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Hashable, Iterable
from dataclasses import dataclass
from enum import StrEnum
from typing import Any, TypeVar

_MOST_CHAINS = 5
Key = tuple[Any, ...]
Node = TypeVar("Node", bound=Hashable)


class Fate(StrEnum):
    """What happens to rows: those that depend on removed ones, or to any that is asked about."""

    REMOVED = "removed"
    DETACHED = "detached"
    REPOINTED = "repointed"
    BLOCKS = "blocks"
    REMOVED_ELSEWHERE = "removed on another path"
    FILLED = "filled"


@dataclass(frozen=True)
class Reason:
    """A row of a chain, and what makes it go or change.

    Args:
        key: the values of its key; empty if its table has none.
        because: `matched`, or the foreign key to the row before it, with its action.
    """

    table: str
    key: Key
    because: str


@dataclass(frozen=True)
class Why:
    """What a plan does to one row, and why.

    Args:
        fates: what is done to it, empty if it stays as it is; a row that goes has only that.
        chains: for each matched row that leads to it, up to a few, a shortest chain from that row.
        left_out: there may be more chains than these.
        notes: why a row stays, as sentences.
    """

    table: str
    columns: tuple[str, ...]
    key: Key
    fates: tuple[Fate, ...]
    chains: tuple[tuple[Reason, ...], ...]
    left_out: bool
    notes: tuple[str, ...]


def shown(value: Any) -> str:
    """Return a value of a key as text; bytes as `x'00ff'`."""
    return f"x'{value.hex()}'" if isinstance(value, bytes) else str(value)


def named(table: object, key: Key) -> str:
    """Return a row as people call it: `buoy 12`, `visit (3, 1)`, `a row of log` without a key."""
    if not key:
        return f"a row of {table}"
    texts = [shown(value) for value in key]
    return f"{table} {texts[0] if len(texts) == 1 else '(' + ', '.join(texts) + ')'}"


def chains_to(
    asked: Node, above: Callable[[Node], Iterable[tuple[Node, str]] | None], most_rows: int
) -> tuple[list[list[tuple[Node, str]]], bool]:
    """Return a shortest chain from each first row to one row, found backwards in breadth.

    Args:
        above: the rows that a row depends on, each with the foreign key; None for a first row.
        most_rows: how many rows are followed.

    Returns:
        The chains, from the first row down, each row with the foreign key to the one before it
        (empty for the first); and whether there may be more.
    """
    below: dict[Node, tuple[Node, str] | None] = {asked: None}
    waiting = deque([asked])
    chains: list[list[tuple[Node, str]]] = []
    while waiting:
        if len(chains) == _MOST_CHAINS or len(below) > most_rows:
            return chains, True
        here = waiting.popleft()
        found = above(here)
        if found is None:
            chain, step = [(here, "")], below[here]
            while step:
                chain.append(step)
                step = below[step[0]]
            chains.append(chain)
            continue
        for parent, because in found:
            if parent not in below:
                below[parent] = (here, because)
                waiting.append(parent)
    return chains, False

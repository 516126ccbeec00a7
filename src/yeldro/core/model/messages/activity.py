"""What is being done just now, for whoever watches long work.

Nothing depends on it: without a watcher an announcement is dropped.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator, Sized
from contextlib import contextmanager
from contextvars import ContextVar
from dataclasses import dataclass
from typing import TypeVar


@dataclass(frozen=True)
class Activity:
    """One piece of the work.

    Args:
        what: as a participle: `counting`, `storing`, `removing`, `proving`.
        table: what it is done to; empty where that cannot be said.
        place, of: which piece this is, of how many; 0 where they are not numbered.
        rows: rows of this kind of work that are done already.
        total: how many they will be; None where that is not known.
    """

    what: str
    table: str = ""
    place: int = 0
    of: int = 0
    rows: int = 0
    total: int | None = None


Watcher = Callable[[Activity], None]
_watcher: ContextVar[Watcher | None] = ContextVar("yeldro_watcher", default=None)
Part = TypeVar("Part", bound=Sized)


def announce(
    what: str,
    table: object = "",
    place: int = 0,
    of: int = 0,
    *,
    rows: int = 0,
    total: int | None = None,
) -> None:
    """Tell the watcher, if there is one, what begins or goes on; the arguments are `Activity`'s."""
    watcher = _watcher.get()
    if watcher is not None:
        watcher(Activity(what, str(table), place, of, rows, total))


def announced(
    parts: Iterable[Part], what: str, table: object, *, rows: int, total: int
) -> Iterator[Part]:
    """Yield parts of rows, and announce each when it is done.

    Args:
        rows: how many are done before the first part.
    """
    announce(what, table, rows=rows, total=total)
    try:
        for part in parts:
            yield part
            rows += len(part)
            announce(what, table, rows=rows, total=total)
    finally:
        close = getattr(parts, "close", None)
        if close is not None:
            close()  # else it goes on reading what is about to be rolled back


@contextmanager
def watched_by(watcher: Watcher) -> Iterator[None]:
    """Tell `watcher` of all that is announced in this thread until the block ends."""
    before = _watcher.set(watcher)
    try:
        yield
    finally:
        _watcher.reset(before)

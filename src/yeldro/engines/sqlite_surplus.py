"""Surplus rows of duplicates in SQLite, in half the time that numbering every row takes.

A second process sorts half of the groups on a core of its own. Threads cannot: SQLite counts its
memory under one lock.
"""

from __future__ import annotations

import json
import os
import shutil
import subprocess
import sys
import tempfile
import threading
from array import array
from collections.abc import Callable, Iterator
from contextlib import ExitStack, contextmanager, suppress
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path
from typing import IO, Any, cast

import sqlalchemy as sa

from yeldro.engines.sqlite_groups import MANY, Groups, Look, look

_HELPER = Path(__file__).with_name("sqlite_helper.py")
_IN_MEMORY = 1 << 20  # bytes found by a second process that are not put on disk
_BYTES_AT_ONCE = 3200  # 200 rows of two row ids


def note_surplus(
    connection: sa.Connection,
    keys: sa.TableClause,
    groups: Groups,
    address: str,
    wait: float | None,
) -> None:
    """Puts the rows that are not kept into a key table, each with the row kept for it.

    Args:
        address: where a second process finds the same rows as this connection; empty where it
            might find others.
        wait: seconds after which it is not waited for any longer.
    """
    lowest, highest = (  # one at a time: both together would read all rows
        connection.execute(sa.select(end(groups.key)).select_from(groups.rows)).scalar() or 0
        for end in (sa.func.min, sa.func.max)
    )
    if highest - lowest < MANY:
        _insert(connection, keys, groups.surplus())
        return
    seen = look(connection, groups, lowest, highest)
    finding = _Finding(connection, keys, seen, address if _can_be_helped() else "", wait)
    weight = seen.weight
    if weight is None or not finding.by(
        lambda part: part.surplus_of_pairs(weight), lambda: seen.pairs_prevail(connection)
    ):
        finding.by(Groups.surplus)
        return
    row, kept = keys.c
    if_larger = sa.select(row).where(kept == 0)
    if connection.execute(if_larger.limit(1)).first():
        _insert(connection, keys, seen.groups.surplus_of_larger(if_larger), "OR REPLACE")
        connection.execute(sa.delete(keys).where(kept == 0))


@dataclass(frozen=True)
class _Finding:
    connection: sa.Connection
    keys: sa.TableClause
    seen: Look
    address: str
    wait: float | None

    def by(
        self,
        query: Callable[[Groups], sa.Select[Any]],
        is_good: Callable[[], bool] = lambda: True,
    ) -> bool:
        """Puts in what a query of the groups finds, half of it by a second process if one can help.

        Args:
            is_good: whether the query is the right one; asked when the second process has begun.

        Returns:
            Whether it was.
        """
        groups, middle = self.seen.groups, self.seen.middle
        if not self.address or middle is None:
            if good := is_good():
                _insert(self.connection, self.keys, query(groups))
            return good
        lower = groups.values[0] < middle
        rest = query(groups.part(lower.is_not(sa.true())))
        cache_size = self.connection.exec_driver_sql("PRAGMA cache_size").scalar()
        asked = json.dumps([self.address, cache_size, _written(self.connection, rest)])
        with _helped(asked.encode()) as helper:
            if not is_good():
                return False
            with _sorting_alone(self.connection):
                _insert(self.connection, self.keys, query(groups.part(lower)))
            if helper is not None and helper.ended(self.wait):
                _insert_numbers(self.connection, self.keys, helper.numbers())
            else:
                _insert(self.connection, self.keys, rest)
        return True


@contextmanager
def _sorting_alone(connection: sa.Connection) -> Iterator[None]:
    """No thread helps to sort: a second process is to have a core."""
    sorting = connection.exec_driver_sql("PRAGMA threads").scalar()
    connection.exec_driver_sql("PRAGMA threads = 0")
    yield
    connection.exec_driver_sql(f"PRAGMA threads = {sorting}")


def _can_be_helped() -> bool:
    """Whether a second process can be started, and would find a core of its own."""
    cores = len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1
    return cores > 1 and Path(sys.executable or "").name.startswith("python")


def _insert(
    connection: sa.Connection, keys: sa.TableClause, query: sa.Select[Any], *how: str
) -> None:
    insert = sa.insert(keys).prefix_with(*how)
    connection.execute(insert.from_select(list(keys.c), query))


def _insert_numbers(
    connection: sa.Connection, keys: sa.TableClause, numbers: Iterator[array[int]]
) -> None:
    """Puts rows in as they are read, a bounded number at a time, so that memory stays flat."""
    raw: Any = connection.connection.driver_connection
    row = dict.fromkeys(keys.c.keys(), 0)
    for size, parts in groupby(numbers, len):
        insert = sa.insert(keys).values([row] * (size // len(row)))
        raw.executemany(str(insert.compile(connection)), parts)


def _written(connection: sa.Connection, query: sa.Select[Any]) -> str:
    compiled = query.compile(connection, compile_kwargs={"literal_binds": True})
    return str(compiled)


class _Helper:
    """A second process that executes a query; what it finds is kept on disk where it is much."""

    def __init__(self, process: subprocess.Popen[bytes], kept: IO[bytes]) -> None:
        self._process = process
        self._kept = kept
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        shutil.copyfileobj(cast(IO[bytes], self._process.stdout), self._kept)

    def give_up(self) -> None:
        """Ends the process, if it has not ended by itself."""
        self._process.kill()
        self._reader.join()

    def ended(self, wait: float | None) -> bool:
        """Whether it has found everything, within so many seconds."""
        self._reader.join(wait)
        return not self._reader.is_alive() and self._process.wait() == 0

    def numbers(self) -> Iterator[array[int]]:
        """Row ids of rows that are not kept, each before that of the row kept for it; in parts."""
        self._kept.seek(0)
        while read := self._kept.read(_BYTES_AT_ONCE):
            yield array("q", read)


@contextmanager
def _helped(asked: bytes) -> Iterator[_Helper | None]:
    """A second process that executes a query, ended when this is left; None where none starts."""
    pipe = subprocess.PIPE
    with ExitStack() as stack:
        helper = None
        with suppress(OSError):
            kept = stack.enter_context(tempfile.SpooledTemporaryFile(_IN_MEMORY))
            command = [sys.executable, "-I", "-S", str(_HELPER)]
            process = subprocess.Popen(
                command,
                stdin=pipe,
                stdout=pipe,
                stderr=subprocess.DEVNULL,
                start_new_session=True,  # a Ctrl-C is for this process, which then ends the other
            )
            stack.enter_context(process)
            helper = _Helper(process, cast(IO[bytes], kept))
            stack.callback(helper.give_up)
            with cast(IO[bytes], process.stdin) as reading:
                reading.write(asked)
        yield helper

"""Surplus rows of duplicates in SQLite, in half the time that numbering every row takes.

A second process sorts half of the groups on another core. Threads do not help, as SQLite allocates
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
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from itertools import groupby
from pathlib import Path
from typing import IO, Any, cast

import sqlalchemy as sa

from yeldro.engines.sqlite.groups import MANY, Groups, look

_HELPER = Path(__file__).with_name("helper.py")
_IN_MEMORY = 1 << 20  # bytes of a second process's output that are kept off the disk
_BYTES_AT_ONCE = 3200  # 200 rows of two row ids
_CACHED = 8_000  # KiB of pages that each process keeps; rows that are sorted take as much again


def note_surplus(
    connection: sa.Connection,
    keys: sa.TableClause,
    groups: Groups,
    address: str,
    wait: float | None,
) -> bool:
    """Put the rows that are not kept into a key table, each with the row kept for it.

    Args:
        address: the URI under which a second process sees the same rows; empty if it might see
            others.
        wait: the most seconds to wait for that process.

    Returns:
        True if it was done; False if a group may be too large for memory.
    """
    lowest, highest = (  # in two queries: one would read all rows
        connection.execute(sa.select(end(groups.key)).select_from(groups.rows)).scalar() or 0
        for end in (sa.func.min, sa.func.max)
    )
    if highest - lowest < MANY:
        _insert(connection, keys, groups.surplus())
        return True
    with ExitStack() as stack:
        stack.enter_context(_small_cache(connection))
        helper = stack.enter_context(_helped()) if address and _can_be_helped() else None
        seen = look(connection, groups, lowest, highest)
        if seen.too_large:
            return False
        if helper is None or seen.middle is None:
            _insert(connection, keys, seen.groups.surplus())
        else:
            lower = seen.groups.values[0] < seen.middle
            rest = seen.groups.part(lower.is_not(sa.true())).surplus()
            helper.ask([address, -_CACHED, _written(connection, rest)])
            _insert(connection, keys, seen.groups.part(lower).surplus())
            if helper.has_answered(wait):
                _insert_numbers(connection, keys, helper.numbers())
            else:
                _insert(connection, keys, rest)
    row, kept = keys.c
    of_larger = sa.select(row).where(kept == 0)
    if seen.groups.weight is not None and connection.execute(of_larger.limit(1)).first():
        _insert(connection, keys, seen.groups.surplus_of_larger(of_larger), "OR REPLACE")
        connection.execute(sa.delete(keys).where(kept == 0))
    return True


@contextmanager
def _small_cache(connection: sa.Connection) -> Iterator[None]:
    """Let SQLite keep fewer pages meanwhile: the rows are read in order, each page once."""
    before = connection.exec_driver_sql("PRAGMA cache_size").scalar()
    connection.exec_driver_sql(f"PRAGMA cache_size = -{_CACHED}")
    try:
        yield
    finally:
        connection.exec_driver_sql(f"PRAGMA cache_size = {before}")


def _can_be_helped() -> bool:
    """True if a second process can be started, and there is a second core."""
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
    """Insert rows as they are read, a bounded number at a time, so that memory stays flat."""
    raw: Any = connection.connection.driver_connection
    row = dict.fromkeys(keys.c.keys(), 0)
    for size, parts in groupby(numbers, len):
        insert = sa.insert(keys).values([row] * (size // len(row)))
        raw.executemany(str(insert.compile(connection)), parts)


def _written(connection: sa.Connection, query: sa.Select[Any]) -> str:
    compiled = query.compile(connection, compile_kwargs={"literal_binds": True})
    return str(compiled)


class _Helper:
    """A second process that executes a query; a large result is kept on disk."""

    def __init__(self, process: subprocess.Popen[bytes], kept: IO[bytes]) -> None:
        self._process = process
        self._kept = kept
        self._reader = threading.Thread(target=self._read, daemon=True)
        self._reader.start()

    def _read(self) -> None:
        shutil.copyfileobj(cast(IO[bytes], self._process.stdout), self._kept)

    def ask(self, asked: list[Any]) -> None:
        """Send the query to the process."""
        with suppress(BrokenPipeError), cast(IO[bytes], self._process.stdin) as reading:
            reading.write(json.dumps(asked).encode())

    def give_up(self) -> None:
        """End the process, if it has not ended by itself."""
        self._process.kill()
        self._reader.join()

    def has_answered(self, wait: float | None) -> bool:
        """True if it has finished within `wait` seconds."""
        self._reader.join(wait)
        return not self._reader.is_alive() and self._process.wait() == 0

    def numbers(self) -> Iterator[array[int]]:
        """Yield, in parts, pairs of row ids: of a surplus row and of the row kept for it."""
        self._kept.seek(0)
        while read := self._kept.read(_BYTES_AT_ONCE):
            yield array("q", read)


@contextmanager
def _helped() -> Iterator[_Helper | None]:
    """Yield a second process that waits for a query, None if none starts; it ends with this."""
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
                start_new_session=True,  # a Ctrl-C reaches this process, which then ends the other
            )
            stack.enter_context(process)
            helper = _Helper(process, cast(IO[bytes], kept))
            stack.callback(helper.give_up)
        yield helper

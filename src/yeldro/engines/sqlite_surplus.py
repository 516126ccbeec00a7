"""Surplus rows of duplicates in SQLite, in half the time that numbering every row takes.

SQLite numbers rows by copying each of them through a table of its own; a plain GROUP BY needs one
sort and no copy, and a JSON array carries the keys of those few groups that have several rows. The
sort is quickest when the column with the most distinct values leads, and a second process can sort
half of the rows on a core of its own (threads cannot: SQLite counts its memory under one lock).
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
from dataclasses import dataclass, replace
from itertools import groupby
from pathlib import Path
from typing import IO, Any, cast

import sqlalchemy as sa

from yeldro.core import sql

_HELPER = Path(__file__).with_name("sqlite_helper.py")
_LOOKED_AT = 500  # rows by which columns are compared
_MANY = 50_000  # rows, more or less, from which on looking and helping pay
_IN_MEMORY = 1 << 20  # bytes found by a second process that are not put on disk
_BYTES_AT_ONCE = 3200  # 200 rows of two row ids


@dataclass(frozen=True)
class Groups:
    """Groups of rows of a table whose rows have an integer row id.

    Args:
        key: the row id.
        values: what rows of one group agree in.
        conditions: what must hold of a row so that it is in a group.
        keep_highest: the row with the highest row id of a group is kept, else the lowest.
    """

    rows: sa.TableClause
    key: sa.ColumnElement[Any]
    values: tuple[sa.ColumnElement[Any], ...]
    conditions: tuple[sql.Predicate, ...]
    keep_highest: bool

    def surplus(self) -> sa.Select[Any]:
        """The row id of every row that is not kept, and that of the row kept for it, in order."""
        kept = (sa.func.max if self.keep_highest else sa.func.min)(self.key).label("yeldro_kept")
        keys = sa.func.json_group_array(self.key).label("yeldro_keys")
        grouped = sa.select(kept, keys).where(*self.conditions).group_by(*self.values)
        several = grouped.having(sa.func.count() > 1).subquery("yeldro_several")
        each = sa.func.json_each(several.c.yeldro_keys).table_valued("value", name="yeldro_each")
        return (
            sa.select(each.c.value, several.c.yeldro_kept)
            .select_from(several.join(each, sa.true()))
            .where(each.c.value != several.c.yeldro_kept)
            .order_by(each.c.value)
        )

    def part(self, *conditions: sql.Predicate) -> Groups:
        """The groups for which conditions on their values hold."""
        return replace(self, conditions=(*self.conditions, *conditions))


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
    middle = None
    if highest - lowest >= _MANY:
        groups, middle = _arranged(connection, groups, lowest, highest)
    if not address or middle is None or not _can_be_helped():
        _insert(connection, keys, groups)
        return
    lower = groups.values[0] < middle
    rest = groups.part(lower.is_not(sa.true()))
    sorting = connection.exec_driver_sql("PRAGMA threads").scalar()
    connection.exec_driver_sql("PRAGMA threads = 0")  # the other process is to have a core
    with _helped(address, _written(connection, rest.surplus())) as found:
        _insert(connection, keys, groups.part(lower))
        if found is not None and found.ended(wait):
            _insert_numbers(connection, keys, found.numbers())
        else:
            _insert(connection, keys, rest)
    connection.exec_driver_sql(f"PRAGMA threads = {sorting}")


def _can_be_helped() -> bool:
    """Whether a second process can be started, and would find a core of its own."""
    cores = len(os.sched_getaffinity(0)) if sys.platform == "linux" else os.cpu_count() or 1
    return cores > 1 and Path(sys.executable or "").name.startswith("python")


def _arranged(
    connection: sa.Connection, groups: Groups, lowest: int, highest: int
) -> tuple[Groups, sa.ColumnElement[Any] | None]:
    """The groups with the most telling value first, and a value in the middle of that one's.

    Rather above the middle, since a second process starts later.
    """
    step = (highest - lowest) / _LOOKED_AT
    places = json.dumps([lowest + int(step * number) for number in range(_LOOKED_AT)])
    place = sa.func.json_each(places).table_valued("value", name="yeldro_place")
    others = groups.rows.alias("yeldro_other")
    next_row = sa.select(sa.func.min(others.c[groups.key.name])).where(
        others.c[groups.key.name] >= place.c.value
    )
    found = groups.key == next_row.correlate(place).scalar_subquery()
    labelled = [value.label(f"yeldro_{n}") for n, value in enumerate(groups.values)]
    looked_at = sa.select(groups.key.label("yeldro_key"), *labelled)
    looked_at = looked_at.select_from(place.join(groups.rows, found)).where(*groups.conditions)
    seen = looked_at.distinct().subquery("yeldro_seen")
    counts = [sa.func.count(sa.distinct(seen.c[value.name])) for value in labelled]
    distinct = connection.execute(sa.select(*counts)).one()
    order = sorted(range(len(labelled)), key=lambda n: -distinct[n])
    arranged = replace(groups, values=tuple(groups.values[n] for n in order))
    leading = seen.c[labelled[order[0]].name]
    known = sa.select(seen.c.yeldro_key).where(leading.is_not(None)).order_by(leading)
    middle_row = connection.execute(known.offset(distinct[order[0]] * 11 // 20).limit(1)).scalar()
    if middle_row is None:
        return arranged, None
    middle = sa.select(arranged.values[0]).where(groups.key == sa.literal(middle_row))
    return arranged, middle.correlate(None).scalar_subquery()


def _insert(connection: sa.Connection, keys: sa.TableClause, groups: Groups) -> None:
    connection.execute(sa.insert(keys).from_select(list(keys.c), groups.surplus()))


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


class _Found:
    """What a second process finds; it is kept on disk where it is much."""

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
def _helped(address: str, query: str) -> Iterator[_Found | None]:
    """A second process that executes a query, ended when this is left; None where none starts."""
    pipe = subprocess.PIPE
    with ExitStack() as stack:
        found = None
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
            found = _Found(process, cast(IO[bytes], kept))
            stack.callback(found.give_up)
            with cast(IO[bytes], process.stdin) as asked:
                asked.write(json.dumps([address, query]).encode())
        yield found

"""The moments of a command at which it can be stopped: the statements that it sends, counted.

Those to the database count, and those to a receipt; of many alike in a row, only the first.
"""

from __future__ import annotations

import os
import sqlite3
import sys
import tempfile
import traceback
from collections.abc import Callable
from pathlib import Path
from typing import Any

import sqlalchemy as sa

_GOLDEN = 0.618034
_ALIKE = 24  # characters with which statements that differ begin


def moments_of(work: Callable[[], int]) -> int:
    """Do some work in a process of its own, to its end; how many moments it has."""
    code, count, told = _in_a_process(work, 0, lambda _: None)
    assert code == 0, told
    return count


def spread(number: int, moments: int) -> int:
    """Return one of the moments, so that a few numbers in a row spread over all of them.

    Every third is one of the last, about the commit.
    """
    last = min(12, moments) if number % 3 == 2 else moments
    return moments - int(last * (number * _GOLDEN % 1))


def stopped(
    work: Callable[[], int], moment: int, stop: Callable[[int], None], *, holding: bool = True
) -> tuple[int, str]:
    """Do some work in a process of its own, and stop it at one of its moments.

    Args:
        stop: is given the process's number.
        holding: it holds still before the statement until it is stopped; else it goes on, and is
            stopped somewhere about there.

    Returns:
        Its exit code, negative for a signal, and what it said on standard error.
    """
    code, _, told = _in_a_process(work, moment, stop, holding=holding)
    return code, told


def _in_a_process(
    work: Callable[[], int], moment: int, stop: Callable[[int], None], *, holding: bool = True
) -> tuple[int, int, str]:
    there, here = os.pipe()
    hold, release = os.pipe()
    with tempfile.NamedTemporaryFile() as err:
        child = os.fork()
        if child == 0:
            code = 1
            try:
                sys.stdout, sys.stderr = open(os.devnull, "w"), open(err.name, "w")  # noqa: SIM115
                os.close(there)
                os.close(release)
                count = _counting(here, moment, hold if holding else None)
                code = work()
                os.write(here, f" {count[0]}".encode())
            except BaseException:
                traceback.print_exc()
            finally:
                sys.stderr.flush()
                os._exit(code)
        os.close(here)
        os.close(hold)
        if os.read(there, 1) == b".":
            stop(child)
        os.close(release)
        _, status = os.waitpid(child, 0)
        rest = os.read(there, 99).strip() or b"0"
        os.close(there)
        return os.waitstatus_to_exitcode(status), int(rest), Path(err.name).read_text("utf-8")


def _counting(line: int, moment: int, hold: int | None) -> list[int]:
    """Count this process's moments from now on; tell of one of them, and hold still there."""
    count, last = [0], [""]

    def tell(statement: str) -> None:
        if statement[:_ALIKE] == last[0]:
            return
        last[0] = statement[:_ALIKE]
        count[0] += 1
        if count[0] == moment:
            os.write(line, b".")
            if hold is not None:
                os.read(hold, 1)

    connect = sqlite3.connect

    def connect_and_tell(*words: Any, **named: Any) -> sqlite3.Connection:
        connection = connect(*words, **named)
        connection.set_trace_callback(tell)
        return connection

    sqlite3.connect = connect_and_tell
    sa.event.listen(sa.Engine, "before_cursor_execute", lambda *given: tell(given[2]))
    sa.event.listen(sa.Engine, "commit", lambda _: tell("COMMIT"))
    return count

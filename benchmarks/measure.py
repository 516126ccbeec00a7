"""Measuring processes: wall time, CPU time of client and server, memory, bytes written."""

from __future__ import annotations

import os
import subprocess
import sys
import time
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

from benchmarks.systems import System

ROOT = Path(__file__).parents[1]


@dataclass(frozen=True)
class Measured:
    """What one process took.

    Args:
        wall: seconds.
        client, server: CPU seconds.
        peak: MB of memory of the process, or of a helper that took more.
        written: MB that the process wrote to disk, None where the system does not tell.
    """

    wall: float
    client: float
    server: float
    peak: float
    written: float | None


def measured(system: System, command: Sequence[str], text: str = "") -> Measured:
    """Run a process to its end.

    Args:
        text: its standard input.

    Raises:
        RuntimeError: it fails.
    """
    environment = os.environ | {"PYTHONPATH": f"{ROOT / 'src'}:{ROOT}"}
    environment.pop("PYTHONDONTWRITEBYTECODE", None)  # else the program is compiled at each start
    server, written = system.server_seconds(), _written()
    began = time.perf_counter()
    process = subprocess.Popen(
        command, stdin=subprocess.PIPE, stdout=subprocess.DEVNULL, stderr=subprocess.PIPE,
        env=environment, cwd=ROOT,
    )  # fmt: skip
    assert process.stdin is not None
    assert process.stderr is not None
    process.stdin.write(text.encode())
    process.stdin.close()
    told = process.stderr.read().decode()
    _, status, used = os.wait4(process.pid, 0)
    wall = time.perf_counter() - began
    process.returncode = os.waitstatus_to_exitcode(status)
    if process.returncode:
        raise RuntimeError(f"{' '.join(command)}: {told.strip()}")
    after = _written()
    return Measured(
        wall=wall,
        client=used.ru_utime + used.ru_stime,
        server=system.server_seconds() - server,
        peak=used.ru_maxrss / 1024,
        written=None if after is None or written is None else (after - written) / 1e6,
    )


def yeldro(system: System, words: Sequence[str], receipts: Path | None = None) -> list[str]:
    """Return the command line of Yeldro for the system's copy.

    Args:
        receipts: where receipts go, None for a command that writes none.
    """
    folder = [] if receipts is None else ["--receipts", str(receipts)]
    return [sys.executable, "-m", "yeldro", *words, *folder, "--db", system.url]


def _written() -> int | None:
    """Return the bytes written by this process and all that have ended."""
    try:
        lines = Path("/proc/self/io").read_text().splitlines()
    except OSError:
        return None
    return next(int(line.split()[1]) for line in lines if line.startswith("write_bytes"))

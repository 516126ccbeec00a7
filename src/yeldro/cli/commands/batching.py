"""Runs in batches at a terminal: progress, and two ways to stop."""

from __future__ import annotations

import signal
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

from yeldro.core.execution.batches import Batches, Progress, run_in_batches
from yeldro.core.model.errors import UsageError
from yeldro.core.model.names import counted

if TYPE_CHECKING:
    from yeldro.cli.given.what import What
    from yeldro.core.execution.run import RunResult
    from yeldro.core.planning.plan import Plan
    from yeldro.core.receipts.writer import ReceiptOptions

_SECONDS_BETWEEN_LINES = 2.0


def batches_of(what: What, options: dict[str, Any]) -> Batches | None:
    """Return how options or the cleanup file cut the run into batches; None if they do not."""
    names = ("batch", "pause", "batch_seconds")
    size, pause, seconds = (options.get(name) or what.options.get(name) for name in names)
    if size is None and seconds is None:
        return None
    if what.agreed:
        raise UsageError(
            "A saved plan is run exactly as it was made, in one transaction.",
            "Drop --batch, or run the cleanup itself in batches.",
        )
    if options.get("copy_to"):
        raise UsageError(
            "--copy-to makes one table for each step, and --batch repeats the steps.",
            "Drop --copy-to, so that the receipt holds the rows, or --batch.",
        )
    return Batches(int(size or Batches.size), float(pause or 0), seconds)


def run_batches(
    what: What,
    receipt_options: ReceiptOptions,
    lock_wait: float,
    batches: Batches,
    agreed: Plan | None,
    quiet: bool,
) -> RunResult:
    """Run in batches and show progress; Ctrl-C stops after the batch, a second one at once."""
    with _stop() as stop, _telling(quiet) as tell:
        return run_in_batches(
            what.database,
            what.job,
            receipt_options,
            lock_wait,
            batches,
            agreed,
            tell,
            lambda: stop[0],
        )


@contextmanager
def _stop() -> Iterator[list[bool]]:
    """Yield a flag that the first Ctrl-C sets; the second one interrupts at once."""
    asked = [False]
    before = signal.getsignal(signal.SIGINT)

    def handle(number: int, frame: FrameType | None) -> None:
        if asked[0] and callable(before):
            before(number, frame)
        asked[0] = True
        click.echo("\nStopping when this batch is done; Ctrl-C again stops at once.", err=True)

    signal.signal(signal.SIGINT, handle)
    try:
        yield asked
    finally:
        signal.signal(signal.SIGINT, before)


@contextmanager
def _telling(quiet: bool) -> Iterator[Any]:
    """Yield a function that shows progress, on one line at a terminal."""
    last = [0.0]
    terminal = sys.stderr.isatty()

    def tell(found: Progress) -> None:
        ends = found.matched >= found.wanted
        if quiet or (not ends and time.monotonic() - last[0] < _SECONDS_BETWEEN_LINES):
            return
        last[0] = time.monotonic()
        speed = found.rows / max(found.seconds, 0.001)
        text = (
            f"{counted(found.batches, 'batch', 'batches')}: {found.matched:,} of {found.wanted:,} "
            f"matched rows gone, {speed:,.0f} rows/s, {found.seconds_left:,.0f} s left"
        )
        click.echo(f"\r{text}\x1b[K" if terminal else text, err=True, nl=not terminal or ends)

    yield tell

"""Runs in batches at a terminal: progress, and two ways to stop."""

from __future__ import annotations

import signal
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import TYPE_CHECKING, Any

import click

from yeldro.cli.terminal.progress import drawn_progress
from yeldro.core.execution.batches import Batches, Progress, run_in_batches
from yeldro.core.model.messages.activity import Activity, watched_by
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import counted

if TYPE_CHECKING:
    from yeldro.cli.given.what import What
    from yeldro.core.execution.approval import Approval
    from yeldro.core.execution.run import RunResult
    from yeldro.core.receipts.writer import ReceiptOptions


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
    agreed: Approval | None,
    quiet: bool,
) -> RunResult:
    """Run in batches and show progress; Ctrl-C stops after the batch, a second one at once."""
    table, begun = what.job.cleanups[0].selection.table, False
    with _stop() as stop, drawn_progress(quiet) as draw:

        def tell(found: Progress) -> None:
            nonlocal begun
            begun = True
            draw(_activity(found, table))

        def before_the_first(activity: Activity) -> None:
            if not begun:
                draw(activity)

        with watched_by(before_the_first):
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


def _activity(found: Progress, table: str) -> Activity:
    """Return how far the batches are; a batch that is under way does not count."""
    done = counted(found.batches, "batch", "batches")
    return Activity(f"{done} committed of", table, rows=found.matched, total=found.wanted)

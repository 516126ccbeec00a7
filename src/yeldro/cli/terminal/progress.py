"""Long work at a terminal: what is being done, how far it is, and how long the rest may take."""

from __future__ import annotations

import sys
import threading
import time
from collections.abc import Iterator
from contextlib import contextmanager

from yeldro.core.model.messages.activity import Activity, Watcher, watched_by

_QUIET_SECONDS = 1.0  # what is done sooner shows nothing


@contextmanager
def shown_progress(quiet: bool = False) -> Iterator[None]:
    """Show on standard error what is announced, if that is a terminal."""
    with drawn_progress(quiet) as watcher, watched_by(watcher):
        yield


@contextmanager
def drawn_progress(quiet: bool = False) -> Iterator[Watcher]:
    """Yield a function that shows an activity on standard error, if that is a terminal."""
    if quiet or not sys.stderr.isatty():
        yield _ignored
        return
    drawing = _Drawing()
    try:
        yield drawing.note
    finally:
        drawing.end()


def _ignored(activity: Activity) -> None:
    del activity


class _Drawing:
    """One line that is drawn again and again, from a second after the work began."""

    def __init__(self) -> None:
        self._latest = Activity("starting")
        self._began = time.monotonic()
        self._rows_before = 0
        self._lock = threading.Lock()
        self._ended = threading.Event()
        self._thread = threading.Thread(target=self._draw, daemon=True)
        self._thread.start()

    def note(self, activity: Activity) -> None:
        """Show this activity from now on."""
        with self._lock:
            if activity.what != self._latest.what:
                self._began, self._rows_before = time.monotonic(), activity.rows
            self._latest = activity

    def end(self) -> None:
        """Remove the line."""
        self._ended.set()
        self._thread.join()

    def _draw(self) -> None:
        """Draw until the work has ended; this runs in a thread of its own."""
        if self._ended.wait(_QUIET_SECONDS):
            return
        from rich.console import Console
        from rich.progress import BarColumn, Progress, TextColumn
        from rich.table import Column

        console = Console(file=sys.stderr, highlight=False, emoji=False, markup=False)
        with Progress(
            TextColumn("{task.description}", markup=False, table_column=Column(no_wrap=True)),
            BarColumn(16, complete_style="cyan", finished_style="cyan", pulse_style="cyan"),
            TextColumn("{task.fields[told]}", markup=False, table_column=Column(no_wrap=True)),
            console=console,
            transient=True,
            auto_refresh=False,
            redirect_stdout=False,
            redirect_stderr=False,
        ) as progress:
            task = progress.add_task("", total=None, told="")
            while True:
                with self._lock:
                    latest, seconds = self._latest, time.monotonic() - self._began
                    rows = latest.rows - self._rows_before
                progress.update(
                    task,
                    description=described(latest),
                    total=latest.total,
                    completed=latest.rows,
                    told=told(latest, rows, seconds),
                    refresh=True,
                )
                if self._ended.wait(0.25):
                    return


def described(activity: Activity) -> str:
    """Return what is being done: `removing step 4 of 10: reading`."""
    from yeldro.report.text import visible

    numbered = f" step {activity.place} of {activity.of}" if activity.of > 1 else ""
    colon = ":" if numbered and activity.table else ""
    table = f" {visible(activity.table)}" if activity.table else ""
    return f"{activity.what}{numbered}{colon}{table}"


def told(activity: Activity, rows: int, seconds: float) -> str:
    """Return how far an activity is.

    Args:
        rows: done in these seconds.
        seconds: since this kind of activity began.
    """
    from yeldro.report.text import duration

    if not activity.total:
        return duration(seconds)
    shown = f"{activity.rows:,} of {activity.total:,} rows"
    if rows <= 0 or seconds <= 0:
        return f"{shown}, {duration(seconds)}"
    speed = rows / seconds
    left = (activity.total - activity.rows) / speed
    return f"{shown}, {speed:,.0f} rows/s, about {duration(left)} left"

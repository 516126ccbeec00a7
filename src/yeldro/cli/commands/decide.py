"""Duplicates decided at the terminal, one group at a time."""

from __future__ import annotations

import shutil
import sys
from collections.abc import Iterator, Sequence
from contextlib import suppress
from pathlib import Path
from typing import TYPE_CHECKING

import click

from yeldro.cli.terminal.progress import shown_progress
from yeldro.core.model.messages.errors import UsageError, YeldroError
from yeldro.core.model.messages.options import with_options
from yeldro.core.selection.asked import KeepRule
from yeldro.formats.review_on_disk import KEEP, OPEN, REMOVE, ReviewOnDisk

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.selection.asked import Selection

_RULES = "lowest:COL, highest:COL, fullest, referenced or order:LIST"


def check_terminal(as_json: bool) -> None:
    """Refuse to ask where nobody can answer.

    Raises:
        UsageError: standard input or output is no terminal, or a document is wanted.
    """
    if as_json or not (sys.stdin.isatty() and sys.stdout.isatty()):
        raise UsageError(
            "--decide asks at a terminal, and there is none.",
            "Write the review with --review FILE, and decide in the file.",
        )


def decide(database: Database, wanted: Selection, path: str) -> ReviewOnDisk:
    """Ask about every open group; write the review first if there is none yet.

    Args:
        wanted: the table, and how its rows are grouped.
        path: the review.

    Returns:
        The review, with what is decided.

    Raises:
        UsageError: the file cannot be read or written, or is the review of another table.
    """
    if Path(path).exists():
        _check_table(database, wanted, path)
    else:
        from yeldro.core.selection.duplicates.review import review
        from yeldro.formats.review_file import write_review

        with shown_progress(), database.reading() as session:
            write_review(review(session, wanted), path)
    on_disk = ReviewOnDisk(path)
    with on_disk:
        _Asking(database, wanted, on_disk).run()
    return on_disk


def _check_table(database: Database, wanted: Selection, path: str) -> None:
    from yeldro.core.database.catalogue import find_table
    from yeldro.formats.review_file import MARK, OWN_COLUMNS, lines_of

    with lines_of(path) as lines:
        heading = {*next(lines, [])}
    if MARK not in heading:
        return  # which is reported when it is read
    names = heading - {*OWN_COLUMNS}
    with database.reading() as session:
        table = find_table(session.catalogue, wanted.table)
    if names and not names & {*table.by_name}:
        raise UsageError(
            f"{path} is a review of another table than {table.name}.", "Name another file."
        )


class _Asking:
    """Goes through the groups of a review."""

    def __init__(self, database: Database, wanted: Selection, review: ReviewOnDisk) -> None:
        self.database = database
        self.wanted = wanted
        self.review = review
        self.start = 0  # the first row of the group that is shown

    def run(self) -> None:
        """Ask until no group is open, or the person leaves: all that was decided is on disk."""
        with suppress(KeyboardInterrupt, EOFError):  # at any moment, as good as q
            self._ask()

    def _ask(self) -> None:
        group = next(self.review.open_groups(), None)
        while group is not None:
            rows = self._draw(group)
            key = click.getchar()
            if key in "qQ\x1b\x04":
                return
            group = self._done(key, group, rows)

    def _draw(self, group: int) -> int:
        """Show a group; return how many of its rows are shown."""
        from yeldro.cli.terminal.output import show
        from yeldro.report.side_by_side import group_view, keys_view, rows_beside

        width, height = shutil.get_terminal_size()
        title = (self.wanted.table, ", ".join(self.wanted.duplicates_by))
        size = self.review.size(group)
        rows = min(rows_beside(width), size - self.start)
        click.clear()
        by_rules = bool(self.wanted.keep)
        show(group_view(self.review, title, group, self.start, width, height, by_rules=by_rules))
        click.echo()
        show(keys_view(rows, rows < size))
        return rows

    def _done(self, key: str, group: int, rows: int) -> int | None:
        """Do what a key means; return the group to go on with, None if none is open."""
        size = self.review.size(group)
        if key == "m":
            self.start = self.start + rows if self.start + rows < size else 0
            return group
        if key == "w":
            self._show_whole(group)
            return group
        first, self.start = self.start, 0
        if key.isdecimal() and 1 <= int(key) <= rows:
            stays = first + int(key) - 1
            self.review.decide(group, [KEEP if n == stays else REMOVE for n in range(size)])
        elif key in "ao":
            self.review.decide(group, [KEEP if key == "a" else OPEN] * size)
        elif key == "r":
            self._apply_rule(group)
        elif key in "pn":
            return (group + (1 if key == "n" else -1)) % len(self.review)
        elif key != "s":
            self.start = first
            return group
        if key == "o" or (key == "r" and self.review.is_open(group)):
            return group
        after = next(self.review.open_groups(group + 1), None)
        return after if after is not None else next(self.review.open_groups(), None)

    def _show_whole(self, group: int) -> None:
        from yeldro.cli.terminal.output import show
        from yeldro.report.side_by_side import whole_view

        click.clear()
        show(whole_view(self.review, group))
        click.echo("\nPress any key.")
        click.getchar()

    def _apply_rule(self, group: int) -> None:
        """Let a keep rule decide every open group from here on; ties stay open."""
        click.echo()
        typed = click.prompt(f"Rule ({_RULES}), or nothing", default="", show_default=False)
        if not typed.strip():
            return
        try:
            rule = KeepRule.parse(typed.strip())
            for each, decisions in list(self._by_rule(rule, group)):
                self.review.decide(each, decisions)
        except YeldroError as error:
            from yeldro.cli.terminal.output import say

            say(f"{with_options(error.why)} {with_options(error.next_step)} Press any key.")
            click.getchar()

    def _by_rule(self, rule: KeepRule, start: int) -> Iterator[tuple[int, Sequence[str]]]:
        """Yield the open groups that a rule decides, with its decisions."""
        from dataclasses import replace

        from yeldro.core.selection.duplicates.review import review
        from yeldro.formats.review_file import mark_of

        known: dict[str, bool | None] = {}
        wanted = {
            line.mark for group in self.review.open_groups(start)
            for line in self.review.lines(group)
        }  # fmt: skip
        selection = replace(self.wanted, keep=(rule,))
        with shown_progress(), self.database.reading() as session:
            for row in review(session, selection).rows:
                mark = mark_of(row)
                if mark in wanted:
                    known[mark] = row.stays
        for group in self.review.open_groups(start):
            found = [known.get(line.mark) for line in self.review.lines(group)]
            if None not in found and found.count(True) == 1:
                yield group, [KEEP if stays else REMOVE for stays in found]

"""What to type next after a command that removes rows, or that tells what a removal would do."""

from __future__ import annotations

import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.cli.given.again import WHERE, choices_again, from_standard_input, typed_again
from yeldro.core.model.messages.errors import BlockedByForeignKey, CountMismatch

if TYPE_CHECKING:
    from yeldro.cli.given.what import What
    from yeldro.core.planning.job import JobPlan


def after_preview(matched: int, table: str) -> list[str]:
    """Return the commands that follow a preview."""
    if from_standard_input():
        return []
    if matched:
        return [typed_again("plan")]
    return [typed_again("survey", arguments=[table], keeps=WHERE)]


def after_plan(what: What, found: JobPlan, saved: Path | None) -> list[str]:
    """Return the commands that follow a plan or a rehearsal that nothing stands in the way of."""
    if saved:
        return [typed_again("run", arguments=[str(saved)], keeps=WHERE)]
    if from_standard_input():
        return []
    if not found.total:
        return after_preview(0, found.plans[0].table)
    if not found.is_exact:
        return [typed_again("rehearse")]
    if what.agreed or what.job.expectations.total or any(
        each.expectations.total or each.expectations.matched for each in what.job.cleanups
    ):  # fmt: skip
        return [typed_again("run")]
    return [typed_again("run", "--expect", f"total={found.total}")]


@contextmanager
def telling_next(what: What, *, shown: bool = False) -> Iterator[None]:
    """Add to a refusal the command lines that lead on.

    Args:
        shown: the plan has been printed. At a terminal, where it stands just above, the refusal
            does not repeat what blocks it.
    """
    try:
        yield
    except BlockedByForeignKey as error:
        blocked = error.evidence.get("blocked", [])
        if shown and blocked and sys.stdout.isatty() and sys.stderr.isatty():
            error.why = error.next_step = ""
        remedies = [each["remedies"] for each in blocked]
        if all(remedies) and not what.agreed and not from_standard_input():
            error.evidence["commands"] = choices_again(remedies)
        raise
    except CountMismatch as error:
        if type(error) is CountMismatch and not from_standard_input():
            error.evidence["commands"] = [typed_again("preview")]
        raise

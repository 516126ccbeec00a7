"""Saved plans: made once, reviewed, and run exactly so or not at all (docs/cleanup-files.md)."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping
from dataclasses import dataclass
from datetime import UTC, date, datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yeldro.core.execution.approval import PlannedStep, PlanRecord, differences, steps_of
from yeldro.core.execution.key_sketch import KeySketch
from yeldro.core.model.messages.errors import PlanChanged, Refused, UsageError
from yeldro.core.model.messages.files import new_file
from yeldro.core.model.work.expectation import Expectations, RowRange
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import Job
from yeldro.core.planning.plan import Prepared
from yeldro.core.selection.conditions.checks import Check
from yeldro.formats.cleanup_values import cleanup_from, expectations_from, values_of
from yeldro.formats.fields import CLEANUP

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session

FORMAT = 3
_MOST_BYTES = 64_000_000


@dataclass(frozen=True)
class SavedPlan:
    """A saved plan; as an approval it allows exactly this plan.

    Args:
        database: the database it was made for, without a password.
        steps: for each cleanup its steps.
    """

    path: Path
    database: str
    job: Job
    matched: tuple[int, ...]
    steps: tuple[tuple[PlannedStep, ...], ...]

    def for_database(self, shown: str) -> SavedPlan:
        """Return the plan if it was made for this database.

        Raises:
            Refused: it was made for another database.
        """
        if shown != self.database:
            raise Refused(
                f"{self.path} was made for {self.database}, not for {shown}.",
                "Drop ‹db› (or YELDRO_DB), or make a plan for that database.",
            )
        return self

    def check(self, place: int, session: Session, prepared: Prepared) -> None:
        """Compare a plan made now with the saved one: steps, reasons, counts, keys and new values.

        Raises:
            Refused: they differ.
        """
        said = differences(self.steps[place], steps_of(session, prepared), prepared)
        if not said and self.matched[place] != prepared.plan.matched:
            said.append(f"{prepared.plan.matched:,} rows match, not {self.matched[place]:,}")
        if said:
            raise PlanChanged(
                f"The database has changed since {self.path} was made: {'; '.join(said)}.",
                "Make a new plan with -o, and look at it again.",
            )


def write_plan(path: Path, job: Job, system: str, database: str, record: PlanRecord) -> None:
    """Save a plan in a new file.

    Raises:
        Refused: a file of this name exists.
        FileNotWritten: the file cannot be written.
    """
    document = {
        "yeldro_plan": FORMAT,
        "title": job.title,
        "made": datetime.now(UTC).isoformat(timespec="seconds"),
        "system": system,
        "database": database,
        "total": sum(plan.total for plan in record.plans),
        "removes": [
            {
                "table": plan.table,
                "matched": plan.matched,
                "cleanup": _cleanup_document(cleanup),
                "steps": [
                    {"action": s.action, "table": s.table, "because": s.because,
                     **s.keys.document()} for s in steps
                ],
            }
            for plan, cleanup, steps in zip(record.plans, job.cleanups, record.steps, strict=True)
        ],
        "after": [
            {"about": each.about, "query": each.query, "expect": each.expected.written,
             "parameters": _values(each.parameters)}
            for each in job.after
        ],
        "expect": _expectations_document(job.expectations),
        "described": job.described,
    }  # fmt: skip
    document["seal"] = _seal(document)
    with new_file(path) as file:
        file.write(json.dumps(document, indent=1).encode() + b"\n")


def read_plan(path: Path) -> SavedPlan:
    """Read a saved plan.

    Raises:
        UsageError: the file is not a plan, has another format, or was changed by hand.
    """
    try:
        if path.stat().st_size > _MOST_BYTES:
            raise ValueError(f"it is larger than {_MOST_BYTES:,} bytes")
        document = json.loads(path.read_bytes())
        version = document["yeldro_plan"]
    except OSError as error:
        raise UsageError(f"The plan {path} cannot be read: {error.strerror}.") from error
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        raise UsageError(
            f"{path} is not a saved plan ({error}).", "Make one with ⟨plan⟩ and ‹output› FILE."
        ) from error
    if isinstance(version, int) and version != FORMAT:
        raise UsageError(
            f"{path} is of format {version}, and this Yeldro reads format {FORMAT}.",
            "Use a newer Yeldro for it." if version > FORMAT else "Make a new plan with -o.",
        )
    if document.pop("seal", None) != _seal(document):
        raise UsageError(
            f"{path} was changed after it was made, so it is not known what it would do.",
            "Make a new plan; to edit a job by hand, use a cleanup file (⟨new FILE⟩).",
        )
    try:
        return _read(path, document)
    except (KeyError, TypeError, ValueError, AttributeError, OverflowError) as error:
        raise UsageError(f"{path} is not a plan that can be read ({error!r}).") from error


def _read(path: Path, document: Mapping[str, Any]) -> SavedPlan:
    removes = document["removes"]
    if not removes:
        raise ValueError("it removes nothing")
    after = tuple(
        Check(str(each["about"]), str(each["query"]), RowRange.parse(each["expect"]),
              _read_values(each["parameters"]))
        for each in document["after"]
    )  # fmt: skip
    job = Job(
        title=str(document["title"]),
        cleanups=tuple(_read_cleanup(each["cleanup"]) for each in removes),
        after=after,
        expectations=_read_expectations(document["expect"]),
        described=bool(document["described"]),
    )
    steps = tuple(
        tuple(
            PlannedStep(
                str(s["action"]),
                str(s["table"]),
                str(s["because"]),
                int(s["rows"]),
                KeySketch.read(s),
            )
            for s in each["steps"]
        )
        for each in removes
    )
    matched = tuple(int(each["matched"]) for each in removes)
    return SavedPlan(path, str(document["database"]), job, matched, steps)


def _seal(document: Mapping[str, Any]) -> str:
    """Return a digest that reveals changes by hand; it is no protection against forgery."""
    written = json.dumps(document, sort_keys=True, separators=(",", ":"))
    return hashlib.sha256(written.encode()).hexdigest()


def _cleanup_document(cleanup: Cleanup) -> dict[str, Any]:
    return values_of(cleanup) | {
        "from": cleanup.selection.table,
        "parameters": _values(cleanup.selection.parameters),
        "expect": _expectations_document(cleanup.expectations),
    }


def _read_cleanup(found: Mapping[str, Any]) -> Cleanup:
    return cleanup_from(
        str(found["from"]),
        {name: found[name] for name in CLEANUP},
        parameters=_read_values(found["parameters"]),
        expectations=_read_expectations(found["expect"]),
    )


def _expectations_document(found: Expectations) -> dict[str, Any]:
    return {
        "matched": found.matched.written if found.matched else None,
        "total": found.total.written if found.total else None,
        "tables": {name: each.written for name, each in found.tables.items()},
    }


def _read_expectations(found: Mapping[str, Any]) -> Expectations:
    return expectations_from(found["matched"], found["tables"], found["total"])


def _values(parameters: Mapping[str, Any]) -> dict[str, Any]:
    """Return parameters as JSON values; dates are marked as such."""
    return {
        name: {type(value).__name__: value.isoformat()} if isinstance(value, date) else value
        for name, value in parameters.items()
    }


def _read_values(found: Mapping[str, Any]) -> dict[str, Any]:
    read: dict[str, Any] = {}
    for name, value in found.items():
        if isinstance(value, dict):
            ((kind, text),) = value.items()
            value = {"date": date, "datetime": datetime}[kind].fromisoformat(text)  # noqa: PLW2901
        read[name] = value
    return read

"""Core objects as the JSON documents that docs/json.md describes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from itertools import groupby
from pathlib import Path
from typing import TYPE_CHECKING, Any

from yeldro.core.model.messages.options import with_options
from yeldro.report.text import plain

if TYPE_CHECKING:
    from yeldro.core.execution.expectation_results import ExpectationResult
    from yeldro.core.execution.run import RunResult
    from yeldro.core.inspection.orphans import Orphans
    from yeldro.core.inspection.preview import Preview
    from yeldro.core.inspection.repeats import Repeats
    from yeldro.core.inspection.survey import Survey, TableDetail, TableSurvey
    from yeldro.core.model.messages.errors import YeldroError
    from yeldro.core.model.work.given import Given
    from yeldro.core.planning.job import JobPlan
    from yeldro.core.planning.plan import Plan
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.restore.comparing.verification import Difference
    from yeldro.core.restore.restore_plan import RestorePlan
    from yeldro.core.selection.conditions.checks import Check
    from yeldro.core.selection.duplicates.grouping import DuplicateReport
    from yeldro.core.selection.duplicates.review import WrittenReview
    from yeldro.formats.project import Setting

Document = dict[str, Any]


def error_document(error: YeldroError) -> Document:
    return {
        "code": error.code,
        "data": error.data,
        "why": with_options(error.why),
        "next": with_options(error.next_step),
        "evidence": plain(error.evidence),
    }


def rows_document(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> list[Document]:
    return [{name: plain(value) for name, value in zip(columns, row, strict=True)} for row in rows]


def plan_document(plan: Plan) -> Document:
    return {
        "table": plan.table,
        "matched": plan.matched,
        "total": plan.total,
        "prevention": plan.prevention.statement if plan.prevention else None,
        "blocked": [
            {
                "foreign_key": each.foreign_key,
                "table": each.table,
                "rows": each.rows,
                "reason": each.reason,
                "sample": rows_document(each.columns, each.sample),
                "remedies": list(map(str, each.remedies)),
            }
            for each in plan.blocked
        ],
        "steps": [
            {
                "n": step.n,
                "action": str(step.action),
                "table": step.table,
                "rows": step.rows,
                "because": step.because,
                "auxiliary": step.auxiliary,
                "path": list(step.path),
            }
            for step in plan.steps
        ],
        "warnings": list(plan.warnings),
        "asked": given_document(plan.asked),
    }


def _largest_groups(plan: Plan) -> list[Document]:
    return [
        {"by": dict(zip(plan.grouped_by, map(plain, values), strict=True)), "rows": rows}
        for *values, rows in plan.largest
    ]


def given_document(asked: Sequence[Given]) -> list[Document]:
    """Return what was asked for in one remove."""
    return [
        {"field": each.field, "value": each.value} | ({"name": each.name} if each.name else {})
        for each in asked
    ]


def job_plan_document(found: JobPlan, after: Sequence[Check]) -> Document:
    """Return the plans of a job; its checks have not been run."""
    follows = found.follows or ((),) * len(found.plans)
    removes = [
        plan_document(each) | {"follows": list(names), "largest_groups": _largest_groups(each)}
        for each, names in zip(found.plans, follows, strict=True)
    ]
    checks = [_check_document(each, None, None) for each in after]
    head = {"title": found.title, "total": found.total, "exact": found.is_exact}
    return head | {"removes": removes, "after": checks}


def run_document(result: RunResult) -> Document:
    """Return what a run or a rehearsal did."""
    removes = []
    for part in result.parts:
        document = plan_document(part.plan)
        for step, affected in zip(document["steps"], part.tally.affected, strict=False):
            step["affected"] = affected
        removes.append(document)
    ledger: Document = {
        name: {"removed": each.removed, "changed": each.changed, "added": each.added}
        for name, each in (result.ledger.tables.items() if result.ledger.counted else ())
    }
    locked = result.ledger.also_locked
    return {
        "title": result.title,
        "total": result.tally.total,
        "removes": removes,
        "after": [_check_document(each.check, each.found, each.holds) for each in result.after],
        "outcome": str(result.outcome),
        "ledger": ledger,
        "counted": result.ledger.counted,
        "also_locked": None if locked is None else sorted(locked),
        "unplanned": dict(result.ledger.unplanned),
        "receipt": str(result.receipt) if result.receipt else None,
        "copies": [str(name) for name in result.copies],
    }


def _check_document(check: Check, found: int | float | None, holds: bool | None) -> Document:
    return {
        "about": check.about or check.query,
        "expected": str(check.expected),
        "found": found,
        "holds": holds,
    }


def settings_document(found: Sequence[Setting]) -> list[Document]:
    return [{"name": e.name, "value": e.value, "said_in": e.said_in or None} for e in found]


def check_document(title: str, found: Sequence[ExpectationResult]) -> Document:
    return {
        "title": title,
        "when": str(found[0].when),
        "holds": all(each.holds for each in found),
        "checks": [
            {
                "about": each.about,
                "expected": each.expected,
                "found": each.found,
                "holds": each.holds,
            }
            for each in found
        ],
    }


def preview_document(title: str, found: Sequence[Preview], after: Sequence[Check]) -> Document:
    return {
        "title": title,
        "total": sum(each.plan.total for each in found),
        "removes": [_previewed_document(each) for each in found],
        "after": [_check_document(each, None, None) for each in after],
    }


def _previewed_document(found: Preview) -> Document:
    return plan_document(found.plan) | {
        "at_most": found.plan.at_most,
        "pinned_key": list(found.plan.pinned_key),
        "rows": rows_document(found.columns, found.rows),
        "ripple": [
            {
                "foreign_key": line.foreign_key,
                "table": line.table,
                "rows": line.rows,
                "fate": str(line.fate),
                "reason": str(line.reason),
            }
            for line in found.plan.ripple
        ],
    }


def duplicates_document(found: DuplicateReport) -> Document:
    return {
        "table": str(found.table.name),
        "by": list(found.by),
        "keep": [str(rule) for rule in found.keep],
        "groups": found.groups,
        "removable": found.removable,
        "ties": found.ties,
        "prevention": found.prevention.statement if found.prevention else "",
        "warnings": list(found.warnings),
        "sample": [
            {
                "size": group.size,
                "kept": rows_document(found.columns, group.rows[:1])[0],
                "removable": rows_document(found.columns, group.rows[1:]),
                "differing": [
                    name
                    for place, name in enumerate(found.columns)
                    if any(place in places for places in group.differing)
                ],
            }
            for group in found.sample
        ],
    }


def review_document(written: WrittenReview) -> Document:
    return {
        "table": str(written.table.name),
        "by": list(written.by),
        "review": written.path,
        "groups": written.groups,
        "rows": written.rows,
        "ties": written.tied,
    }


def repeats_document(found: Repeats) -> Document:
    return {
        "table": str(found.table.name),
        "rows": found.rows,
        "looked_at": found.looked_at,
        "left_out": list(found.left_out),
        "repeats": [
            {
                "what": each.what,
                "by": list(each.columns),
                "groups": each.groups,
                "removable": each.removable,
                "agreeing": each.agreeing,
            }
            for each in found.found
        ],
    }


def orphans_document(found: Sequence[Orphans]) -> list[Document]:
    return [
        {
            "foreign_key": str(each.foreign_key),
            "table": str(each.foreign_key.child),
            "rows": each.rows,
            "sample": rows_document(each.columns, each.sample),
        }
        for each in found
    ]


def survey_document(found: Survey) -> Document:
    return {
        "tables": [_table_document(each) for each in found.tables],
        "notes": list(found.notes),
    }


def detail_document(found: TableDetail) -> Document:
    return _table_document(found.survey) | {"sample": rows_document(found.columns, found.sample)}


def _table_document(each: TableSurvey) -> Document:
    table = each.table
    return {
        "table": str(table.name),
        "kind": table.kind,
        "rows": each.rows,
        "columns": [
            {
                "name": column.name,
                "type": column.type,
                "nullable": column.nullable,
                "default": column.default,
                "generated": column.generated,
            }
            for column in table.columns
        ],
        "identity": {"kind": str(table.identity.kind), "columns": list(table.identity.columns)},
        "keys": [
            {"columns": list(key.columns), "primary": key.primary} for key in table.candidate_keys
        ],
        "references": [
            {"foreign_key": str(key), "on_delete": str(key.on_delete)} for key in table.foreign_keys
        ],
        "referenced_by": [
            {"foreign_key": str(key), "on_delete": str(key.on_delete)} for key in each.referenced_by
        ],
        "triggers": [{"name": t.name, "event": t.event} for t in table.triggers],
        "warnings": list(each.warnings),
    }


def receipt_document(receipt: Receipt) -> Document:
    return {
        "id": receipt.id,
        "path": str(receipt.path),
        "title": receipt.title,
        "system": receipt.system,
        "database": receipt.database,
        "table": receipt.named_table,
        "matched": receipt.matched,
        "total": receipt.total,
        "user": receipt.user,
        "started": receipt.started,
        "ended": receipt.ended,
        "outcome": receipt.outcome,
        "holds_rows": receipt.holds_rows,
        "copies": [str(name) for name in receipt.copies],
        "asked": [
            given_document(list(some))
            for _, some in groupby(receipt.asked, lambda each: each.remove)
        ],
        "steps": [
            {
                "n": step.n,
                "action": str(step.action),
                "table": str(step.table),
                "rows": step.planned,
                "affected": step.affected,
                "because": step.because,
                "auxiliary": step.auxiliary,
            }
            for step in receipt.steps
        ],
    }


def restore_document(
    planned: RestorePlan,
    outcome: str,
    own: Path | None = None,
    differences: Sequence[Difference] = (),
    unplanned: Mapping[str, int] | None = None,
) -> Document:
    """Return a comparison, or a restore.

    Args:
        own: the restore's own receipt.
        differences: rows that are not as they were.
        unplanned: rows that allowed triggers changed besides, by table.
    """
    return {
        "id": planned.receipt.id,
        "receipt": str(planned.receipt.path),
        "verdict": planned.verdict,
        "total": planned.total,
        "steps": [
            {
                "n": each.step.n,
                "action": str(each.step.action),
                "table": str(each.step.table),
                "stored": each.stored,
                "left_out": each.left_out,
                "back": each.back,
                "missing": each.missing,
            }
            for each in planned.steps
        ],
        "conflicts": [each.document() for each in planned.conflicts],
        "skipped": list(planned.skipped),
        "notes": list(planned.notes),
        "differences": [each.document() for each in differences],
        "unplanned": dict(unplanned or {}),
        "own_receipt": str(own) if own else None,
        "outcome": outcome,
    }

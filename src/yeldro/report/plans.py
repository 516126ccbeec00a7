"""Plans, runs and checks as text for a terminal."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.padding import Padding
from rich.text import Text

from yeldro.core.execution.run import Outcome, RunResult
from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.steps import count_each_row_once
from yeldro.report.parts import (
    NUMBER,
    QUIET,
    caution,
    grid,
    heading,
    prevention,
    remark,
    rows_grid,
    spaced,
)
from yeldro.report.text import held_against, visible

if TYPE_CHECKING:
    from yeldro.core.execution.expectation_results import ExpectationResult
    from yeldro.core.model.work.steps import Step
    from yeldro.core.planning.job import JobPlan
    from yeldro.core.planning.plan import Blocked, Plan
    from yeldro.core.selection.conditions.checks import CheckResult

_WIDE = 110
_NO_REMEDY = "  No option helps here; first change or remove the rows that reference them."
COUNTED_OFTEN = "A row counts in each step that changes it."


def plan_view(plan: Plan, command: str = "plan", begins: str = "This plan") -> RenderableType:
    matched = f"{plan.matched:,} of {counted(plan.table_rows, 'row')} matched"
    parts: list[RenderableType] = [heading(command, plan.table, matched)]
    if plan.steps:
        parts.append(_Steps(plan, None))
        if plan.blocked:
            rows = sum(each.rows for each in plan.blocked)
            stay = "row that stays references" if rows == 1 else "rows that stay reference"
            said = f"Blocked: {rows:,} {stay} rows that would go."
            parts.append(Text(said, style="bold red"))
        else:
            parts.append(
                Text.assemble(
                    f"{begins} removes or changes ",
                    (f"{plan.total:,}", NUMBER),
                    f" {'row' if plan.total == 1 else 'rows'} in all: ",
                    _sums(plan),
                    f" {COUNTED_OFTEN}" if counts_by_step(plan.steps) else "",
                )
            )
    else:
        parts.append(Text("No row matches; there is nothing to do."))
    parts += [_blocked(each) for each in plan.blocked]
    several = [group for group in plan.largest if group[-1] > 1]
    if several:
        parts.append(Text("The most rows go from these groups:"))
        parts.append(rows_grid([*plan.grouped_by, "rows that go"], several))
    parts += [caution(warning) for warning in plan.warnings]
    parts += [] if plan.blocked else prevention(plan.prevention)
    return Group(spaced(parts), "") if plan.blocked else spaced(parts)


def job_plan_view(found: JobPlan, command: str = "plan") -> RenderableType:
    """Return the plans of one cleanup, or of several one after another."""
    if len(found.plans) == 1:
        return plan_view(found.plans[0], command)
    parts: list[RenderableType] = [
        heading(command, found.title, f"{len(found.plans)} removes, in this order")
    ]
    for place, each in enumerate(found.plans):
        name = f"{place + 1} of {len(found.plans)}"
        parts += [Text(), plan_view(each, name, "It")]
        if found.follows and found.follows[place]:
            tables = ", ".join(found.follows[place])
            parts.append(
                remark(f"counted before anything is done; earlier removes change {tables}: "
                      "'yeldro rehearse' shows the count after that")
            )  # fmt: skip
    when = "." if found.is_exact else ", counted before anything is done."
    steps = [step for plan in found.plans for step in plan.steps]
    often = f" {COUNTED_OFTEN}" if counts_by_step(steps, in_parts=True) else ""
    total = Text.assemble("\nAll together: ", (f"{found.total:,}", NUMBER), f" rows{when}{often}")
    return Group(*parts, total)


def counts_by_step(steps: Sequence[Step], *, in_parts: bool = False) -> bool:
    """True if some rows can be in the count of more than one step."""
    told = [(each.action, each.table) for each in steps if not each.auxiliary]
    return not count_each_row_once(told, in_parts=in_parts)


def run_view(result: RunResult, *, in_batches: bool = False) -> RenderableType:
    committed = result.outcome is Outcome.COMMITTED
    command = "rehearse" if result.outcome is Outcome.ROLLED_BACK else "run"
    if result.outcome is Outcome.NOTHING_TO_DO:
        made = [part for part in result.parts if part.constraint_made]
        if made:
            said = "There were no rows to remove or change."
        else:
            said = "There is nothing to do, and nothing was changed."
        return Group(
            heading(command, ", ".join(plan.table for plan in result.plans), "no row matches"),
            Text(said),
            *(each for part in made for each in prevention(part.plan.prevention, True)),
            *_checked(result.after),
        )
    several = len(result.parts) > 1
    parts: list[RenderableType] = []
    if several:
        parts.append(heading(command, result.title, f"{len(result.parts)} removes"))
    for place, part in enumerate(result.parts, 1):
        name = f"{place} of {len(result.parts)}" if several else command
        matched = f"{counted(part.plan.matched, 'row')} matched"
        parts += [Text()] if several and isinstance(parts[-1], Text) else []
        parts.append(heading(name, part.plan.table, matched))
        if part.plan.steps:
            parts.append(_Steps(part.plan, part.tally.affected))
    total = counted(result.tally.total, "row")
    by_step = counts_by_step(result.tally.steps, in_parts=in_batches or several)
    often = f" {COUNTED_OFTEN}" if by_step else ""
    agree = held_against(result.ledger)
    if committed:
        done = f"Committed: {total} gone or changed. {agree}{often}"
        parts.append(Text(done, style="bold green"))
    else:
        done = f"Rolled back as rehearsed: {total}. {agree}{often}"
        parts.append(Text(done, style="bold green"))
        parts.append(Text("A run on the same data changes the same rows."))
    parts += _checked(result.after)
    for part in result.parts:
        parts += [caution(warning) for warning in part.plan.warnings]
        parts += prevention(part.plan.prevention, part.constraint_made)
    return spaced(parts)


def check_view(title: str, found: Sequence[ExpectationResult]) -> RenderableType:
    failed = [each for each in found if not each.holds]
    rows: list[list[str | Text]] = [
        [
            Text("holds", style="bold green") if each.holds else Text("fails", style="bold red"),
            each.about,
            "none" if each.found is None else f"{each.found:,}",
            each.expected,
        ]
        for each in found
    ]
    verdict = f"{len(failed)} of {counted(len(found), 'check')} failed" if failed else "all hold"
    verdict = f"{found[0].when} a run: {verdict}"
    return spaced(
        [heading("check", title, verdict), grid(["", "what", "found", "expected"], rows, [2])]
    )


def _checked(found: Sequence[CheckResult]) -> list[RenderableType]:
    """Show the checks that were made at the end, and that they hold."""
    return [
        Text.assemble(
            ("holds  ", "bold green"),
            visible(each.check.about or each.check.query),
            (f"  ({each.found:,}, expected {each.check.expected})", QUIET),
        )
        for each in found
    ]


class _Steps:
    """The steps of a plan, with the affected rows once they are done.

    The path from the named table has its own column if the terminal is wide enough.
    """

    def __init__(self, plan: Plan, affected: Sequence[int] | None) -> None:
        self.plan = plan
        self.affected = affected

    def __rich_console__(self, console: Console, options: ConsoleOptions) -> RenderResult:
        del console
        done = self.affected is not None
        wide = options.max_width >= _WIDE and not done
        headings = [
            "step",
            "",
            "table",
            *(["planned", "affected"] if done else ["rows"]),
            "because",
        ]
        rows: list[list[str | Text]] = []
        for place, step in enumerate(self.plan.steps):
            row: list[str | Text] = [str(step.n), str(step.action), step.table]
            row.append(Text(f"{step.rows:,}", style=NUMBER))
            if self.affected is not None:
                row.append(f"{self.affected[place]:,}")
            path = " ← ".join(map(visible, step.path)) if len(step.path) > 1 else ""
            if wide:
                row += [step.because, path]
            elif path and not done:
                row.append(Text.assemble(visible(step.because), (f"\n  {path}", QUIET)))
            else:
                row.append(step.because)
            rows.append(row)
        yield grid([*headings, *(["reached by"] if wide else [])], rows, [3, 4] if done else [3])


def _blocked(each: Blocked) -> RenderableType:
    head = Text.assemble(
        (visible(f"{each.foreign_key}  "), "bold"),
        (f"{each.rows:,}", NUMBER),
        f" {'row' if each.rows == 1 else 'rows'}, {each.reason}",
    )
    more = f"  and {each.rows - len(each.sample):,} more" if each.rows > len(each.sample) else ""
    return Group(
        head,
        Padding(rows_grid(each.columns, each.sample), (0, 0, 0, 2), expand=False),
        *([Text(more, style=QUIET)] if more else []),
        *([] if each.remedies else [Text(_NO_REMEDY)]),
    )


def _sums(plan: Plan) -> str:
    listed = ", ".join(f"{name} {rows:,}" for name, rows in plan.rows_by_table.items())
    return visible(listed) + "."

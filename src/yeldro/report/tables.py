"""Core objects as text for a terminal."""

from __future__ import annotations

import shlex
from collections.abc import Iterable, Sequence
from typing import Any

from rich.box import SIMPLE_HEAD
from rich.console import Console, ConsoleOptions, Group, RenderableType, RenderResult
from rich.padding import Padding
from rich.table import Table as Grid
from rich.text import Text

from yeldro.core.answers import Answer
from yeldro.core.checks import Checked
from yeldro.core.duplicates import DuplicateReport
from yeldro.core.job import JobPlan
from yeldro.core.orphans import Orphans
from yeldro.core.plan import Blocked, Plan
from yeldro.core.preview import Preview
from yeldro.core.receipts import Receipt
from yeldro.core.repeats import Repeats
from yeldro.core.restore import RestorePlan
from yeldro.core.run import Outcome, RunResult
from yeldro.core.schema import ForeignKey, IdentityKind
from yeldro.core.survey import Survey, TableDetail
from yeldro.formats.project import Setting
from yeldro.report.text import cell, counted, visible

_WIDE = 110
_NUMBER, _WARNING, _QUIET = "bold cyan", "yellow", "dim"


def grid(
    headings: Sequence[str], rows: Iterable[Sequence[str | Text]], numbers: Sequence[int] = ()
) -> Grid:
    """A table; the columns whose places are in `numbers` are set flush right."""
    table = Grid(box=SIMPLE_HEAD, header_style="bold", pad_edge=False, show_edge=False)
    for place, heading in enumerate(headings):
        right = place in numbers
        table.add_column(
            Text(visible(heading)),
            justify="right" if right else "left",
            no_wrap=right,
            overflow="fold",
        )
    for row in rows:
        table.add_row(*(Text(visible(c)) if isinstance(c, str) else c for c in row))
    return table


def rows_grid(columns: Sequence[str], rows: Sequence[Sequence[Any]]) -> Grid:
    """Rows as the database holds them; NULL is dimmed so that it differs from the text NULL."""
    right = [
        place
        for place in range(len(columns))
        if rows and all(isinstance(row[place], int | float | None) for row in rows)
    ]
    shown = (
        [Text(cell(value), style=_QUIET if value is None else "") for value in row] for row in rows
    )
    return grid(columns, shown, right)


def survey_view(found: Survey, shown: str) -> RenderableType:
    rows: list[list[str | Text]] = []
    for each in found.tables:
        table = each.table
        rows.append(
            [
                str(table.name),
                f"{each.rows:,}" if each.rows is not None else table.kind,
                _identity(table.identity.kind, table.identity.columns, table.kind),
                _links(table.foreign_keys),
                Text("; ".join(visible(warning) for warning in each.warnings), style=_WARNING),
            ]
        )
    parts: list[RenderableType] = [
        _title("survey", shown, counted(len(found.tables), "table")),
        grid(
            ["table", "rows", "rows told apart by", "references (on delete)", "beware"], rows, [1]
        ),
    ]
    parts += [_note(note) for note in found.notes]
    return _spaced(parts)


def detail_view(found: TableDetail) -> RenderableType:
    survey, table = found.survey, found.survey.table
    held = counted(survey.rows, "row") if survey.rows is not None else table.kind
    columns: list[list[str | Text]] = []
    for column in table.columns:
        keys = [
            "primary key" if key.primary else "unique"
            for key in table.candidate_keys
            if column.name in key.columns
        ]
        keys += [f"→ {key.parent}" for key in table.foreign_keys if column.name in key.columns]
        details = [] if column.nullable else ["not null"]
        details += ["generated"] if column.generated else []
        details += [f"default {column.default}"] if column.default else []
        columns.append([column.name, column.type, ", ".join(details), ", ".join(keys)])
    parts: list[RenderableType] = [
        _title("survey", str(table.name), held),
        Text(f"Rows told apart by: {_identity(table.identity.kind, table.identity.columns)}"),
        grid(["column", "type", "", "key"], columns),
    ]
    if table.foreign_keys:
        links = [[str(key), str(key.on_delete)] for key in table.foreign_keys]
        parts.append(grid(["references", "on delete of the parent"], links))
    if survey.referenced_by:
        links = [[str(key), str(key.on_delete)] for key in survey.referenced_by]
        parts.append(grid(["referenced by", "on delete here"], links))
    parts += [_warning(warning) for warning in survey.warnings]
    if found.sample:
        parts.append(rows_grid(found.columns, found.sample))
    return _spaced(parts)


def preview_view(found: Preview) -> RenderableType:
    plan = found.plan
    parts: list[RenderableType] = [
        _title(
            "preview", plan.table, f"{plan.matched:,} of {counted(plan.table_rows, 'row')} matched"
        ),
        Text(_pinning(plan)),
    ]
    if found.rows:
        parts.append(rows_grid(found.columns, found.rows))
        unseen = plan.matched - len(found.rows)
        more = [f"{counted(unseen, 'more row')}: --rows {plan.matched}"] if unseen else []
        if found.hidden:
            more.append(f"{counted(found.hidden, 'more column')}: --show COLUMNS")
        parts += [Text("  ·  ".join(more), style=_QUIET)] if more else []
    if plan.ripple:
        lines: list[list[str | Text]] = [
            [line.foreign_key, f"{line.rows:,}", _treatment(line.treatment), line.reason]
            for line in plan.ripple
        ]
        parts.append(
            grid(["ripple: rows that depend on these", "rows", "would be", "by"], lines, [1])
        )
    elif plan.matched:
        parts.append(Text("No other row depends on these."))
    return _spaced(parts)


def plan_view(
    plan: Plan, command: str = "plan", key: str = "The key to this plan is "
) -> RenderableType:
    matched = f"{plan.matched:,} of {counted(plan.table_rows, 'row')} matched"
    parts: list[RenderableType] = [_title(command, plan.table, matched)]
    if plan.steps:
        parts.append(_Steps(plan, None))
        if plan.blocked:
            parts.append(
                Text("Blocked: nothing runs until these rows are dealt with.", style="bold red")
            )
        else:
            parts.append(
                Text.assemble(
                    key,
                    (f"{plan.total:,}", _NUMBER),
                    " in all: ",
                    _sums(plan),
                )
            )
    else:
        parts.append(Text("No row matches; there is nothing to do."))
    parts += [_blocked(each) for each in plan.blocked]
    parts += [_warning(warning) for warning in plan.warnings]
    parts += _prevention(plan.prevention)
    return _spaced([*parts, Text()] if plan.blocked else parts)


def _prevention(statement: str, made: bool = False) -> list[RenderableType]:
    """How duplicates are kept from coming back, where that is known."""
    if not statement:
        return []
    said = "Made, so that they do not come back:" if made else "To keep them from coming back:"
    return [Text.assemble(f"{said} ", (visible(statement) + ";", "bold"))]


def job_plan_view(found: JobPlan, command: str = "plan") -> RenderableType:
    """The plans of one cleanup, or of several one after another."""
    if len(found.plans) == 1:
        return plan_view(found.plans[0], command)
    parts: list[RenderableType] = [
        _title(command, found.title, f"{len(found.plans)} removes, in this order")
    ]
    for place, each in enumerate(found.plans):
        name = f"{place + 1} of {len(found.plans)}"
        parts += [Text(), plan_view(each, name, "It takes ")]
        if found.follows and found.follows[place]:
            tables = ", ".join(found.follows[place])
            parts.append(
                _note(f"counted before anything is done; removes before this one change {tables}: "
                      "'yeldro rehearse' tells the number then")
            )  # fmt: skip
    when = "." if found.is_exact else ", counted before anything is done."
    total = Text.assemble("\nAll together: ", (f"{found.total:,}", _NUMBER), f" rows{when}")
    return Group(*parts, total)


def run_view(result: RunResult) -> RenderableType:
    committed = result.outcome is Outcome.COMMITTED
    command = "rehearse" if result.outcome is Outcome.ROLLED_BACK else "run"
    if result.outcome is Outcome.NOTHING_TO_DO:
        made = [part for part in result.parts if part.constraint_made]
        if made:
            said = "There were no rows to remove or change."
        else:
            said = "There is nothing to do, and nothing was changed."
        return Group(
            _title(command, ", ".join(plan.table for plan in result.plans), "no row matches"),
            Text(said),
            *(each for part in made for each in _prevention(part.plan.prevention, True)),
            *_checked(result.after),
        )
    several = len(result.parts) > 1
    parts: list[RenderableType] = []
    if several:
        parts.append(_title(command, result.title, f"{len(result.parts)} removes"))
    for place, part in enumerate(result.parts, 1):
        name = f"{place} of {len(result.parts)}" if several else command
        matched = f"{counted(part.plan.matched, 'row')} matched"
        parts += [Text()] if several else []
        parts.append(_title(name, part.plan.table, matched))
        if part.plan.steps:
            parts.append(_Steps(part.plan, part.tally.affected))
    total = counted(result.tally.total, "row")
    agree = "The ledger agrees with the tally."
    if result.ledger.unplanned:
        changed = sum(result.ledger.unplanned.values())
        agree = f"Allowed triggers changed {counted(changed, 'row')} besides."
    if committed:
        parts.append(Text(f"Committed: {total} gone or changed. {agree}", style="bold green"))
    else:
        parts.append(Text(f"Rolled back as rehearsed: {total}. {agree}", style="bold green"))
        parts.append(Text("A run would change exactly these rows."))
    parts += _checked(result.after)
    for part in result.parts:
        parts += [_warning(warning) for warning in part.plan.warnings]
        parts += _prevention(part.plan.prevention, part.constraint_made)
    return _spaced(parts)


def settings_view(found: Sequence[Setting]) -> RenderableType:
    return grid(["setting", "value", "said in"], [[e.name, e.value, e.said_in] for e in found])


def check_view(title: str, found: Sequence[Answer]) -> RenderableType:
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
    verdict = f"{counted(len(failed), 'check')} of {len(found)} failed" if failed else "all hold"
    return _spaced(
        [_title("check", title, verdict), grid(["", "what", "found", "expected"], rows, [2])]
    )


def _checked(found: Sequence[Checked]) -> list[RenderableType]:
    """What was asked when all was done, and that it holds."""
    return [
        Text.assemble(
            ("holds  ", "bold green"),
            visible(each.check.about or each.check.query),
            (f"  ({each.found:,}, expected {each.check.expected})", _QUIET),
        )
        for each in found
    ]


def repeats_view(found: Repeats) -> RenderableType:
    parts: list[RenderableType] = [
        _title("duplicates", str(found.table.name), f"{found.rows:,} rows; what repeats?")
    ]
    rows: list[list[str | Text]] = [
        [each.what, ", ".join(map(visible, each.columns)), f"{each.groups:,}",
         f"{each.removable:,}"]
        for each in found.found
    ]  # fmt: skip
    if rows:
        parts.append(grid(["what", "equal on", "groups", "would go"], rows, (2, 3)))
        fewest = min(found.found, key=lambda each: (len(each.columns), each.removable))
        by = ",".join(fewest.columns)
        parts.append(Text(f"Look closer: yeldro duplicates {found.table.name} --by {visible(by)}"))
    else:
        parts.append(Text("No whole rows repeat, and no few columns are nearly unique."))
    if found.looked_at < found.rows:
        parts.append(_note(f"only the first {found.looked_at:,} rows by key were looked at"))
    if found.left_out:
        parts.append(_note(f"left out, as they cannot be compared: {', '.join(found.left_out)}"))
    return _spaced(parts)


def duplicates_view(found: DuplicateReport) -> RenderableType:
    by = ", ".join(found.by)
    parts: list[RenderableType] = [
        _title("duplicates", str(found.table.name), f"by {by}"),
    ]
    if not found.groups:
        return Group(*parts, Text("No two rows are equal on these columns."))
    parts.append(
        Text.assemble(
            f"{counted(found.groups, 'group')} of equal rows; ",
            (f"{found.removable:,}", _NUMBER),
            " would go, one of each group stays.",
        )
    )
    rule = " then ".join(str(rule) for rule in found.keep)
    if found.keep and found.ties:
        parts.append(
            Text(f"In {counted(found.ties, 'group')} the rules prefer no single row ({rule}); "
                 "the first by key stays.")
        )  # fmt: skip
        shared = zip(found.by, found.tied, strict=True)
        parts.append(Text("Such as " + ", ".join(f"{name} {cell(v)}" for name, v in shared) + "."))
    if not found.keep:
        first = ", ".join(found.table.identity.columns)
        parts.append(Text(f"No --keep rule: the first row by {first} stays."))
    rows: list[list[str | Text]] = []
    for number, group in enumerate(found.sample, 1):
        for place, row in enumerate(group.rows):
            mark = Text("stays", style="bold green") if place == 0 else Text("goes", style=_WARNING)
            shown = [Text(cell(value), style=_QUIET if value is None else "") for value in row]
            rows.append([str(number) if place == 0 else "", mark, *shown])
        if group.size > len(group.rows):
            hidden = group.size - len(group.rows)
            rows.append(
                [
                    "",
                    Text("goes", style=_WARNING),
                    f"and {hidden:,} more",
                    *[""] * (len(group.rows[0]) - 1),
                ]
            )
    parts.append(grid(["group", "", *found.columns], rows))
    unseen = found.groups - len(found.sample)
    if unseen:
        parts.append(Text(f"{counted(unseen, 'more group')}: --rows {found.groups}", style=_QUIET))
    parts += [_note(warning) for warning in found.warnings]
    parts += _prevention(found.prevention)
    return _spaced(parts)


def orphans_view(found: Sequence[Orphans]) -> RenderableType:
    some = [each for each in found if each.rows]
    looked_at = f"{counted(len(found), 'foreign key')} looked at"
    parts: list[RenderableType] = [_title("orphans", str(sum(e.rows for e in some)), looked_at)]
    if not some:
        parts.append(Text("Every foreign key has its parent row."))
    for each in some:
        key = each.foreign_key
        parts.append(Text())
        parts.append(
            Text.assemble(
                (visible(f"{key}  "), "bold"), (f"{each.rows:,}", _NUMBER), " without a parent row"
            )
        )
        parts.append(rows_grid(each.columns, each.sample))
        remedy = f"yeldro plan {shlex.quote(str(key.child))} --orphans {shlex.quote(key.name)}"
        parts.append(Text(visible(f"To remove them: {remedy}"), style=_QUIET))
    return _spaced(parts)


def receipts_view(receipts: Sequence[Receipt], folder: str) -> RenderableType:
    if not receipts:
        return Text(f"No receipts in {visible(folder)}.")
    rows = [
        [each.id, _when(each.started), each.named_table, f"{each.total:,}", each.outcome,
         "yes" if each.holds_rows else "counts only", each.database]
        for each in receipts
    ]  # fmt: skip
    headings = ["id", "started (UTC)", "table", "rows", "outcome", "rows kept", "database"]
    return _spaced([_title("receipts", folder, str(len(receipts))), grid(headings, rows, [3])])


def receipt_view(receipt: Receipt) -> RenderableType:
    rows = [
        [str(step.n), str(step.action), str(step.table), f"{step.planned:,}",
         "" if step.affected is None else f"{step.affected:,}", step.because]
        for step in receipt.steps
    ]  # fmt: skip
    return Group(
        _title("receipt", receipt.id, receipt.outcome),
        Text(visible(f"asked      {receipt.title}")),
        Text(visible(f"database   {receipt.database}")),
        Text(visible(f"when       {_when(receipt.started)} UTC by {receipt.user}")),
        Text(visible(f"file       {receipt.path}")),
        grid(["step", "", "table", "planned", "affected", "because"], rows, [3, 4]),
    )


def restore_view(planned: RestorePlan, title: str) -> RenderableType:
    rows = [
        [
            str(each.step.action),
            str(each.step.table),
            f"{each.stored:,}",
            f"{each.back:,}",
            f"{each.missing:,}",
        ]
        for each in planned.steps
    ]
    parts: list[RenderableType] = [_title(title, planned.receipt.id, planned.verdict)]
    if rows:
        headings = ["step was", "table", "stored", "in place", "missing"]
        parts.append(grid(headings, rows, [2, 3, 4]))
    else:
        parts.append(Text("This run ended before anything was changed."))
    parts += [_warning(conflict) for conflict in planned.conflicts]
    parts += [_note(f"left out: {each}") for each in planned.skipped]
    return _spaced(parts)


def _spaced(parts: Sequence[RenderableType]) -> Group:
    """The parts with an empty line around every table."""
    spaced: list[RenderableType] = []
    for place, part in enumerate(parts):
        before = parts[place - 1] if place else ""
        if place and not (isinstance(part, Text) and isinstance(before, Text)):
            spaced.append("")
        spaced.append(part)
    return Group(*spaced)


class _Steps:
    """The steps of a plan, with what they affected once they are done.

    The way from the named table has a column of its own where the terminal is wide enough.
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
            row.append(Text(f"{step.rows:,}", style=_NUMBER))
            if self.affected is not None:
                row.append(f"{self.affected[place]:,}")
            path = " ← ".join(map(visible, step.path)) if len(step.path) > 1 else ""
            if wide:
                row += [step.because, path]
            elif path and not done:
                row.append(Text.assemble(visible(step.because), (f"\n  {path}", _QUIET)))
            else:
                row.append(step.because)
            rows.append(row)
        yield grid([*headings, *(["reached by"] if wide else [])], rows, [3, 4] if done else [3])


def _blocked(each: Blocked) -> RenderableType:
    head = Text.assemble(
        (visible(f"{each.foreign_key}  "), "bold"),
        (f"{each.rows:,}", _NUMBER),
        f" {'row' if each.rows == 1 else 'rows'}, {each.reason}",
    )
    more = f"  and {each.rows - len(each.sample):,} more" if each.rows > len(each.sample) else ""
    remedies = " or ".join(each.remedies)
    return Group(
        head,
        Padding(rows_grid(each.columns, each.sample), (0, 0, 0, 2), expand=False),
        *([Text(more, style=_QUIET)] if more else []),
        Text.assemble("  To deal with them, add ", (visible(remedies), "bold"))
        if remedies
        else Text("  No option moves them; deal with the rows that reference them first."),
    )


def _sums(plan: Plan) -> str:
    listed = ", ".join(f"{name} {rows:,}" for name, rows in plan.rows_by_table.items())
    return visible(listed) + "."


def _pinning(plan: Plan) -> str:
    key = ", ".join(plan.pinned_key)
    if plan.at_most == 1:
        return f"The filter fixes the key ({visible(key)}): it can match one row at most."
    if plan.at_most is not None:
        most = counted(plan.at_most, "row")
        return f"The filter fixes the key ({visible(key)}): it can match {most} at most."
    return "Nothing here fixes a key, so any number of rows could match."


def _treatment(treatment: str) -> Text:
    return Text(treatment, style="bold red" if treatment == "blocks" else "")


def _identity(kind: IdentityKind, columns: Sequence[str], table_kind: str = "table") -> str:
    if table_kind != "table":
        return ""
    if kind is IdentityKind.PRIMARY_KEY:
        return ", ".join(columns)
    if kind is IdentityKind.UNIQUE_KEY:
        return f"{', '.join(columns)} (unique)"
    return str(kind)


def _links(keys: Sequence[ForeignKey]) -> Text:
    lines = (f"{', '.join(key.columns)} → {key.parent} ({key.on_delete})" for key in keys)
    return Text("\n".join(map(visible, lines)))


def _title(command: str, name: str, rest: str) -> Text:
    return Text.assemble(
        (f"{command}  ", "bold"), (visible(name), "bold cyan"), f"  {visible(rest)}"
    )


def _warning(text: str) -> Text:
    return Text(f"! {visible(text)}", style=_WARNING)


def _note(text: str) -> Text:
    return Text(f"· {visible(text)}", style=_QUIET)


def _when(moment: str) -> str:
    return moment.replace("T", " ").replace("+00:00", "")

"""What is in a database, and earlier runs, as text for a terminal."""

from __future__ import annotations

import shlex
from collections.abc import Sequence
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.text import Text

from yeldro.core.model.names import counted
from yeldro.core.model.schema import ForeignKey, IdentityKind
from yeldro.core.planning.treatment import Fate
from yeldro.report.parts import (
    NUMBER,
    QUIET,
    WARNING,
    caution,
    grid,
    heading,
    prevention,
    remark,
    rows_grid,
    spaced,
)
from yeldro.report.text import cell, short_name, visible

if TYPE_CHECKING:
    from yeldro.core.inspection.orphans import Orphans
    from yeldro.core.inspection.preview import Preview
    from yeldro.core.inspection.repeats import Repeats
    from yeldro.core.inspection.survey import Survey, TableDetail
    from yeldro.core.planning.plan import Plan, RippleLine
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.restore.restore import RestorePlan
    from yeldro.core.selection.duplicates import DuplicateReport
    from yeldro.formats.project import Setting


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
            ]
        )
    parts: list[RenderableType] = [
        heading("survey", short_name(shown), counted(len(found.tables), "table")),
        grid(["table", "rows", "row key", "references (on delete)"], rows, [1]),
    ]
    parts += [
        caution(f"{each.table.name}: {warning}")
        for each in found.tables
        for warning in each.warnings
    ]
    parts += [remark(note) for note in found.notes]
    return spaced(parts)


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
        heading("survey", str(table.name), held),
        Text(f"Row key: {_identity(table.identity.kind, table.identity.columns)}"),
        grid(["column", "type", "", "key"], columns),
    ]
    if table.foreign_keys:
        links = [[str(key), str(key.on_delete)] for key in table.foreign_keys]
        parts.append(grid(["references", "on delete of the parent"], links))
    if survey.referenced_by:
        links = [[str(key), str(key.on_delete)] for key in survey.referenced_by]
        parts.append(grid(["referenced by", "on delete here"], links))
    parts += [caution(warning) for warning in survey.warnings]
    if found.sample:
        parts.append(rows_grid(found.columns, found.sample))
    return spaced(parts)


def preview_view(found: Preview) -> RenderableType:
    plan = found.plan
    parts: list[RenderableType] = [
        heading(
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
        parts += [Text("  ·  ".join(more), style=QUIET)] if more else []
    if plan.ripple:
        lines: list[list[str | Text]] = [
            [line.foreign_key, f"{line.rows:,}", _treatment(line), str(line.reason)]
            for line in plan.ripple
        ]
        parts.append(
            grid(["ripple: rows that depend on these", "rows", "would be", "by"], lines, [1])
        )
    elif plan.matched:
        parts.append(Text("No other row depends on these."))
    if not plan.matched:
        parts += [caution(warning) for warning in plan.warnings]
    return spaced(parts)


def settings_view(found: Sequence[Setting]) -> RenderableType:
    return grid(["setting", "value", "from"], [[e.name, e.value, e.said_in] for e in found])


def repeats_view(found: Repeats) -> RenderableType:
    parts: list[RenderableType] = [
        heading("duplicates", str(found.table.name), f"{found.rows:,} rows; what repeats?")
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
        parts.append(Text("No whole rows repeat, and no small set of columns is nearly unique."))
    if found.looked_at < found.rows:
        parts.append(remark(f"only the first {found.looked_at:,} rows by key were searched"))
    if found.left_out:
        parts.append(remark(f"left out, as they cannot be compared: {', '.join(found.left_out)}"))
    return spaced(parts)


def duplicates_view(found: DuplicateReport) -> RenderableType:
    by = ", ".join(found.by)
    parts: list[RenderableType] = [
        heading("duplicates", str(found.table.name), f"by {by}"),
    ]
    if not found.groups:
        return Group(*parts, Text("No two rows are equal on these columns."))
    parts.append(
        Text.assemble(
            f"{counted(found.groups, 'group')} of equal rows; ",
            (f"{found.removable:,}", NUMBER),
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
            mark = Text("stays", style="bold green") if place == 0 else Text("goes", style=WARNING)
            shown = [Text(cell(value), style=QUIET if value is None else "") for value in row]
            rows.append([str(number) if place == 0 else "", mark, *shown])
        if group.size > len(group.rows):
            hidden = group.size - len(group.rows)
            rows.append(
                [
                    "",
                    Text("goes", style=WARNING),
                    f"and {hidden:,} more",
                    *[""] * (len(group.rows[0]) - 1),
                ]
            )
    parts.append(grid(["group", "", *found.columns], rows))
    unseen = found.groups - len(found.sample)
    if unseen:
        parts.append(Text(f"{counted(unseen, 'more group')}: --rows {found.groups}", style=QUIET))
    parts += [remark(warning) for warning in found.warnings]
    parts += prevention(found.prevention)
    return spaced(parts)


def orphans_view(found: Sequence[Orphans]) -> RenderableType:
    some = [each for each in found if each.rows]
    searched = f"{counted(len(found), 'foreign key')} searched"
    parts: list[RenderableType] = [heading("orphans", str(sum(e.rows for e in some)), searched)]
    if not some:
        parts.append(Text("Every row with a foreign key has its parent row."))
    for each in some:
        key = each.foreign_key
        parts.append(Text())
        parts.append(
            Text.assemble(
                (visible(f"{key}  "), "bold"), (f"{each.rows:,}", NUMBER), " without a parent row"
            )
        )
        parts.append(rows_grid(each.columns, each.sample))
        remedy = f"yeldro plan {shlex.quote(str(key.child))} --orphans {shlex.quote(key.name)}"
        parts.append(Text(visible(f"To remove them: {remedy}"), style=QUIET))
    return spaced(parts)


def receipts_view(receipts: Sequence[Receipt], folder: str, kept: int) -> RenderableType:
    """Return a list of receipts.

    Args:
        kept: how many there are in the folder before any filter.
    """
    if not receipts:
        return Text(f"No receipts in {visible(folder)}.")
    rows = [
        [each.id, _when(each.started), each.title, f"{each.total:,}",
         "back" if each.is_of_restore else "gone", each.outcome,
         _kept(each), short_name(each.database)]
        for each in receipts
    ]  # fmt: skip
    headings = ["id", "started (UTC)", "asked", "rows", "", "outcome", "rows kept", "database"]
    number = f"{len(receipts):,}" if len(receipts) == kept else f"{len(receipts):,} of {kept:,}"
    return spaced([heading("receipts", folder, number), grid(headings, rows, [3])])


def receipt_view(receipt: Receipt) -> RenderableType:
    rows = [
        [str(step.n), str(step.action), str(step.table), f"{step.planned:,}",
         "" if step.affected is None else f"{step.affected:,}", step.because]
        for step in receipt.steps
    ]  # fmt: skip
    return Group(
        heading("receipt", receipt.id, receipt.outcome),
        Text(visible(f"asked      {receipt.title}")),
        Text(visible(f"database   {receipt.database}")),
        Text(visible(f"when       {_when(receipt.started)} UTC by {receipt.user}")),
        Text(visible(f"file       {receipt.path}")),
        *([Text(f"rows       {_kept(receipt)}")] if not receipt.copies else []),
        *(
            [Text(visible(f"copies     {', '.join(map(str, receipt.copies))}"))]
            if receipt.copies
            else []
        ),
        grid(["step", "", "table", "planned", "affected", "because"], rows, [3, 4]),
    )


def _kept(receipt: Receipt) -> str:
    if receipt.copies:
        return "as tables"
    if receipt.holds_rows:
        return "yes"
    return "forgotten" if receipt.is_forgotten else "counts only"


_STATE = ["in place", "missing"]


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
    parts: list[RenderableType] = [heading(title, planned.receipt.id, planned.verdict)]
    if rows:
        state = ["undone", "as put back"] if planned.receipt.is_of_restore else _STATE
        headings = ["step was", "table", "stored", *state]
        parts.append(grid(headings, rows, [2, 3, 4]))
    else:
        parts.append(Text("This run ended before anything was changed."))
    parts += [caution(conflict.said) for conflict in planned.conflicts]
    parts += [remark(f"left out: {each}") for each in planned.skipped]
    parts += [remark(each) for each in planned.notes]
    return spaced(parts)


def _pinning(plan: Plan) -> str:
    key = ", ".join(plan.pinned_key)
    if plan.at_most == 1:
        return f"The filter pins the unique key ({visible(key)}), so it can match one row at most."
    if plan.at_most is not None:
        most = counted(plan.at_most, "row")
        return f"The filter pins the unique key ({visible(key)}), so it can match {most} at most."
    return "The filter does not pin a unique key, so it can match any number of rows."


def _treatment(line: RippleLine) -> Text:
    said = str(line.fate)
    if line.of_them != line.rows:
        said = f"{line.of_them:,} {said}, the others removed on another path"
    return Text(said, style="bold red" if line.fate is Fate.BLOCKS else "")


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


def _when(moment: str) -> str:
    return moment[:19].replace("T", " ")

"""What is in a database, and earlier runs, as text for a terminal."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from typing import TYPE_CHECKING

from rich.console import Group, RenderableType
from rich.text import Text

from yeldro.core.model.messages.names import counted
from yeldro.core.model.messages.options import REPOINT
from yeldro.core.model.tables.schema import ForeignKey, IdentityKind
from yeldro.core.model.work.chains import Fate
from yeldro.report.parts import (
    NUMBER,
    QUIET,
    WARNING,
    caution,
    grid,
    heading,
    is_number,
    prevention,
    remark,
    rows_grid,
    shown,
    spaced,
)
from yeldro.report.text import asked_lines, cell, duration, short_name, size, visible

if TYPE_CHECKING:
    from yeldro.core.inspection.orphans import Orphans
    from yeldro.core.inspection.preview import Preview
    from yeldro.core.inspection.repeats import Repeats
    from yeldro.core.inspection.survey import Survey, TableDetail
    from yeldro.core.planning.plan import Plan, RippleLine
    from yeldro.core.receipts.reader import Receipt
    from yeldro.core.restore.restore_plan import RestorePlan
    from yeldro.core.selection.asked import Selection
    from yeldro.core.selection.duplicates.grouping import DuplicateReport
    from yeldro.core.selection.duplicates.review import WrittenReview
    from yeldro.formats.project import Setting
    from yeldro.formats.review_on_disk import ReviewOnDisk


def survey_view(found: Survey, database: str) -> RenderableType:
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
        heading("survey", database, _kinds(found)),
        grid(["table", "rows", "row key", "references (on delete)"], rows, [1]),
    ]
    parts += [
        caution(f"{each.table.name}: {warning}")
        for each in found.tables
        for warning in each.warnings
    ]
    parts += [remark(note) for note in found.notes]
    return spaced(parts)


def _kinds(found: Survey) -> str:
    """Return how many tables there are, and how many views and the like: `12 tables, 1 view`."""
    kinds = Counter(each.table.kind for each in found.tables)
    tables = counted(kinds.pop("table", 0), "table")
    return ", ".join([tables, *(counted(number, kind) for kind, number in kinds.items())])


def detail_view(found: TableDetail, *, full: bool = False) -> RenderableType:
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
        parts.append(rows_grid(found.columns, found.sample, full=full))
    return spaced(parts)


def preview_view(found: Preview, *, full: bool = False) -> RenderableType:
    plan = found.plan
    matched = f"{plan.matched:,} of {counted(plan.table_rows, 'row')} matched"
    if found.view:
        matched = f"is a view of {plan.table}: {matched}"
    parts: list[RenderableType] = [
        heading("preview", found.view or plan.table, matched),
        Text(_pinning(plan)),
    ]
    if found.rows:
        parts.append(rows_grid(found.columns, found.rows, full=full))
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
         f"{each.removable:,}", "" if each.agreeing is None else f"{each.agreeing:,} groups"]
        for each in found.found
    ]  # fmt: skip
    if rows:
        headings = ["what", "equal on", "groups", "would go", "the rest agrees in"]
        parts.append(grid(headings, rows, (2, 3, 4)))
    else:
        parts.append(Text("No whole rows repeat, and no small set of columns is nearly unique."))
    if found.looked_at < found.rows:
        parts.append(remark(f"only the first {found.looked_at:,} rows by key were searched"))
    if found.left_out:
        parts.append(remark(f"left out, as they cannot be compared: {', '.join(found.left_out)}"))
    return spaced(parts)


def review_view(written: WrittenReview) -> RenderableType:
    """Return what a review holds, and how it is decided."""
    parts: list[RenderableType] = [
        heading("duplicates", str(written.table.name), f"by {', '.join(written.by)}"),
        Text(f"{counted(written.groups, 'group')} of equal rows, {counted(written.rows, 'row')} in "
             f"all, stand in {written.path}."),
    ]  # fmt: skip
    if written.groups:
        decided = written.groups - written.tied
        told = (
            f"The keep rules decided {decided:,} of the groups. Write keep or remove in the first "
        )
        parts.append(Text(told + "column; a group without a word in it stays as it is."))
    return Group(*parts)


def decided_view(review: ReviewOnDisk, wanted: Selection) -> RenderableType:
    """Return what has been decided in a review so far."""
    left = sum(1 for _ in review.open_groups())
    parts: list[RenderableType] = [
        heading("decided", wanted.table, f"by {', '.join(wanted.duplicates_by)}"),
        Text.assemble(
            f"{counted(len(review) - left, 'group')} of {len(review):,} decided: ",
            (f"{review.count('remove'):,}", NUMBER),
            f" would go, {review.count('keep'):,} stay. All of it is in {review.path}.",
        ),
    ]
    if left:
        parts.append(Text(f"{counted(left, 'group is', 'groups are')} open, and would stay whole."))
    return Group(*parts)


def duplicates_view(found: DuplicateReport, *, full: bool = False) -> RenderableType:
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
        parts.append(
            Text("For example: " + ", ".join(f"{name} {cell(v)}" for name, v in shared) + ".")
        )
    if not found.keep:
        first = ", ".join(found.table.identity.columns)
        parts.append(Text(f"No --keep rule: the first row by {first} stays."))
    rows: list[list[str | Text]] = []
    marked, longest = False, 0
    own = set(found.table.identity.columns)
    keys = {place for place, name in enumerate(found.columns) if name in own}
    for number, group in enumerate(found.sample, 1):
        for place, (row, differing) in enumerate(zip(group.rows, group.differing, strict=True)):
            mark = Text("stays", style="bold green") if place == 0 else Text("goes", style=WARNING)
            cells = [shown(value, full) for value in row]
            for other in differing - keys:
                cells[other] = Text.assemble(("≠ ", WARNING), cells[other])
                marked = True
            rows.append([str(number) if place == 0 else "", mark, *cells])
        if group.size > len(group.rows):
            hidden = Text(f"goes, and {group.size - len(group.rows):,} more", style=WARNING)
            if len(group.rows) == 1:
                hidden = Text(f"{group.size - 1:,} go", style=WARNING)
                rows.append(["", hidden, *[""] * len(group.rows[0])])
            else:
                rows[-1][1] = hidden
            longest = max(longest, group.size)
    every = [row for group in found.sample for row in group.rows]
    numbers = [place for place in range(len(found.columns)) if every and is_number(every, place)]
    parts.append(grid(["group", "", *found.columns], rows, [place + 2 for place in numbers]))
    more = ["≠ differs from the row that stays"] if marked else []
    unseen = found.groups - len(found.sample)
    more += [f"{counted(unseen, 'more group')}: --rows {found.groups}"] if unseen else []
    more += [f"all rows of each group: --each {longest}"] if longest else []
    parts += [Text("  ·  ".join(more), style=QUIET)] if more else []
    parts += [remark(warning) for warning in found.warnings]
    parts += prevention(found.prevention)
    return spaced(parts)


def orphans_view(found: Sequence[Orphans], *, full: bool = False) -> RenderableType:
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
        parts.append(rows_grid(each.columns, each.sample, full=full))
    return spaced(parts)


def receipts_view(
    receipts: Sequence[Receipt], folder: str, kept: int, *, full: bool = False
) -> RenderableType:
    """Return a list of receipts.

    Args:
        kept: how many there are in the folder before any filter.
        full: show the whole URL of each database.
    """
    if not receipts:
        return Text(f"No receipts in {visible(folder)}.")
    rows = [
        [each.id, _when(each.started), each.title, f"{each.total:,}",
         "back" if each.is_of_restore else "gone", each.outcome,
         _kept(each), each.database if full else short_name(each.database)]
        for each in receipts
    ]  # fmt: skip
    headings = ["id", "started (UTC)", "asked", "rows", "", "outcome", "rows kept", "database"]
    number = f"{len(receipts):,}" if len(receipts) == kept else f"{len(receipts):,} of {kept:,}"
    return spaced([heading("receipts", folder, number), grid(headings, rows, [3])])


def receipt_view(receipt: Receipt, *, full: bool = False) -> RenderableType:
    took = _took(receipt.started, receipt.ended)
    database = receipt.database if full else short_name(receipt.database)
    rows = [
        [str(step.n), str(step.action), str(step.table), f"{step.planned:,}",
         "" if step.affected is None else f"{step.affected:,}", step.because]
        for step in receipt.steps
    ]  # fmt: skip
    facts = [
        ("asked", receipt.title),
        *asked_lines(receipt.asked),
        ("database", database),
        ("when", f"{_when(receipt.started)} UTC by {receipt.user}{took}"),
        ("file", f"{receipt.path} ({size(receipt.path.stat().st_size)})"),
        ("copies", ", ".join(map(str, receipt.copies)))
        if receipt.copies
        else ("rows", f"{receipt.total:,}, {_kept(receipt)}"),
    ]
    wide = max(len(label) for label, _ in facts) + 3
    return Group(
        heading("receipt", receipt.id, receipt.outcome),
        *(Text(visible(f"{label:<{wide}}{text}")) for label, text in facts),
        grid(["step", "", "table", "planned", "affected", "because"], rows, [3, 4]),
    )


def _took(started: str, ended: str | None) -> str:
    """Return how long a run took, by times of whole seconds; empty if that is not known."""
    try:
        seconds = (_moment(ended or "") - _moment(started)).total_seconds()
    except ValueError:
        return ""
    return f", in about {duration(seconds)}" if seconds >= 1 else ", in less than 2 s"


def _moment(text: str) -> datetime:
    return datetime.fromisoformat(text[:19])


def _kept(receipt: Receipt) -> str:
    if receipt.copies:
        return "as tables"
    if receipt.holds_rows:
        return "stored"
    return "forgotten" if receipt.is_forgotten else "not stored"


def restore_view(planned: RestorePlan, title: str, *, done: bool = False) -> RenderableType:
    """Return how far the rows of a receipt are back.

    Args:
        done: the missing rows have been put back; the view tells the state before that and after.
    """
    back, missing = "in place", "missing"
    verdict = planned.verdict
    if planned.receipt.is_of_restore:
        back, missing = "undone", "as put back"
    if done:
        verdict = f"before: {verdict}"
        back, missing = (
            f"{back} before",
            "undone now" if planned.receipt.is_of_restore else "put back now",
        )
    left_out = ["left out"] if any(each.left_out for each in planned.steps) else []
    rows = [
        [
            str(each.step.action),
            str(each.step.table),
            f"{each.stored:,}",
            f"{each.back:,}",
            f"{each.missing:,}",
            *([f"{each.left_out:,}"] if left_out else []),
        ]
        for each in planned.steps
    ]
    parts: list[RenderableType] = [heading(title, planned.receipt.id, verdict)]
    if rows:
        headings = ["step was", "table", "stored", back, missing, *left_out]
        parts.append(grid(headings, rows, [2, 3, 4, 5][: len(headings) - 2]))
    else:
        parts.append(Text("This run ended before anything was changed."))
    if len(planned.steps) > 1 and planned.total and not done:
        parts.append(Text.assemble((f"{planned.total:,}", NUMBER), f" {missing} in all."))
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
        blocks = line.fate is Fate.BLOCKS
        said = f"{line.of_them:,} {'block' if blocks and line.of_them > 1 else said}, the others "
        moves = "repointed or " if blocks and line.reason == REPOINT else ""
        said += f"{moves}removed on another path"
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

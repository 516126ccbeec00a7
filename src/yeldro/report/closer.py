"""A closer look at a plan as text: why single rows go or stay, and some rows that go."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, Any

from rich.text import Text

from yeldro.core.model.messages.names import counted
from yeldro.core.model.work.chains import Fate, named
from yeldro.report.parts import NUMBER, grid, heading, remark, rows_grid, spaced
from yeldro.report.text import plain

if TYPE_CHECKING:
    from rich.console import RenderableType

    from yeldro.core.model.work.chains import Reason, Why
    from yeldro.core.planning.why import LookResult, SomeRows

_LONGEST, _AT_ENDS = 12, 5  # rows of a chain that are shown, and at its ends where it is longer
_FATES = {  # of rows of a plan, and of a receipt
    Fate.REMOVED: ("goes", "went"),
    Fate.DETACHED: ("stays, and loses a link", "stayed, and lost a link"),
    Fate.REPOINTED: (
        "stays, and will reference the kept row",
        "stayed, and was repointed",
    ),
    Fate.BLOCKS: ("would stay, and blocks the removal", "blocked the removal"),
    Fate.FILLED: (
        "stays, and takes values that it lacks",
        "stayed, and was filled",
    ),
}


def looked_views(found: Sequence[LookResult]) -> Iterator[RenderableType]:
    """Yield what a closer look at the plans of a job shows.

    Of several plans, one that does nothing to a row or table is left out if another does something.
    """
    for place, looked in enumerate(found):
        where = f" in remove {place + 1} of {len(found)}" if len(found) > 1 else ""
        for number, rows in enumerate(looked.rows):
            if rows.total or not any(each.rows[number].total for each in found):
                yield _rows_view(rows, where)
        for number, why in enumerate(looked.reasons):
            if why.fates or not any(each.reasons[number].fates for each in found):
                yield why_view(why, where)


def looked_document(found: LookResult) -> dict[str, Any]:
    """Return it as JSON holds it."""
    return {
        "why": [why_document(each) for each in found.reasons],
        "some_rows": [
            {
                "table": each.table,
                "total": each.total,
                "rows": [dict(zip(each.columns, map(plain, row), strict=True))
                         for row in each.rows],
            }
            for each in found.rows
        ],
    }  # fmt: skip


def _rows_view(found: SomeRows, where: str) -> RenderableType:
    head = heading("rows", found.table, f"{found.total:,} would go{where}")
    if not found.rows:
        return head
    more = found.total - len(found.rows)
    end = [Text(f"and {more:,} more")] if more else []
    return spaced([head, rows_grid(found.columns, found.rows), *end])


def why_view(found: Why, where: str = "", *, done: bool = False) -> RenderableType:
    """Return the chains that lead to a row.

    Args:
        where: in which remove of several.
        done: it is told from a receipt.
    """
    told = ", ".join(_FATES[each][done] for each in found.fates) or "stays as it is"
    parts: list[RenderableType] = [heading("why", named(found.table, found.key), told + where)]
    if len(found.chains) > 1:
        more = ", and there may be more" if found.left_out else ""
        parts.append(Text(f"{counted(len(found.chains), 'chain')} of rows lead to it{more}."))
    if found.left_out and not found.chains:
        parts.append(Text("More rows lead to it than are followed, so no chain is shown."))
    parts += [grid(["row", "because"], _lines(chain)) for chain in found.chains]
    parts += [remark(note) for note in found.notes]
    return spaced(parts)


def _lines(chain: Sequence[Reason]) -> Iterator[list[str | Text]]:
    """Yield the lines of a chain; of a long one, those at its ends."""
    for place, reason in enumerate(chain):
        if len(chain) <= _LONGEST or not _AT_ENDS <= place < len(chain) - _AT_ENDS:
            yield [Text(named(reason.table, reason.key), style=NUMBER), reason.because]
        elif place == _AT_ENDS:
            yield [f"… {len(chain) - 2 * _AT_ENDS:,} rows between", ""]


def why_document(found: Why) -> dict[str, Any]:
    return {
        "table": found.table,
        "key": dict(zip(found.columns, map(plain, found.key), strict=True)),
        "fates": list(map(str, found.fates)),
        "chains": [
            [
                {"table": each.table, "key": plain(each.key), "because": each.because}
                for each in chain
            ]
            for chain in found.chains
        ],
        "complete": not found.left_out,
        "notes": list(found.notes),
    }

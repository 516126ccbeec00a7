"""A map as text: a tree for the terminal, and Mermaid's flowcharts for documents."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from yeldro.core.model.work.chains import Fate
from yeldro.report.maps import words
from yeldro.report.text import visible

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap, MapKey, MapTable

_FILLED, _EMPTY, _CELLS = "█", "░", 10


def tree(drawn: KeyMap) -> str:
    """Return a map as a tree: under each table those that reference it.

    With a plan only foreign keys that rows depend through are followed, from the named tables on.
    """
    tables = {table.name: table for table in drawn.tables}
    below: dict[str, list[MapKey]] = {name: [] for name in tables}
    for each in drawn.keys:
        if drawn.total is None or each.fate is not None:
            below[each.parent].append(each)
    children = {each.child for listed in below.values() for each in listed if not _loops(each)}
    roots = [name for name, table in tables.items() if table.named]
    if not roots:
        roots = [name for name in tables if name not in children] or list(tables)[:1]
    lines: list[tuple[str, str, str]] = []
    seen: set[str] = set()
    for root in roots:
        lines += _branch(tables, below, root, "", "", seen)
    for name in tables:  # those on a cycle that no root leads to
        if drawn.total is None and name not in seen:
            lines += _branch(tables, below, name, "", "", seen)
    name_width = max((len(name) for name, _, _ in lines), default=0)
    rows_width = max((len(rows) for _, rows, _ in lines), default=0)
    text = [f"{name:<{name_width}}  {rows:<{rows_width}}  {about}".rstrip()
            for name, rows, about in lines]  # fmt: skip
    summary = words.summary(drawn)
    return "\n".join([*text, "", summary] if summary else text)


def _loops(each: MapKey) -> bool:
    return each.child == each.parent


def _branch(
    tables: dict[str, MapTable],
    below: dict[str, list[MapKey]],
    name: str,
    before: str,
    about: str,
    seen: set[str],
) -> Iterator[tuple[str, str, str]]:
    """Yield a table and all below it: its name, its rows, and the key by which it is reached."""
    stack = [(name, before, before, about)]
    while stack:
        name, before, inner, about = stack.pop()
        table = tables[name]
        if name in seen:
            yield before + visible(name), "", f"{about} (see above)".strip()
            continue
        seen.add(name)
        steps = words.steps_of(table)
        marks = [f"step {steps}" if steps else "", "named" if table.named else "", about]
        yield before + visible(name), _measured(table), "  ".join(filter(None, marks))
        under = below[name]
        for number, each in reversed(list(enumerate(under))):
            last = number == len(under) - 1
            said = f"{', '.join(map(visible, each.key.columns))}: {words.fate_of(each)}"
            said = said.removesuffix(": ")
            stack.append(
                (
                    each.child,
                    f"{inner}{'└─ ' if last else '├─ '}",
                    f"{inner}{'   ' if last else '│  '}",
                    f"by {said}",
                )
            )


def _measured(table: MapTable) -> str:
    """Return a table's rows, after a bar of the share that goes or changes."""
    rows = words.rows_of(table)
    if not table.is_affected or not table.rows:
        return rows
    share = min((table.gone + table.changed) / table.rows, 1)
    filled = min(max(round(share * _CELLS), 1), _CELLS)
    return f"{_FILLED * filled}{_EMPTY * (_CELLS - filled)} {rows}"


def mermaid(drawn: KeyMap) -> str:
    """Return a map as a flowchart in Mermaid's language, children below their parents."""
    marks = {table.name: f"t{number}" for number, table in enumerate(drawn.tables, 1)}
    lines = ["flowchart BT"]
    for table in drawn.tables:
        steps = words.steps_of(table)
        said = [table.name, words.rows_of(table), f"step {steps}" if steps else ""]
        inside = "<br>".join(_quoted(each) for each in said if each)
        lines.append(f'    {marks[table.name]}["{inside}"]')
    for each in drawn.keys:
        arrow = {None: "-.->", Fate.BLOCKS: "--x"}.get(each.fate, "==>")
        label = ": ".join(filter(None, [", ".join(each.key.columns), words.fate_of(each)]))
        lines.append(f'    {marks[each.child]} {arrow}|"{_quoted(label)}"| {marks[each.parent]}')
    for style, chosen in (
        ("stroke-width:4px", [t.name for t in drawn.tables if t.named]),
        ("stroke-width:3px,stroke:#a3210f",
         [each.child for each in drawn.keys if each.fate is Fate.BLOCKS]),
    ):  # fmt: skip
        lines += [f"    style {marks[name]} {style}" for name in dict.fromkeys(chosen)]
    return "\n".join(lines) + "\n"


def _quoted(text: str) -> str:
    """Return a text with every mark that has a meaning written as a character code."""
    return "".join(
        each if each.isalnum() or each in " _.,:→-" else f"#{ord(each)};" for each in visible(text)
    )

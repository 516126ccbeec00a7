"""Draws the rooms of the program and the arrows between them, from its imports, as rooms.svg.

Run it with the interpreter of the project's environment: `python docs/draw_rooms.py`. With --check
it leaves with 1 where the picture that is there is another one.
"""

from __future__ import annotations

import ast
import sys
from html import escape
from pathlib import Path

HERE = Path(__file__).parent
SOURCE = HERE.parent / "src" / "yeldro"
# Where each room stands: column and row, and what it is for.
PLACES = {
    "cli": (1, 0, "commands; the same for programs"),
    "report": (0, 1, "text, tables and JSON"),
    "formats": (0, 2, "cleanup files, plans, SQL"),
    "core.inspection": (0, 3, "looking without a plan"),
    "core.restore": (1, 1, "putting back, undoing"),
    "core.execution": (1, 2, "a run, batches, a script"),
    "core.planning": (1, 3, "ripple, order, exact counts"),
    "core.selection": (1, 4, "which rows are meant"),
    "core.changes": (1, 5, "the one way in which rows change"),
    "core.receipts": (1, 6, "what went, in a file"),
    "core.database": (1, 7, "what an engine provides"),
    "core.model": (1, 8, "plain values"),
    "engines": (2, 7, "one package for each system"),
}
WIDE, HIGH, GAP_X, GAP_Y, EDGE = 250, 56, 60, 34, 30


NAMED = {"cli": "cli, api"}  # two doors to the same rooms


def room_of(name: str) -> str | None:
    name = "cli.api" if name == "api" else name
    return next((room for room in PLACES if f"{name}.".startswith(f"{room}.")), None)


def rooms() -> tuple[dict[str, int], set[tuple[str, str]]]:
    """Return the number of modules of each room, and which room imports which."""
    sizes: dict[str, int] = {}
    arrows: set[tuple[str, str]] = set()
    for path in sorted(SOURCE.rglob("*.py")):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        room = room_of(name.removesuffix(".__init__"))
        if room is None:
            continue
        sizes[room] = sizes.get(room, 0) + (path.name != "__init__.py")
        for node in ast.walk(ast.parse(path.read_text())):
            if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("yeldro."):
                module = str(node.module).removeprefix("yeldro.")
                for alias in node.names:
                    other = room_of(f"{module}.{alias.name}")
                    if other and other != room:
                        arrows.add((room, other))
    return sizes, arrows


def without_detours(arrows: set[tuple[str, str]]) -> list[tuple[str, str]]:
    """Return the arrows that no longer way takes the place of."""

    def leads(start: str, end: str, but: tuple[str, str]) -> bool:
        return any(
            other == end or leads(other, end, but)
            for room, other in arrows
            if room == start and (room, other) != but
        )

    return sorted(arrow for arrow in arrows if not leads(*arrow, arrow))


def corner(room: str) -> tuple[int, int]:
    column, row, _ = PLACES[room]
    return EDGE + column * (WIDE + GAP_X), EDGE + row * (HIGH + GAP_Y)


def way(room: str, other: str, lane: int) -> list[tuple[int, int]]:
    """Return the corners of an arrow, which goes around the rooms between in a lane of its own."""
    (x, y), (u, v) = corner(room), corner(other)
    half = HIGH // 2
    if x == u and v - y > HIGH + GAP_Y:
        aside, low, high = x - 16 - 8 * lane, y + half + 5 * lane, v + half - 5 * lane
        return [(x, low), (aside, low), (aside, high), (u - 6, high)]
    if x == u:
        return [(x + WIDE // 2, y + HIGH), (u + WIDE // 2, v - 6)]
    if y == v:
        return [(x + (WIDE if u > x else 0), y + half), (u + (-6 if u > x else WIDE + 6), v + half)]
    return [
        (x + (WIDE if u > x else 0), y + half),
        (u + WIDE // 2, y + half),
        (u + WIDE // 2, v - 6),
    ]


def drawn() -> str:
    sizes, arrows = rooms()
    parts = []
    lanes = 0
    for arrow in without_detours(arrows):
        corners = way(*arrow, lane=lanes % 4)
        lanes += len(corners) == 4
        points = " ".join(f"{x},{y}" for x, y in corners)
        parts.append(f'<polyline class="arrow" points="{points}"/>')
    for room, (_, _, words) in PLACES.items():
        x, y = corner(room)
        kind = "core" if room.startswith("core.") else "edge"
        count = sizes.get(room, 0)
        modules = f"{count} module{'' if count == 1 else 's'}"
        parts += [
            f'<rect class="{kind}" x="{x}" y="{y}" width="{WIDE}" height="{HIGH}" rx="4"/>',
            f'<text class="name" x="{x + 12}" y="{y + 23}">{NAMED.get(room, room)}</text>',
            f'<text class="size" x="{x + WIDE - 12}" y="{y + 23}">{modules}</text>',
            f'<text class="words" x="{x + 12}" y="{y + 43}">{escape(words)}</text>',
        ]
    width = 2 * EDGE + 3 * WIDE + 2 * GAP_X
    rows = 1 + max(row for _, row, _ in PLACES.values())
    height = 2 * EDGE + rows * HIGH + (rows - 1) * GAP_Y
    head = f"""<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {width} {height}"
 font-family="DejaVu Sans, sans-serif" font-size="14">
<style>
 .core {{ fill: #e8f0f6; stroke: #2f5d7c; }} .edge {{ fill: #f7f4ec; stroke: #8a7646; }}
 .name {{ font-weight: bold; fill: #1c2b36; }} .words, .size {{ font-size: 12px; fill: #44525c; }}
 .size {{ text-anchor: end; }}
 .arrow {{ fill: none; stroke: #44525c; stroke-width: 1.5; marker-end: url(#tip); }}
</style>
<defs><marker id="tip" viewBox="0 0 8 8" refX="6" refY="4" markerWidth="7" markerHeight="7"
 orient="auto"><path d="M0 0 L8 4 L0 8 z" fill="#44525c"/></marker></defs>
<rect width="{width}" height="{height}" fill="#ffffff"/>
"""
    return head + "\n".join(parts) + "\n</svg>\n"


if __name__ == "__main__":
    picture = HERE / "rooms.svg"
    if "--check" in sys.argv:
        sys.exit(picture.read_text() != drawn())
    picture.write_text(drawn())

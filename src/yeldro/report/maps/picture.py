"""A map as SVG: boxes with their rows and foreign keys, lines from children up to parents."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from html import escape
from typing import TYPE_CHECKING

from yeldro.core.model.work.chains import Fate
from yeldro.report.maps import words
from yeldro.report.maps.layout import Layout, laid_out
from yeldro.report.text import visible

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap, MapKey, MapTable

_LETTER = 6.9  # pixels of a character at 12 pixels, about
_LINE, _PADDING, _BAR = 17, 10, 6
_NARROWEST, _WIDEST = 170, 330
_MARGIN, _TOP, _FOOT = 28, 62, 74
_STYLE = """
svg.map{font-family:"DejaVu Sans",Verdana,Arial,sans-serif;font-size:12px}
.map .page{fill:#ffffff}.map .box{fill:#f7f8f9;stroke:#9aa3ab;stroke-width:1}
.map .quiet{fill:#5f6871}.map .ink{fill:#15202b}.map .name{font-weight:bold}
.map .affected{fill:#ffffff;stroke:#24435c;stroke-width:2}
.map .ring{fill:none;stroke:#24435c;stroke-width:1.5}
.map .stopped{fill:#fff4f2;stroke:#a3210f;stroke-width:3;stroke-dasharray:9 5}
.map .stop{fill:#a3210f;font-weight:bold}.map .track{fill:#dde2e6}.map .share{fill:#24435c}
.map .part{fill:#7b93a8}.map .badge{fill:#24435c}.map .number{fill:#ffffff;font-weight:bold}
.map .way{fill:none;stroke:#a9b2b9;stroke-width:1.2}
.map .removed{stroke:#24435c;stroke-width:2.6}
.map .detached{stroke:#24435c;stroke-width:2.2;stroke-dasharray:8 5}
.map .repointed{stroke:#24435c;stroke-width:2.4;stroke-dasharray:2 4}
.map .blocks{stroke:#a3210f;stroke-width:4}
.map .tip{fill:#a9b2b9}.map .tip.removed,.map .tip.detached,.map .tip.repointed{fill:#24435c}
.map .tip.blocks{fill:#a3210f}
"""
DARK = """
.map .page{fill:#11171c}.map .box{fill:#1a222a;stroke:#5d6973}.map .quiet{fill:#a3aeb8}
.map .ink{fill:#e8edf1}.map .affected{fill:#1f2a34;stroke:#8fbbe0}.map .ring{stroke:#8fbbe0}
.map .stopped{fill:#34191a;stroke:#ff9484}.map .stop{fill:#ff9484}.map .track{fill:#37424c}
.map .share,.map .badge{fill:#8fbbe0}.map .part{fill:#5c7f9d}.map .number{fill:#11171c}
.map .way{stroke:#5d6973}.map .removed,.map .detached,.map .repointed{stroke:#8fbbe0}
.map .blocks{stroke:#ff9484}.map .tip{fill:#5d6973}.map .tip.removed,.map .tip.detached,
.map .tip.repointed{fill:#8fbbe0}.map .tip.blocks{fill:#ff9484}
"""
_WAYS = {
    Fate.REMOVED: "removed",
    Fate.REMOVED_ELSEWHERE: "removed",
    Fate.DETACHED: "detached",
    Fate.REPOINTED: "repointed",
    Fate.BLOCKS: "blocks",
}
_LEGEND = (
    ("removed", "rows removed too"),
    ("detached", "rows detached"),
    ("repointed", "rows repointed"),
    ("blocks", "rows block"),
    ("", "no row depends"),
)


def svg(drawn: KeyMap) -> str:
    """Return a map as an SVG document."""
    keys: dict[str, list[MapKey]] = {table.name: [] for table in drawn.tables}
    for each in drawn.keys:
        keys[each.child].append(each)
    lines = [line for table in drawn.tables for line in _lines(table, keys[table.name])]
    widest = max((len(left) + len(right) for left, right in lines), default=0)
    width = min(max(widest * _LETTER + 2 * _PADDING + 22, _NARROWEST), _WIDEST)
    heights = {table.name: _height(table, keys[table.name]) for table in drawn.tables}
    placed = laid_out(drawn, width, heights)
    whole = max(placed.width, 560) + 2 * _MARGIN
    tall = placed.height + _TOP + (_FOOT if drawn.total is not None else _MARGIN)
    middle = _MARGIN + (whole - 2 * _MARGIN - placed.width) / 2
    parts = [
        f'<svg xmlns="http://www.w3.org/2000/svg" class="map" role="img" width="{whole:.0f}"'
        f' height="{tall:.0f}" viewBox="0 0 {whole:.0f} {tall:.0f}"'
        f' aria-label="{_text("Map: " + drawn.title)}">',
        f"<style>{_STYLE}</style>",
        f'<rect class="page" width="{whole:.0f}" height="{tall:.0f}"/>',
        _write(_MARGIN, 28, _cut(drawn.title, int((whole - 2 * _MARGIN) / 8.6)), "ink name", 15),
        _write(_MARGIN, 46, words.summary(drawn), "stop" if drawn.is_blocked else "quiet"),
        f'<g transform="translate({middle:.0f},{_TOP})">',
        *_ways(keys, placed, width, heights),
        *(
            part
            for table in drawn.tables
            for part in _box(
                table,
                keys[table.name],
                placed.corners[table.name],
                (width, heights[table.name]),
                "ink" if drawn.total is None else "quiet",
            )
        ),
        "</g>",
        *(_legend(tall) if drawn.total is not None else ()),
        "</svg>",
    ]
    return "\n".join(parts) + "\n"


def _lines(table: MapTable, keys: Sequence[MapKey]) -> Iterator[tuple[str, str]]:
    yield visible(table.name), f"    {words.steps_of(table)}"
    yield words.rows_of(table), ""
    for each in keys:
        yield words.columns_of(each), f"  {words.fate_of(each)}"


def _height(table: MapTable, keys: Sequence[MapKey]) -> float:
    said = 1 + bool(words.rows_of(table)) + len(keys)
    return 2 * _PADDING - 4 + _LINE * said + (_BAR + 6 if table.is_affected else 0)


def _box(
    table: MapTable,
    keys: Sequence[MapKey],
    corner: tuple[float, float],
    size: tuple[float, float],
    ink: str,
) -> Iterator[str]:
    (x, y), (width, height) = corner, size
    blocked = any(each.fate is Fate.BLOCKS for each in keys)
    kind = "stopped" if blocked else "affected" if table.is_affected or table.named else ""
    yield f"<g><title>{_text(table.name)}</title>"
    if table.named:
        yield (f'<rect class="ring" x="{x - 4:.1f}" y="{y - 4:.1f}" width="{width + 8:.1f}"'
               f' height="{height + 8:.1f}" rx="9"/>')  # fmt: skip
    yield (f'<rect class="box {kind}" x="{x:.1f}" y="{y:.1f}" width="{width:.1f}"'
           f' height="{height:.1f}" rx="6"/>')  # fmt: skip
    ink = "ink" if kind else ink
    most = int((width - 2 * _PADDING) / _LETTER)
    steps = words.steps_of(table)
    top = y + _PADDING + 10
    yield _write(x + _PADDING, top, _cut(table.name, most - len(steps) - 3), f"{ink} name", 13)
    if steps:
        room = len(steps) * 7.4 + 12
        yield (f'<rect class="badge" x="{x + width - _PADDING - room:.1f}" y="{top - 12:.1f}"'
               f' width="{room:.1f}" height="16" rx="8"/>')  # fmt: skip
        yield _write(x + width - _PADDING - room / 2, top, steps, "number", anchor="middle")
    if words.rows_of(table):
        top += _LINE
        yield _write(x + _PADDING, top, words.rows_of(table), ink)
    if table.is_affected:
        yield from _share(table, x + _PADDING, top + 6, width - 2 * _PADDING)
        top += _BAR + 6
    for each in keys:
        top += _LINE
        done = words.fate_of(each)
        style = "stop" if each.fate is Fate.BLOCKS else ink if each.fate else "quiet"
        shown = _cut(words.columns_of(each), most - len(done) - 1)
        yield _write(x + _PADDING, top, shown, style)
        if done:
            yield _write(x + width - _PADDING, top, done, style, anchor="end")
    yield "</g>"


def _share(table: MapTable, x: float, y: float, width: float) -> Iterator[str]:
    """Draw the part of a table's rows that go, and beside it the part that changes."""
    yield f'<rect class="track" x="{x:.1f}" y="{y:.1f}" width="{width:.1f}" height="{_BAR}"/>'
    at = x
    for style, rows in (("share", table.gone), ("part", table.changed)):
        part = width * min(rows / table.rows, 1) if table.rows else 0
        part = min(max(part, 2 if rows else 0), x + width - at)
        if part:
            yield (f'<rect class="{style}" x="{at:.1f}" y="{y:.1f}" width="{part:.1f}"'
                   f' height="{_BAR}"/>')  # fmt: skip
        at += part


@dataclass
class _Way:
    """The line of one foreign key: where it leaves its child, and where it meets its parent."""

    each: MapKey
    points: list[tuple[float, float]]
    is_rising: bool

    def drawn(self) -> Iterator[str]:
        style = _style(self.each)
        x, y = self.points[-1]
        end = y + 8 if self.is_rising else y - 8
        yield f'<path class="way {style}" d="{_curve([*self.points[:-1], (x, end)])}"/>'
        yield _tip(x, y, style, "up" if self.is_rising else "down")


def _ways(
    keys: dict[str, list[MapKey]], placed: Layout, width: float, heights: Mapping[str, float]
) -> Iterator[str]:
    """Draw a line for each foreign key, those that matter last, so that they lie on top."""
    order = (None, Fate.REMOVED_ELSEWHERE, Fate.DETACHED, Fate.REPOINTED, Fate.REMOVED, Fate.BLOCKS)
    every = sorted(
        (each for listed in keys.values() for each in listed), key=lambda one: order.index(one.fate)
    )
    ways: list[_Way] = []
    ends: dict[tuple[str, bool], list[tuple[float, _Way, int]]] = {}
    for each in every:
        (x, y), (to_x, to_y) = placed.corners[each.child], placed.corners[each.parent]
        if each.parent == each.child:
            yield from _loop(each, x + width, y + heights[each.child] / 2)
            continue
        rising = y > to_y
        first = (x + width / 2, y if rising else y + heights[each.child])
        last = (to_x + width / 2, to_y + heights[each.parent] if rising else to_y)
        way = _Way(each, [first, *placed.ways[each.child, each.parent], last], rising)
        ways.append(way)
        ends.setdefault((each.child, rising), []).append((way.points[1][0], way, 0))
        ends.setdefault((each.parent, not rising), []).append((way.points[-2][0], way, -1))
    for (name, _), listed in ends.items():  # spread over the side, in the order they come from
        listed.sort(key=lambda one: one[0])
        for number, (_, way, end) in enumerate(listed, 1):
            at = placed.corners[name][0] + width * (0.1 + 0.8 * number / (len(listed) + 1))
            way.points[end] = (at, way.points[end][1])
    for way in ways:
        yield from way.drawn()


def _style(each: MapKey) -> str:
    return _WAYS[each.fate] if each.fate else ""


def _loop(each: MapKey, x: float, y: float) -> Iterator[str]:
    style = _style(each)
    yield f'<path class="way {style}" d="M{x:.1f},{y + 14:.1f} c30,0 30,-28 6,-28"/>'
    yield _tip(x, y - 14, style, "left")


def _curve(points: Sequence[tuple[float, float]]) -> str:
    (x, y), *others = points
    drawn = f"M{x:.1f},{y:.1f}"
    for to_x, to_y in others:
        if abs(to_x - x) < 0.5:
            drawn += f" L{to_x:.1f},{to_y:.1f}"
        else:
            middle = (y + to_y) / 2
            drawn += f" C{x:.1f},{middle:.1f} {to_x:.1f},{middle:.1f} {to_x:.1f},{to_y:.1f}"
        x, y = to_x, to_y
    return drawn


def _tip(x: float, y: float, style: str, towards: str) -> str:
    away = {"up": "l-5,9 h10 z", "down": "l-5,-9 h10 z", "left": "l9,-5 v10 z"}[towards]
    return f'<path class="tip {style}" d="M{x:.1f},{y:.1f} {away}"/>'


def _legend(tall: float) -> Iterator[str]:
    x, y = _MARGIN, tall - 40
    for style, about in _LEGEND:
        yield f'<path class="way {style}" d="M{x},{y - 4} h34"/>'
        yield _write(x + 40, y, about, "quiet")
        x += 56 + int(len(about) * _LETTER)
    yield _write(_MARGIN, y + 22, "filled: the share of a table's rows that go (strong) or change "
                 "(pale); in the round mark: the step", "quiet")  # fmt: skip


def _write(x: float, y: float, text: str, style: str, size: int = 12, anchor: str = "start") -> str:
    larger = "" if size == 12 else f' font-size="{size}"'
    where = "" if anchor == "start" else f' text-anchor="{anchor}"'
    return f'<text class="{style}" x="{x:.1f}" y="{y:.1f}"{larger}{where}>{_text(text)}</text>'


def _cut(text: str, most: int) -> str:
    """Return a text cut in the middle, so that its ends can be told apart."""
    shown = visible(text)
    if len(shown) <= max(most, 3):
        return shown
    half = max(most - 1, 2)
    return f"{shown[: (half + 1) // 2]}…{shown[len(shown) - half // 2 :]}"


def _text(text: str) -> str:
    return escape(visible(text), quote=True)

"""A chart of the tables: which share of its rows stays, changes and goes."""

from __future__ import annotations

import io
import re
from collections.abc import Sequence
from typing import TYPE_CHECKING, Any

from yeldro.report.text import visible

if TYPE_CHECKING:
    from yeldro.report.page.contents import Share

# Colours that stand for those of the page, which has light ones and dark ones.
_COLOURS = {"#010203": "ink", "#040506": "track", "#070809": "share", "#0a0b0c": "part"}
_INK, _TRACK, _SHARE, _PART = _COLOURS
_LONGEST = 32  # characters of a name


def chart(shares: Sequence[Share]) -> str:
    """Return the chart as an SVG element; empty if no table's rows are known."""
    known = [each for each in shares if each.before]
    if not known:
        return ""
    import matplotlib as mpl
    from matplotlib.backends.backend_svg import FigureCanvasSVG
    from matplotlib.figure import Figure

    own: Any = {"svg.fonttype": "none", "svg.hashsalt": "yeldro", "font.size": 9}
    with mpl.rc_context(own):
        figure = Figure(figsize=(8.6, 0.32 * len(known) + 0.55), layout="constrained")
        FigureCanvasSVG(figure)
        axes = figure.add_subplot()
        for place, each in enumerate(known):
            whole = each.before or 1
            gone, changed = min(each.gone / whole, 1), min(each.changed / whole, 1)
            stays = max(1 - gone - changed, 0)
            axes.barh(place, stays, 0.62, color=_TRACK)
            axes.barh(place, changed, 0.62, left=stays, color=_PART)
            axes.barh(place, gone, 0.62, left=1 - gone, color=_SHARE)
            label = axes.text(1.02, place, _numbers(each), va="center", color=_INK)
            label.set_parse_math(False)
        axes.set_yticks(range(len(known)), [_name(each.name) for each in known])
        for text in axes.get_yticklabels():
            text.set_parse_math(False)
        axes.invert_yaxis()
        axes.set_xlim(0, 1.5)
        axes.set_xticks([0, 0.5, 1], ["0 %", "50 %", "100 % of its rows"])
        axes.tick_params(length=0, colors=_INK)
        for side in axes.spines.values():
            side.set_visible(False)
        for at in (0, 0.5, 1):
            axes.axvline(at, color=_TRACK, linewidth=0.8, zorder=0)
        figure.patch.set_alpha(0)
        axes.patch.set_alpha(0)
        drawn = io.StringIO()
        figure.savefig(drawn, format="svg",
                       metadata=dict.fromkeys(("Date", "Creator", "Format", "Type")))  # fmt: skip
    return _for_page(drawn.getvalue())


def _name(name: str) -> str:
    shown = visible(name)
    return (
        shown if len(shown) <= _LONGEST else f"{shown[: _LONGEST // 2]}…{shown[-_LONGEST // 2 :]}"
    )


def _numbers(each: Share) -> str:
    said = [f"{each.gone:,} go"] if each.gone else []
    said += [f"{each.changed:,} change"] if each.changed else []
    after = f" → {each.after:,}" if each.after is not None else ""
    return f"{each.before:,}{after} rows: {', '.join(said)}"


def _for_page(drawing: str) -> str:
    """Return the drawing for the inside of a page, in the colours of the page."""
    drawing = drawing[drawing.index("<svg") :]
    for colour, name in _COLOURS.items():
        drawing = drawing.replace(colour, f"var(--{name})")
    drawing = re.sub(r"<metadata>.*?</metadata>", "", drawing, flags=re.DOTALL)
    drawing = re.sub(r' (?:width|height)="[0-9.]+pt"', "", drawing, count=2)
    label = "Chart: the share of each table's rows that stays, changes and goes"
    return drawing.replace("<svg ", f'<svg class="chart" role="img" aria-label="{label}" ', 1)

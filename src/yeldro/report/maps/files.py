"""Maps as files: SVG, PNG, a page, or Mermaid, by the ending of the name."""

from __future__ import annotations

import re
from collections.abc import Callable
from html import escape
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import UsageError
from yeldro.report.maps.picture import DARK, svg
from yeldro.report.maps.written import mermaid
from yeldro.report.text import visible

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap

_PAGE = """<!DOCTYPE html>
<html lang="en">
<head>
<meta charset="utf-8">
<meta name="viewport" content="width=device-width, initial-scale=1">
<title>{title}</title>
<style>
body{{margin:0;background:#fff}}main{{overflow:auto;position:relative}}
h1{{position:absolute;width:1px;height:1px;overflow:hidden;clip-path:inset(50%)}}
svg.map{{display:block;margin:auto;width:100%;height:auto;max-width:{width}px;min-width:min(1000px,{width}px)}}
@media print{{svg.map{{min-width:0}}}}
</style>
</head>
<body><main tabindex="0" aria-label="Map"><h1>{title}</h1>
{map}</main></body>
</html>
"""
_DARK = "@media screen and (prefers-color-scheme: dark){{{rules}}}"


def for_a_page(drawn: KeyMap, more: str = "") -> tuple[str, str]:
    """Return a map as an element of a page, light or dark as its reader wants it, and its width.

    Args:
        more: styles of the page for readers who want it dark.
    """
    dark = _DARK.format(rules=f"{DARK}{more}")
    drawing = svg(drawn).replace("</style>", f"{dark}</style>", 1)
    return drawing, re.findall(r'width="(\d+)"', drawing)[0]


def _page(drawn: KeyMap) -> bytes:
    drawing, width = for_a_page(drawn, "body{background:#11171c}")
    title = escape(visible(drawn.title))
    return _PAGE.format(title=title, map=drawing, width=width).encode()


def _png(drawn: KeyMap) -> bytes:
    import resvg_py

    return bytes(resvg_py.svg_to_bytes(svg_string=svg(drawn), zoom=2))


_FORMS: dict[str, tuple[Callable[[KeyMap], bytes], tuple[str, ...]]] = {
    ".svg": (lambda drawn: svg(drawn).encode(), ("igraph",)),
    ".png": (_png, ("igraph", "resvg_py")),
    ".html": (_page, ("igraph",)),
    ".mmd": (lambda drawn: mermaid(drawn).encode(), ()),
}


def check_form(path: Path) -> None:
    """Refuse a file that cannot be written as the ending of its name says.

    Raises:
        UsageError: the ending says no form, or a library for it is not installed.
    """
    if path.suffix.lower() not in _FORMS:
        raise UsageError(
            f"A map cannot be written as {path}: the ending says the form.",
            f"Name a file that ends in {', '.join(_FORMS)}, or - for text here.",
        )
    missing = [name for name in _FORMS[path.suffix.lower()][1] if find_spec(name) is None]
    if missing:
        raise UsageError(
            f"{path} needs a library that is not installed ({', '.join(missing)}).",
            "pip install 'yeldro[maps]', or draw the map as text: --map - or --map FILE.mmd.",
        )


def contents(path: Path, drawn: KeyMap) -> bytes:
    """Return a map in the form that the ending of a name says."""
    form, _ = _FORMS[path.suffix.lower()]
    return form(drawn)

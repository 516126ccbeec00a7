"""Maps as files: SVG, PNG, a page, or Mermaid, by the ending of the name."""

from __future__ import annotations

from collections.abc import Callable
from html import escape
from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.core.model.errors import OutOfReach, UsageError
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
body{{margin:0;background:#fff}}main{{overflow:auto}}
@media print{{svg.map{{max-width:100%;height:auto}}}}
</style>
</head>
<body><main tabindex="0" aria-label="Map">
{map}</main></body>
</html>
"""
_DARK = "@media (prefers-color-scheme: dark) and (not print){{{rules}}}"


def _page(drawn: KeyMap) -> bytes:
    dark = _DARK.format(rules=f"{DARK}body{{background:#11171c}}")
    drawing = svg(drawn).replace("</style>", f"{dark}</style>", 1)
    return _PAGE.format(title=escape(visible(drawn.title)), map=drawing).encode()


def _png(drawn: KeyMap) -> bytes:
    try:
        import resvg_py
    except ImportError as error:
        raise OutOfReach(
            "A PNG needs a library that is not installed (resvg-py).",
            "pip install 'yeldro[maps]', or name a file that ends in .svg.",
        ) from error
    return bytes(resvg_py.svg_to_bytes(svg_string=svg(drawn), zoom=2))


_FORMS: dict[str, Callable[[KeyMap], bytes]] = {
    ".svg": lambda drawn: svg(drawn).encode(),
    ".png": _png,
    ".html": _page,
    ".mmd": lambda drawn: mermaid(drawn).encode(),
}


def check_name(path: Path) -> None:
    """Refuse a name whose ending says no form.

    Raises:
        UsageError: it is none of them.
    """
    if path.suffix.lower() not in _FORMS:
        raise UsageError(
            f"A map cannot be written as {path}: the ending says the form.",
            f"Name a file that ends in {', '.join(_FORMS)}, or - for text here.",
        )


def contents(path: Path, drawn: KeyMap) -> bytes:
    """Return a map in the form that the ending of a name says.

    Raises:
        UsageError: the ending says none.
        OutOfReach: a library that it needs is not installed.
    """
    check_name(path)
    return _FORMS[path.suffix.lower()](drawn)

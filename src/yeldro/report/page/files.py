"""The page as a file."""

from __future__ import annotations

import base64
import hashlib
from functools import cache
from importlib.resources import files
from importlib.util import find_spec
from pathlib import Path
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import UsageError
from yeldro.report.page.chart import chart
from yeldro.report.text import visible

if TYPE_CHECKING:
    from jinja2 import Template

    from yeldro.report.page.contents import Page

_LIBRARIES = ("jinja2", "matplotlib", "igraph")


def check_page_file(path: Path) -> None:
    """Refuse a file that no page can be written to.

    Raises:
        UsageError: its name does not end in .html, or a library is not installed.
    """
    if path.suffix.lower() != ".html":
        raise UsageError(f"A page is called *.html, and not {path}.", f"Try {path}.html.")
    missing = [name for name in _LIBRARIES if find_spec(name) is None]
    if missing:
        raise UsageError(
            f"A page needs a library that is not installed ({', '.join(missing)}).",
            "pip install 'yeldro[report]'",
        )


def written(page: Page) -> bytes:
    """Return a page as one HTML document that loads nothing and runs no script but its own."""
    script = _file("page.js")
    digest = base64.b64encode(hashlib.sha256(script.encode()).digest()).decode()
    html = _template().render(
        page=page, chart=chart(page.shares), style=_file("page.css"), script=script, digest=digest
    )
    return html.encode()


def _file(name: str) -> str:
    return (files("yeldro.report.page") / name).read_text(encoding="utf-8")


@cache
def _template() -> Template:
    from jinja2 import Environment, StrictUndefined

    environment = Environment(autoescape=True, undefined=StrictUndefined, trim_blocks=True,
                              lstrip_blocks=True)  # fmt: skip
    environment.filters["seen"] = visible
    environment.filters["number"] = lambda value: f"{value:,}"
    return environment.from_string(_file("page.html"))

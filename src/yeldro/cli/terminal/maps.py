"""The choice --map: a picture of a plan or a database, in a file or as text."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.files import exists_already, new_file

if TYPE_CHECKING:
    from yeldro.core.inspection.key_map import KeyMap

TEXT = "-"


def check_map(target: str | None, as_json: bool) -> None:
    """Refuse a target that cannot be written, before anything is looked at.

    Args:
        target: what --map gives: a file, - for text, or None.

    Raises:
        UsageError: it cannot be written, or text would stand beside a document.
        Refused: a file of this name exists.
    """
    if target is None:
        return
    if target == TEXT:
        if as_json:
            raise UsageError(
                "--json prints nothing but a document, and --map - prints text.",
                "Name a file for the map.",
            )
        return
    from yeldro.report.maps.files import check_form

    check_form(Path(target))
    if Path(target).exists():
        raise exists_already(Path(target))


def draw(target: str, drawn: KeyMap) -> None:
    """Write a map where --map says.

    Raises:
        FileNotWritten: the file cannot be written.
        Refused: a file of this name exists.
    """
    if target == TEXT:
        from yeldro.report.maps.written import tree

        click.echo(f"\n{tree(drawn)}")
        return
    from yeldro.report.maps.files import contents

    path = Path(target)
    drawing = contents(path, drawn)
    with new_file(path) as file:
        file.write(drawing)
    click.echo(f"Drawn: {path}", err=True)

"""Asking a person to type the number of rows."""

from __future__ import annotations

import click

from yeldro.core.model.errors import CountMismatch


def agreed_number(number: int, what: str, data: str) -> None:
    """Ask a person to type `number`.

    Args:
        what: what is counted, for the question.
        data: what has happened to the data if another number is typed.

    Raises:
        CountMismatch: something else was typed.
    """
    typed = click.prompt(f"Type the number of {what} ({number:,})", prompt_suffix=": ", err=True)
    if typed.strip().replace(",", "").replace("_", "") != str(number):
        raise CountMismatch(
            f"You typed {typed.strip()!r}, and the number is {number:,}.",
            "Look at the plan again, then run it again.",
            data=data,
        )

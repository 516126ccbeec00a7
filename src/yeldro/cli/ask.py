"""Asking a person for the number that turns the lock."""

from __future__ import annotations

import click

from yeldro.core.model.errors import CountMismatch


def agreed_number(number: int, what: str, data: str) -> None:
    """Have a person type `number`.

    Args:
        what: what is counted, for the question.
        data: what to say has happened to the data where another number is typed.

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

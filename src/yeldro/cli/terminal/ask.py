"""Asking a person at the terminal."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import click

from yeldro.core.model.errors import CountMismatch, Interrupted, YeldroError

_TRIES = 3
Answer = TypeVar("Answer")


def asked(question: str, read: Callable[[str], Answer], data: str, *, may_leave: bool) -> Answer:
    """Ask until the answer can be read, three times at the most.

    Args:
        read: returns what the answer means.
        data: what has happened to the data, if the person leaves.
        may_leave: `q` is not an answer, but leaves.

    Raises:
        Interrupted: the person left.
        YeldroError: what `read` raised for the last answer.
    """
    tries = 0
    while True:
        tries += 1
        typed = click.prompt(f"{question}{', or q' if may_leave else ''}", err=True).strip()
        if may_leave and typed.lower() == "q":
            raise Interrupted("You left it undecided.", data=data)
        try:
            return read(typed)
        except YeldroError as error:
            if tries == _TRIES:
                raise
            click.echo(f"{error.why} Type it again.", err=True)


def agreed_number(number: int, what: str, data: str) -> None:
    """Ask a person to type `number`.

    Args:
        what: what is counted, for the question.
        data: what has happened to the data if another number is typed.

    Raises:
        CountMismatch: something else was typed, three times.
        Interrupted: the person left.
    """

    def read(typed: str) -> None:
        if typed.replace(",", "").replace("_", "") != str(number):
            raise CountMismatch(
                f"You typed {typed!r}, and the number is {number:,}.",
                "Look at the plan again, then run it again.",
                data=data,
            )

    asked(f"Type the number of {what} ({number:,})", read, data, may_leave=True)

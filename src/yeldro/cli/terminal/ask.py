"""Asking a person at the terminal."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

import click

from yeldro.core.model.messages.errors import CountMismatch, Interrupted, UsageError, YeldroError

_TRIES = 3
_TRIES_AT_NUMBER = 2
Answer = TypeVar("Answer")


def asked(
    question: str,
    read: Callable[[str], Answer],
    data: str,
    *,
    may_leave: bool,
    most_tries: int = _TRIES,
) -> Answer:
    """Ask until the answer can be read.

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
            if tries == most_tries:
                raise
            click.echo(f"{error.why} Type it again.", err=True)


def agreed_number(number: int, what: str, data: str) -> None:
    """Ask a person to type `number`, which the question does not show: the plan above does.

    Args:
        what: what is counted, for the question.
        data: what has happened to the data if another number is typed.

    Raises:
        CountMismatch: something else was typed, twice.
        Interrupted: the person left.
    """

    def read(typed: str) -> None:
        if typed.replace(",", "").replace("_", "") != str(number):
            raise CountMismatch(
                f"You typed {typed!r}, and that is not the number of {what}.",
                "Look at the numbers above again, then start again.",
                data=data,
            )

    question = f"Type the number of {what} in all"
    asked(question, read, data, may_leave=True, most_tries=_TRIES_AT_NUMBER)


def agreed(question: str, data: str) -> None:
    """Ask a person to type `yes`.

    Raises:
        UsageError: something else was typed, twice.
        Interrupted: the person left.
    """

    def read(typed: str) -> None:
        if typed.lower() != "yes":
            raise UsageError(f"You typed {typed!r}.", "Start again.", data=data)

    asked(f"{question} Type yes", read, data, may_leave=True, most_tries=_TRIES_AT_NUMBER)

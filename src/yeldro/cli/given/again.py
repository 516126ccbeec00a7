"""The command line that was typed, once more: for another command, with other options."""

from __future__ import annotations

import shlex
from collections.abc import Collection, Iterator, Sequence
from typing import Any, cast

import click
from click.core import ParameterSource

from yeldro.cli.given.last import without_password
from yeldro.cli.given.settings import TIME_LIMIT
from yeldro.core.model.messages.names import as_typed

WHERE = ("db", "receipts")  # the parameters that say where, and not what


def typed_again(
    name: str,
    *words: str,
    arguments: Sequence[str] = (),
    without: Collection[str] = (),
    keeps: Collection[str] | None = None,
) -> str:
    """Return a command line on one line, ready to paste.

    It has what was typed for the command that runs now, as far as the other command takes it.
    What comes from the environment is left to come from there.

    Args:
        name: of the command, such as `plan` or `receipt show`.
        words: the options that it has besides.
        arguments: the arguments that it has besides.
        without: parameters to leave out, by name.
        keeps: the only parameters to keep, by name; None keeps all.
    """
    context = click.get_current_context()
    taken = {each.name for each in _command(context, name).params}
    taken -= {"as_json", "as_csv", "map_to", "report"}
    taken = taken - set(without) if keeps is None else taken & set(keeps)
    named = list(arguments)
    options: list[str] = []
    for each in context.command.params:
        value = context.params.get(each.name or "")
        if not each.expose_value:
            value = context.meta.get(TIME_LIMIT)
        source = context.get_parameter_source(each.name or "")
        if each.name not in taken or source is not ParameterSource.COMMANDLINE:
            continue
        if isinstance(each, click.Argument):
            named += [str(value)] if value is not None else []
        else:
            options += _option(each, value)
    listed = [*named, *options, *words]
    if any(word.startswith("-") for word in named):
        listed = [*options, *words, "--", *named]
    return " ".join(["yeldro", name, *map(_word, listed)])


def from_standard_input() -> bool:
    """True if the statements came from standard input, which cannot be typed again."""
    return click.get_current_context().params.get("sql") == "-"


def choices_again(remedies: Sequence[Sequence[str]]) -> list[str]:
    """Return the command line that runs now with each way to deal with what blocks it.

    Args:
        remedies: the options that deal with each blocking foreign key, as they are typed. The
            first of each are taken together; each other one replaces one of them.
    """
    first = [options[0] for options in remedies]
    ways = [first]
    for place, options in enumerate(remedies):
        ways += [[*first[:place], other, *first[place + 1 :]] for other in options[1:]]
    name = click.get_current_context().command_path.partition(" ")[2]
    return [
        typed_again(name, *(word for each in dict.fromkeys(way) for word in shlex.split(each)))
        for way in ways
    ]


def _command(context: click.Context, name: str) -> click.Command:
    found: Any = context.find_root().command
    for part in name.split():
        found = found.get_command(context, part)
    return cast(click.Command, found)


def _option(option: click.Parameter, value: Any) -> Iterator[str]:
    """Yield the words of an option as it was typed."""
    spelled = max(option.opts, key=len)
    for each in value if isinstance(value, tuple) else (value,):
        if each is None or each is False:
            continue
        yield spelled
        if each is not True:
            yield (without_password(str(each)) or "URL") if option.name == "db" else str(each)


def _word(word: str) -> str:
    """Return a word for the shell; one with characters that no line shows is written by codes."""
    if word.isprintable():
        return as_typed(word)
    shown = (each if each.isprintable() and each not in "'\\" else _by_code(each) for each in word)
    return f"$'{''.join(shown)}'"


def _by_code(character: str) -> str:
    code = ord(character)
    return f"\\u{code:04x}" if code < 0x10000 else f"\\U{code:08x}"

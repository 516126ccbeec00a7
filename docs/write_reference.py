"""Write docs/reference.md: every command and option, from their declarations.

python docs/write_reference.py          writes docs/reference.md
python docs/write_reference.py --check  fails if that file is not up to date
"""

from __future__ import annotations

import inspect
import sys
from collections.abc import Iterator
from pathlib import Path

import click

from yeldro.cli.declared.help import Command, Option
from yeldro.cli.main import COMMANDS, cli

REFERENCE = Path(__file__).with_name("reference.md")
HEAD = """# Reference: every command and option

Written by `python docs/write_reference.py` from what the program declares; a test compares them.
`yeldro COMMAND --help` shows the same in a terminal.

Exit codes: 0 done, or nothing to do; 1 a fault in Yeldro itself; 2 usage error; 3 refused before
anything was changed; 4 a count differs, and everything was rolled back; 5 the database failed, and
the message says what is committed; 130 interrupted.

`--db`, `--receipts`, `--time-limit`, `--json` and `--quiet` may also stand before the command.
"""


def written() -> str:
    """Return the reference."""
    return "\n".join([HEAD, *_lines()]).rstrip() + "\n"


def _lines() -> Iterator[str]:
    context = click.Context(cli, info_name="yeldro")
    for name in COMMANDS:
        found = cli.get_command(context, name)
        inner = {name: found}
        if isinstance(found, click.Group):
            inner = {f"{name} {each}": command for each, command in found.commands.items()}
        for words, command in inner.items():
            assert isinstance(command, Command)
            yield from _command(words, command, context)


def _command(words: str, command: Command, above: click.Context) -> Iterator[str]:
    context = click.Context(command, info_name=words, parent=above)
    usage = " ".join(command.collect_usage_pieces(context))
    yield f"## {words}\n"
    yield f"    yeldro {words} {usage}\n"
    yield f"{_safe(inspect.cleandoc(command.help or ''))}\n"
    headings: dict[str, list[tuple[str, str]]] = {}
    for each in command.get_params(context):
        record = each.get_help_record(context)
        if isinstance(each, Option) and record is not None:
            headings.setdefault(each.heading, []).append(record)
    for heading, records in headings.items():
        yield f"| {heading} | |\n|---|---|"
        for name, about in records:
            yield f"| `{name.replace('|', chr(92) + '|')}` | {_safe(about)} |"
        yield ""
    yield "```sh"
    yield from (f"yeldro {example}" for example in command.examples)
    yield "```\n"


def _safe(text: str) -> str:
    """Return a text in which nothing is markup."""
    for sign in "<>*_[]|":
        text = text.replace(sign, f"\\{sign}")
    return text


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(not REFERENCE.exists() or REFERENCE.read_text() != written())
    REFERENCE.write_text(written())

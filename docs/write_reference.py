"""Write docs/reference.md and the manual pages in docs/man: every command, from its declaration.

python docs/write_reference.py          writes them
python docs/write_reference.py --check  fails if one is not up to date
"""

from __future__ import annotations

import inspect
import sys
import textwrap
from collections.abc import Iterator
from pathlib import Path

import click

from yeldro import __version__
from yeldro.cli.declared.help import WHAT, Command, Option
from yeldro.cli.main import cli, every_command

DOCS = Path(__file__).parent
CODES = (
    ("0", "done, or nothing to do"),
    ("1", "a fault in Yeldro itself"),
    ("2", "usage error"),
    ("3", "refused before anything was changed"),
    ("4", "a count differs, and everything was rolled back"),
    ("5", "the database failed, and the message says what is committed"),
    ("130", "interrupted"),
)
VARIABLES = (
    ("YELDRO_DB", "the database, if neither --db nor a cleanup file says one"),
    ("YELDRO_RECEIPTS", "the folder of receipts, if --receipts does not say one"),
    ("XDG_DATA_HOME", "where receipts are kept otherwise, in yeldro/receipts"),
    ("XDG_STATE_HOME", "where the last preview is noted, in yeldro"),
)
EXIT_CODES = textwrap.fill(
    f"Exit codes: {'; '.join(f'{code} {about}' for code, about in CODES)}.", 100
)
HEAD = f"""# Reference: every command and option

Written by `python docs/write_reference.py` from what the program declares; a test compares them.
`yeldro COMMAND --help` shows the same in a terminal, and so does `man yeldro-COMMAND`.

{EXIT_CODES}

`--db`, `--receipts`, `--time-limit`, `--json` and `--quiet` may also stand before the command.
"""
Records = dict[str, list[tuple[str, str]]]


def written() -> dict[Path, str]:
    """Return the text of each file."""
    files = {DOCS / "reference.md": "\n".join([HEAD, *_entries()]).rstrip() + "\n"}
    files[DOCS / "man/yeldro.1"] = _page_of_the_program()
    for words, command, context in commands():
        files[DOCS / f"man/yeldro-{words.replace(' ', '-')}.1"] = _page(words, command, context)
    return files


def commands() -> Iterator[tuple[str, Command, click.Context]]:
    """Yield each command with its words and its context, in the order of the work."""
    above = click.Context(cli, info_name="yeldro")
    for words, command in every_command():
        assert isinstance(command, Command)
        yield words, command, click.Context(command, info_name=words, parent=above)


def _parts(command: Command, context: click.Context) -> Records:
    """Return what WHAT may be, and the options of a command under their headings."""
    headings: Records = {}
    for each in command.get_params(context):
        if each.name == "what":
            headings["WHAT"] = list(WHAT)
        record = each.get_help_record(context)
        if isinstance(each, Option) and record is not None:
            headings.setdefault(each.heading, []).append(record)
    return headings


def _usage(words: str, command: Command, context: click.Context) -> str:
    return f"yeldro {words} {' '.join(command.collect_usage_pieces(context))}"


def _entries() -> Iterator[str]:
    """Yield the lines of the reference in Markdown."""
    for words, command, context in commands():
        yield f"## {words}\n"
        yield f"    {_usage(words, command, context)}\n"
        yield f"{_safe(inspect.cleandoc(command.help or ''))}\n"
        for heading, records in _parts(command, context).items():
            yield f"| {heading} | |\n|---|---|"
            for name, about in records:
                yield f"| `{name.replace('|', chr(92) + '|')}` | {_safe(about)} |"
            yield ""
        yield "```sh"
        yield from (f"yeldro {example}" for example in command.examples)
        yield "```\n"


def _safe(text: str) -> str:
    """Return a text in which nothing is Markdown."""
    for sign in "<>*_[]|":
        text = text.replace(sign, f"\\{sign}")
    return text


def _page(words: str, command: Command, context: click.Context) -> str:
    """Return the manual page of a command."""
    about, _, more = inspect.cleandoc(command.help or "").partition("\n\n")
    parts = [_title(f"yeldro-{words.replace(' ', '-')}", about)]
    parts += [".SH SYNOPSIS", _roff(_usage(words, command, context))]
    if more:
        parts += [".SH DESCRIPTION", _roff(more)]
    parts += [".SH OPTIONS"]
    for heading, records in _parts(command, context).items():
        parts += [f'.SS "{_roff(heading)}"', *_listed(records)]
    parts += [".SH EXAMPLES", ".nf", *(_roff(f"yeldro {each}") for each in command.examples), ".fi"]
    parts += [".SH SEE ALSO", ".BR yeldro (1)"]
    return "\n".join(parts) + "\n"


def _page_of_the_program() -> str:
    """Return the manual page of the program: its commands, exit codes and variables."""
    about, _, more = inspect.cleandoc(cli.help or "").partition("\n\n")
    names = [(f"yeldro-{words.replace(' ', '-')}(1)", each.get_short_help_str(200))
             for words, each, _ in commands()]  # fmt: skip
    parts = [_title("yeldro", about), ".SH SYNOPSIS", "yeldro COMMAND [OPTIONS] [ARGUMENTS]"]
    parts += [".SH DESCRIPTION", _roff(more), ".SH COMMANDS", *_listed(names)]
    parts += [".SH EXIT STATUS", *_listed(CODES), ".SH ENVIRONMENT", *_listed(VARIABLES)]
    parts += [".SH EXAMPLES", ".nf", "yeldro demo", "yeldro help", ".fi"]
    return "\n".join(parts) + "\n"


def _title(name: str, about: str) -> str:
    return (
        f'.TH {name.upper()} 1 "" "yeldro {__version__}" "Yeldro"\n'
        f".SH NAME\n{_roff(name)} \\- {_roff(about.replace(chr(10), ' ').rstrip('.'))}"
    )


def _listed(records: tuple[tuple[str, str], ...] | list[tuple[str, str]]) -> Iterator[str]:
    for name, about in records:
        yield f".TP\n.B {_roff(name)}\n{_roff(about)}"


def _roff(text: str) -> str:
    """Return a text in which nothing is a request of a manual page."""
    text = text.replace("\\", "\\e").replace("-", "\\-").replace("…", "...")
    text = text.replace("\n\n", "\n.PP\n")
    return "\n".join(
        f"\\&{line}" if line.startswith(("'", ".")) and line != ".PP" else line
        for line in text.split("\n")
    )


if __name__ == "__main__":
    if "--check" in sys.argv:
        stale = [path.name for path, text in written().items()
                 if not path.exists() or path.read_text() != text]  # fmt: skip
        sys.exit(f"not up to date: {', '.join(stale)}" if stale else 0)
    for path, text in written().items():
        path.parent.mkdir(exist_ok=True)
        path.write_text(text)

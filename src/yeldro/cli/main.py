"""The program `yeldro`: its commands, and the output of every failure."""

from __future__ import annotations

import errno
import importlib
import re
import signal
import sys
from typing import TYPE_CHECKING, NoReturn

import click

from yeldro import __version__
from yeldro.cli.terminal.ending import ending
from yeldro.cli.terminal.streams import code_at_the_end, guard_streams
from yeldro.core.model.messages.outcome import note_outcome, noted_outcome

if TYPE_CHECKING:
    from collections.abc import Iterator

    from yeldro.core.model.messages.errors import YeldroError

COMMANDS = {
    "survey": ("declared.inspect", "Tables, keys, foreign keys and warnings."),
    "preview": ("declared.inspect", "The matched rows, their number, and what depends on them."),
    "duplicates": ("declared.inspect", "Groups of rows that are equal on chosen columns."),
    "orphans": ("declared.inspect", "Rows whose foreign key has no parent row."),
    "plan": ("declared.remove", "Every step in order with exact counts, and what blocks."),
    "rehearse": ("declared.remove", "Do everything in a transaction, compare counts, roll back."),
    "run": ("declared.remove", "Do everything, ask for the count, write a receipt, commit."),
    "check": ("declared.remove", "Tell if the expectations hold now, for pipelines."),
    "new": ("declared.files", "Write a commented cleanup file from the options given."),
    "script": (
        "declared.files",
        "Print the same steps as a SQL script, to review or run elsewhere.",
    ),
    "receipt": ("declared.receipts", "Earlier runs: list, show, check, export, forget."),
    "restore": ("declared.receipts", "Put the rows of a receipt back."),
    "completion": ("declared.files", "Print what completes command lines in bash, zsh or fish."),
    "help": ("declared.files", "Recipes for tasks, and what Yeldro's words mean."),
    "demo": ("demo", "Make a demo database and walk through the whole job on it."),
}


_BEGIN = """\
Yeldro removes rows only if exactly the number that you expect would go.
  yeldro demo                           the whole job on made-up data
  yeldro survey --db FILE               what is in your SQLite file, or at a URL
  yeldro preview TABLE --where "…"      the rows that would go, and what depends on them
  yeldro help                           recipes; all commands: yeldro --help"""


_AS_REPORTED = "Anything that was not reported as committed was rolled back."
_OF_PATHS = (
    errno.ENAMETOOLONG,
    errno.ENOTDIR,
    errno.ENOENT,
    errno.EACCES,
    errno.EISDIR,
    errno.ELOOP,
)


class Commands(click.Group):
    """A group that loads a command's module only when it is used, so that --help is quick."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the commands in the order of the work."""
        del ctx
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, cmd_name: str) -> click.Command | None:
        """Return the command of this name, loaded now."""
        del ctx
        if cmd_name not in COMMANDS:
            return None
        module = importlib.import_module(f"yeldro.cli.{COMMANDS[cmd_name][0]}")
        command: click.Command = getattr(module, cmd_name)
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Resolve a command, and name the nearest ones if it does not exist."""
        try:
            return super().resolve_command(ctx, args)
        except click.UsageError as error:
            from yeldro.core.model.messages.names import suggestion

            raise click.UsageError(
                f"There is no command {args[0]!r}. {suggestion(args[0], COMMANDS)}", ctx
            ) from error

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands without loading them."""
        del ctx
        with formatter.section("Commands, in the order of the work"):
            formatter.write_dl([(name, about) for name, (_, about) in COMMANDS.items()])


# Options that may stand before the command too, and whether a value follows.
_COMMON = {
    "--db": True,
    "--receipts": True,
    "--time-limit": True,
    "--json": False,
    "--quiet": False,
}


@click.group(
    cls=Commands,
    invoke_without_command=True,
    context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100},
    epilog="Start with: yeldro demo",
)
@click.version_option(__version__, prog_name="yeldro", message="%(prog)s %(version)s")
@click.pass_context
def cli(context: click.Context) -> None:
    """Plan and run cleanup deletions in SQL databases.

    The row count is the key that turns the lock: you say how many rows must go; if any other
    number would go, from any table, nothing goes.
    """
    if context.invoked_subcommand is None:
        click.echo(_BEGIN)


def every_command() -> Iterator[tuple[str, click.Command]]:
    """Yield each command that does something, with the words by which it is called."""
    context = click.Context(cli)
    for name in COMMANDS:
        found = cli.get_command(context, name)
        if isinstance(found, click.Group):
            yield from ((f"{name} {inner}", each) for inner, each in found.commands.items())
        elif found is not None:
            yield name, found


def main() -> NoReturn:
    """Run the command line and leave with its exit code."""
    guard_streams()
    code = code_at_the_end(execute(sys.argv[1:]))
    signal.signal(signal.SIGINT, signal.SIG_IGN)  # all is printed: a late Ctrl-C must not change it
    sys.exit(code)


def execute(arguments: list[str]) -> int:
    """Run one command line; a failure goes to standard error, and into the JSON document.

    Returns:
        The exit code: 0 done, 1 a fault in Yeldro, 2 usage error, 3 refused, 4 a count differs,
        5 the database failed, 130 interrupted.
    """
    ending.begin()
    note_outcome("")
    arguments = _after_command(arguments)
    failure: YeldroError | None = None
    code = 0
    try:
        result = cli.main(args=arguments, prog_name="yeldro", standalone_mode=False)
        code = result if isinstance(result, int) else 0
    except click.exceptions.NoArgsIsHelpError as error:
        click.echo(error.format_message())
    except (Exception, KeyboardInterrupt) as error:
        failure = _failure_of(error)
        code = failure.exit_code
    if "--json" in arguments:
        from yeldro.cli.terminal.output import finish_json

        finish_json(failure)
    if failure:
        from yeldro.cli.terminal.output import say, tell_next
        from yeldro.core.model.messages.options import with_options
        from yeldro.report.text import pointed

        say(with_options(failure.said))
        if "place" in failure.evidence:
            click.echo(pointed(failure.evidence["place"]), err=True)
        tell_next(failure.evidence.get("commands", ()), beside=True)
    return code


def _after_command(arguments: list[str]) -> list[str]:
    """Return the words with the options that many commands take behind the command's name."""
    place = 0
    while place < len(arguments):
        name, equals, _ = arguments[place].partition("=")
        if name not in _COMMON:
            break
        place += 1 if equals or not _COMMON[name] else 2
    first, rest = arguments[:place], arguments[place:]
    named = 2 if rest[:1] == ["receipt"] else 1
    return [*rest[:named], *first, *rest[named:]] if rest else arguments


def _hint(said: str) -> str:
    """Return what to type in place of words that fit no command, as a sentence."""
    words = re.fullmatch(r"Got unexpected extra arguments? \((.*)\)\.", said)
    if words:
        return f'A condition stands in quotes: --where "… {words[1]}". '
    return "Options stand after the command. " if "--where" in said else ""


def _failure_of(error: BaseException) -> YeldroError:
    """Return what an exception means for the data, and what to do."""
    from yeldro.core.model.messages import errors

    if isinstance(error, errors.YeldroError):
        return error
    if isinstance(error, click.ClickException):
        context = error.ctx if isinstance(error, click.UsageError) else None
        command = context.command_path if context else "yeldro"
        said = error.format_message().rstrip(".")
        said += "" if said.endswith("?") else "."
        return errors.UsageError(said, f"{_hint(said)}See '{command} --help'.")
    done = noted_outcome()
    # Python wraps an interrupt that comes while a class is made.
    stopped = isinstance(error.__cause__, KeyboardInterrupt)
    if stopped or isinstance(error, click.Abort | KeyboardInterrupt):
        return errors.Interrupted("You interrupted it.", data=done or errors.ROLLED_BACK)
    if isinstance(error, OSError) and error.filename is not None:
        from yeldro.report.text import cell

        kind = errors.UsageError if error.errno in _OF_PATHS else errors.FileNotUsable
        return kind(
            f"The file {cell(str(error.filename), 200)} cannot be used: {error.strerror}.",
            "Check its path.",
            data=done or _AS_REPORTED,
        )
    if isinstance(error, FileNotFoundError):  # which only the current folder has no name for
        return errors.UsageError("The current folder is not there any more.", "Change to another.",
                                 data=done or _AS_REPORTED)  # fmt: skip
    if isinstance(error, ValueError) and str(error) == "embedded null byte":
        return errors.UsageError("The path of a file holds a NUL character.", "Check the paths.",
                                 data=done or _AS_REPORTED)  # fmt: skip
    import traceback

    traceback.print_exception(error)
    return errors.InternalFault(
        "This is a fault in Yeldro itself.",
        "Please report it with the lines above.",
        data=done or _AS_REPORTED,
    )

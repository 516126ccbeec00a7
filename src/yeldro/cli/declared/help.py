"""The help of a command: its options under headings, and examples on the demo data."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Any

import click

WHICH_ROWS = "Which rows"
DUPLICATES = "Duplicates"
DEPENDENTS = "What depends on them"
HOW_MANY = "How many"
HOW = "How"
WHERE = "Where, and in what form"
_HEADINGS = (WHICH_ROWS, DUPLICATES, DEPENDENTS, HOW_MANY, HOW, WHERE)
WHAT = (
    ("TABLE", "a table or a view over one, with options that choose rows"),
    ("FILE.toml", "a cleanup file: yeldro new"),
    ("PLAN.json", "a saved plan: yeldro plan -o PLAN.json"),
)


class Option(click.Option):
    """An option that stands under a heading.

    Args:
        heading: one of the constants of this module.
    """

    def __init__(self, *words: Any, heading: str = HOW, **settings: Any) -> None:
        self.heading = heading
        super().__init__(*words, **settings)

    def get_help_record(self, ctx: click.Context) -> tuple[str, str] | None:
        """Return the name and the help; neither repeats its heading, or tells a range."""
        record = super().get_help_record(ctx)
        if record is None:
            return None
        name, about = record
        if self.multiple:
            name, about = f"{name} …", about.removesuffix(" Repeatable.")
        if self.heading == DUPLICATES:
            about = about.removeprefix(f"{DUPLICATES}: ")
        return name, about[:1].upper() + about[1:]

    def get_help_extra(self, ctx: click.Context) -> Any:
        """Leave out the range: a value outside it is refused with the range."""
        extra = super().get_help_extra(ctx)
        extra.pop("range", None)
        return extra


class Command(click.Command):
    """A command whose help groups its options and ends with examples.

    Args:
        examples: command lines for the demo database, without the name of the program.
    """

    def __init__(self, *words: Any, examples: Sequence[str] = (), **settings: Any) -> None:
        self.examples = tuple(examples)
        super().__init__(*words, **settings)

    def format_options(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write what WHAT may be, and the options under their headings."""
        parameters = self.get_params(ctx)
        if any(each.name == "what" for each in parameters):
            with formatter.section("WHAT"):
                formatter.write_dl(WHAT)
        records: dict[str, list[tuple[str, str]]] = {heading: [] for heading in _HEADINGS}
        for each in parameters:
            record = each.get_help_record(ctx)
            if isinstance(each, click.Option) and record is not None:
                records[getattr(each, "heading", WHERE)].append(record)
        widest = max(len(name) for listed in records.values() for name, _ in listed)
        for heading, listed in records.items():
            if listed:
                with formatter.section(heading):
                    formatter.write_dl([(name.ljust(widest), about) for name, about in listed])
        if any(name.endswith("…") for listed in records.values() for name, _ in listed):
            formatter.write_paragraph()
            formatter.write_text("An option with … may be given several times.")

    def format_epilog(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """Write the examples."""
        del ctx
        if self.examples:
            with formatter.section("For example"):
                for example in self.examples:
                    formatter.write(f"{'':{formatter.current_indent}}yeldro {example}\n")


class Group(click.Group):
    """A group of such commands, in the order in which they are declared."""

    command_class = Command

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names of the commands."""
        del ctx
        return list(self.commands)

    def format_commands(self, ctx: click.Context, formatter: click.HelpFormatter) -> None:
        """List the commands, each with its first sentence."""
        del ctx
        with formatter.section("Commands"):
            formatter.write_dl(
                [(name, each.get_short_help_str(200)) for name, each in self.commands.items()]
            )


def option(heading: str, *words: str, **settings: Any) -> Callable[[Any], Any]:
    """Return a decorator that adds an option under a heading, with click's own settings."""
    return click.option(*words, cls=Option, heading=heading, **settings)


def command(*examples: str) -> Callable[[Any], click.Command]:
    """Return a decorator that makes a function a command with these examples."""
    return click.command(cls=Command, examples=examples)

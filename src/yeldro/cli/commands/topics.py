"""What help shows: recipes, the words that are the product's own, and the help of commands."""

from __future__ import annotations

import re
from importlib.resources import files

import click

from yeldro.cli.terminal.output import show
from yeldro.core.model.messages.errors import Fault, UsageError
from yeldro.core.model.messages.names import suggestion

_WORDS = ("words", "What ripple, ledger, receipt and other words of Yeldro mean")
_NAMED = re.compile(r"(?m)^## (.*)\n<!-- yeldro help (\S+) -->\n")


def show_topic(topic: str | None, program: click.Context) -> None:
    """Print a recipe, the words, the help of a command, or the list of all topics.

    Args:
        topic: what to show; without it, the list.
        program: the context of the whole program, which knows its commands.

    Raises:
        UsageError: there is no such topic.
    """
    group = program.command
    if not isinstance(group, click.Group):
        raise Fault("help was asked for outside of the program")
    if topic is None:
        _list(titles())
    elif topic == _WORDS[0]:
        _show(_page("words"))
    elif recipe := _recipes().get(topic):
        _show(recipe)
    else:
        command = group.get_command(program, topic)
        if command is None:
            known = [*titles(), *group.list_commands(program)]
            raise UsageError(
                f"There is no topic {topic!r}. {suggestion(topic, known)}",
                "All topics: yeldro help",
            )
        within = click.Context(command, info_name=topic, parent=program, max_content_width=100)
        click.echo(command.get_help(within))


def titles() -> dict[str, str]:
    """Return what each topic is about: the recipes in the order of the page, and the words."""
    return {
        name: text.partition("\n")[0].removeprefix("## ") for name, text in _recipes().items()
    } | dict([_WORDS])


def _recipes() -> dict[str, str]:
    """Return the recipes by their names, each with its heading."""
    _, *parts = _NAMED.split(_page("how-to"))
    return {
        name: f"## {title}\n{text}"
        for title, name, text in zip(parts[0::3], parts[1::3], parts[2::3], strict=True)
    }


def _page(name: str) -> str:
    return (files("yeldro.cli") / "topics" / f"{name}.md").read_text(encoding="utf-8")


def _list(topics: dict[str, str]) -> None:
    formatter = click.HelpFormatter(width=100)
    with formatter.section("Topics (yeldro help TOPIC)"):
        formatter.write_dl([*topics.items(), ("COMMAND", "The options of a command")])
    click.echo(formatter.getvalue().rstrip())


def _show(text: str) -> None:
    """Print a page: commands in bold, outputs as they are, on the terminal's own background."""
    from rich.markdown import Markdown
    from rich.theme import Theme

    text = re.sub(r"(?m)^```\w+$", "```text", text)
    text = re.sub(r"\[(.+?)\]\((.+?)\)", r"\1 (\2)", text)
    bold = dict.fromkeys(("markdown.code", "markdown.h1", "markdown.h2"), "bold")
    show(Markdown(text, code_theme="ansi_dark"), theme=Theme(bold))

"""The choices of a user by name, as data; `--follow reading` is how the command line writes one.

Messages of the core, the engines and the files name a choice as ‹follow›, and what can be done next
as ⟨survey reading⟩. Whoever shows a message writes them in the user's own way: the command line as
options and commands (`with_options`), an exception that a program shows as fields (`with_fields`).
"""

from __future__ import annotations

import re
from dataclasses import dataclass


def spelled(name: str) -> str:
    """Return a choice's name as an option: `--missing-in`."""
    return f"--{name.replace('_', '-')}"


def with_options(message: str) -> str:
    """Return a message with each ‹follow› written as an option, each ⟨run⟩ as a command."""
    return re.sub("‹([a-z_]+)›", lambda found: spelled(found[1]), _with_commands(message))


def with_fields(message: str) -> str:
    """Return a message with each ‹follow› written as the field of a program, each ⟨run⟩ as a
    command.
    """
    return re.sub("‹([a-z_]+)›", lambda found: _FIELDS.get(found[1], found[1]),
                  _with_commands(message))  # fmt: skip


def _with_commands(message: str) -> str:
    return re.sub("⟨([a-z]+(?: [^⟩]*)?)⟩", r"'yeldro \1'", message)


# Fields whose names are not those of the options.
_FIELDS = {"param": "parameters", "param_null": "parameters"}


@dataclass(frozen=True)
class Option:
    """One choice.

    Args:
        name: as in `formats.fields`, such as `follow`.
        value: what is chosen; None where the name says it all.
    """

    name: str
    value: str | None = None

    def __str__(self) -> str:
        return with_options(self.named)

    @property
    def named(self) -> str:
        """The choice as a message names it: `‹follow› reading`."""
        if self.value is None:
            return f"‹{self.name}›"
        # It loads more than a usage error needs.
        from yeldro.core.model.messages.names import as_typed

        return f"‹{self.name}› {as_typed(self.value)}"


REPOINT = Option("repoint")

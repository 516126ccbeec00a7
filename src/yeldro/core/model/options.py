"""The choices of a user by name, as data; `--follow reading` is how the command line writes one."""

from __future__ import annotations

from dataclasses import dataclass


def spelled(name: str) -> str:
    """Return a choice's name as an option: `--missing-in`."""
    return f"--{name.replace('_', '-')}"


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
        if self.value is None:
            return spelled(self.name)
        from yeldro.core.model.names import as_typed  # which loads more than a usage error needs

        return f"{spelled(self.name)} {as_typed(self.value)}"


REPOINT = Option("repoint")

"""The choices of a user by name, as data; `--follow reading` is how the command line writes one."""

from __future__ import annotations

from dataclasses import dataclass

from yeldro.core.model.names import as_typed


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
        option = f"--{self.name.replace('_', '-')}"
        return option if self.value is None else f"{option} {as_typed(self.value)}"


REPOINT = Option("repoint")

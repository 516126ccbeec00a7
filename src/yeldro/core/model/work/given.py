"""What was asked for, thing by thing, as receipts, pages and documents repeat it."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Given:
    """A condition, an option or a value, as it was when the rows were chosen.

    Args:
        remove: the remove of a job that it belongs to, from 1.
        field: the field of a cleanup file, `parameter`, or `time_zone`, which is the session's.
        value: in words; None is NULL.
        name: the parameter's name.
    """

    remove: int
    field: str
    value: str | None
    name: str = ""

    @property
    def label(self) -> str:
        """What it is, for people."""
        return f":{self.name}" if self.name else self.field.replace("_", " ")

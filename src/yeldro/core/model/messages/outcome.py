"""What a transaction has come to, noted at once, for whoever is interrupted before it is said."""

from __future__ import annotations

from contextvars import ContextVar

_NOTED: ContextVar[str] = ContextVar("yeldro_outcome", default="")


def note_outcome(said: str) -> None:
    """Note what is committed, or may be, as a sentence; nothing if all is rolled back."""
    _NOTED.set(said)


def noted_outcome() -> str:
    """Return the sentence that was noted last; empty if nothing can be committed."""
    return _NOTED.get()

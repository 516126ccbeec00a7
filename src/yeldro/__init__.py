"""Plans and runs cleanup deletions in SQL databases: the row count is the key that turns the lock.

In a program: `yeldro.connect`, `yeldro.cleanup`, `yeldro.job`, `yeldro.load` (docs/python.md).
"""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from yeldro.api import Connection, check, cleanup, connect, job, load
    from yeldro.core.model.equality import Sameness
    from yeldro.core.model.errors import (
        CountMismatch,
        DatabaseFailure,
        Refused,
        UsageError,
        YeldroError,
    )

__version__ = "0.1.0"

__all__ = [
    "Connection",
    "CountMismatch",
    "DatabaseFailure",
    "Refused",
    "Sameness",
    "UsageError",
    "YeldroError",
    "check",
    "cleanup",
    "connect",
    "job",
    "load",
]

_WHERE = {"Sameness": "yeldro.core.model.equality"} | dict.fromkeys(
    ("CountMismatch", "DatabaseFailure", "Refused", "UsageError", "YeldroError"),
    "yeldro.core.model.errors",
)


def __getattr__(name: str) -> Any:
    """Loads a public name when it is first used, so that the command line starts quickly."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    import importlib

    return getattr(importlib.import_module(_WHERE.get(name, "yeldro.api")), name)

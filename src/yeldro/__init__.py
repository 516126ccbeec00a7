"""Plans and runs cleanup deletions in SQL databases: the row count is the key that turns the lock.

In a program: `yeldro.connect`, `yeldro.cleanup`, `yeldro.job`, `yeldro.load` (docs/python.md).
"""

from __future__ import annotations

TYPE_CHECKING = False  # without the module of that name, which takes time to load
if TYPE_CHECKING:
    from typing import Any

    from yeldro.api import Connection, check, cleanup, connect, job, load
    from yeldro.core.model.messages.errors import (
        AccessDenied,
        BlockedByForeignKey,
        CheckFailed,
        ConcurrentChange,
        ConnectionLost,
        CountMismatch,
        DatabaseFailure,
        FileNotUsable,
        FileNotWritten,
        Interrupted,
        KeyTaken,
        LimitReached,
        LockTimeout,
        MissingPrivilege,
        NoSelection,
        NoWayBack,
        OutOfReach,
        OutOfSpace,
        PageNotWritten,
        ParentGone,
        PlanChanged,
        ReceiptNotClosed,
        Refused,
        RestoreConflict,
        RowsDiffer,
        StatementTimeout,
        UnknownName,
        UnplannedChange,
        UsageError,
        YeldroError,
    )

__version__ = "0.1.0"

__all__ = [
    "AccessDenied",
    "BlockedByForeignKey",
    "CheckFailed",
    "ConcurrentChange",
    "Connection",
    "ConnectionLost",
    "CountMismatch",
    "DatabaseFailure",
    "FileNotUsable",
    "FileNotWritten",
    "Interrupted",
    "KeyTaken",
    "LimitReached",
    "LockTimeout",
    "MissingPrivilege",
    "NoSelection",
    "NoWayBack",
    "OutOfReach",
    "OutOfSpace",
    "PageNotWritten",
    "ParentGone",
    "PlanChanged",
    "ReceiptNotClosed",
    "Refused",
    "RestoreConflict",
    "RowsDiffer",
    "StatementTimeout",
    "UnknownName",
    "UnplannedChange",
    "UsageError",
    "YeldroError",
    "check",
    "cleanup",
    "connect",
    "job",
    "load",
]

_FUNCTIONS = ("Connection", "check", "cleanup", "connect", "job", "load")


def __getattr__(name: str) -> Any:
    """Load a public name when it is first used, so that the command line starts quickly."""
    if name not in __all__:
        raise AttributeError(f"module {__name__!r} has no attribute {name!r}")
    import importlib

    module = "yeldro.api" if name in _FUNCTIONS else "yeldro.core.model.messages.errors"
    return getattr(importlib.import_module(module), name)

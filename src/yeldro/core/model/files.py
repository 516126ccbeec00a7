"""Files that hold rows of a database: for their owner alone."""

from __future__ import annotations

import os


def for_its_owner(path: str, flags: int) -> int:
    """Open a file so that, if it is new, nobody else may read it; for `open(…, opener=…)`."""
    return os.open(path, flags, 0o600)

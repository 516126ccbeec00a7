"""The options of the last preview, from which `yeldro new --from-last` makes a file."""

from __future__ import annotations

import json
import os
from pathlib import Path
from typing import Any

from yeldro.completion.places import own_folder
from yeldro.core.model.messages.errors import UsageError, YeldroError
from yeldro.core.model.messages.files import new_file

DATABASE = "database"


def remember(options: dict[str, Any], db: str | None, database: str) -> None:
    """Keep the options of a preview, if that is possible.

    Args:
        db: the database as it was typed.
        database: its URL, without a password.
    """
    path = _path()
    try:
        path.parent.mkdir(parents=True, exist_ok=True, mode=0o700)
        beside = path.with_name(f"{path.name}.{os.getpid()}")
        with new_file(beside, over=path) as file:
            kept = options | {"db": without_password(db), DATABASE: database}
            file.write(json.dumps(kept).encode())
    except (OSError, YeldroError):
        return


def last_preview() -> dict[str, Any]:
    """Return the options of the last preview, as the command line gave them.

    Raises:
        UsageError: there was none.
    """
    try:
        found = json.loads(_path().read_text())
        return {
            name: tuple(value) if isinstance(value, list) else value
            for name, value in found.items()
        }
    except (OSError, ValueError, AttributeError) as error:
        raise UsageError(
            "There was no preview yet to take the options from.",
            "Run 'yeldro preview TABLE …' first, or name the table and its options here.",
        ) from error


def without_password(db: str | None) -> str | None:
    """Return a URL without its password; a path or a name is returned unchanged."""
    if db is None or "://" not in db:
        return db
    from yeldro.engines.address import shown  # which loads more than a usage error needs

    return shown(db)


def _path() -> Path:
    return Path(own_folder("XDG_STATE_HOME", "state")) / "last_preview.json"

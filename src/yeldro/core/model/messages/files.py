"""Files that the program writes: new ones, whole or not at all, and for their owner alone."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import contextmanager, suppress
from pathlib import Path
from typing import IO

from yeldro.core.model.messages.errors import FileNotWritten, Refused


@contextmanager
def new_file(path: Path, *, over: Path | None = None) -> Iterator[IO[bytes]]:
    """Give a new file to write to; nothing is left of it if that fails.

    Nobody but its owner may read it, as it can hold rows of a database.

    Args:
        over: the file in whose place it is put when it is whole.

    Raises:
        Refused: a file of this name exists.
        FileNotWritten: it cannot be written; the disk may be full.
    """
    try:
        file = open(path, "xb", opener=_for_its_owner)  # noqa: SIM115
    except FileExistsError as error:
        raise exists_already(path) from error
    except OSError as error:
        raise _not_written(path, error) from error
    try:
        with file:
            yield file
            file.flush()
        if over is not None:  # Windows replaces no file that is open
            path.replace(over)
    except BaseException as error:
        with suppress(OSError):
            path.unlink()
        if isinstance(error, OSError):
            raise _not_written(path, error) from error
        raise


class AsText:
    """A file of bytes that takes text, in UTF-8."""

    def __init__(self, file: IO[bytes], beginning: bytes = b"") -> None:
        self._file = file
        file.write(beginning)

    def write(self, text: str) -> int:
        return self._file.write(text.encode())


def exists_already(path: Path) -> Refused:
    """Return the refusal to overwrite a file."""
    return Refused(f"The file {path} exists already, and it is left as it is.", "Name another one.")


def _not_written(path: Path, error: OSError) -> FileNotWritten:
    return FileNotWritten(
        f"The file {path} could not be written: {error.strerror or error}.",
        "Name a file in a folder that has room and that you may write to.",
    )


def _for_its_owner(path: str, flags: int) -> int:
    return os.open(path, flags, 0o600)

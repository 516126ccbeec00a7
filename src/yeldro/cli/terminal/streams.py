"""Standard output and standard error that may be closed, full, or a pipe that nobody reads.

What cannot be written must not change what is said of the data, nor the exit code of a command
whose reader has seen enough. Signs that the encoding of a stream lacks are written in others.
"""

from __future__ import annotations

import errno
import os
import sys
from typing import Any, TextIO

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.machine import ON_WINDOWS
from yeldro.core.model.messages.outcome import noted_outcome

# What stands for signs of the output where an encoding lacks them.
_PLAIN = str.maketrans({
    "→": "->", "←": "<-", "≠": "!=", "…": "...", "·": "*", "─": "-", "│": "|", "├": "|", "└": "`",
    "█": "#", "░": ".",
})  # fmt: skip


def _spelled(text: str, encoding: str) -> str:
    """Return a text in the signs that an encoding has; others are written by their codes."""
    return text.translate(_PLAIN).encode(encoding, "backslashreplace").decode(encoding)


class ExactOutput:
    """Standard output for what must arrive as it is: rows for programs, statements."""

    def write(self, text: str) -> int:
        """Write a text.

        Raises:
            UsageError: the encoding of standard output lacks a sign of it.
        """
        encoding = getattr(sys.stdout, "encoding", None) or "utf-8"
        try:
            text.encode(encoding)
        except UnicodeEncodeError as error:
            raise UsageError(
                f"Standard output is written in {encoding}, which has no {text[error.start]!a}.",
                "The output is incomplete: set PYTHONIOENCODING=utf-8, and repeat the command.",
            ) from error
        return sys.stdout.write(text)


# A reader that has gone; Windows says it otherwise.
_GONE = (errno.EPIPE, errno.EINVAL) if ON_WINDOWS else (errno.EPIPE,)


class Guarded:
    """A text stream that notes its first failure and drops what comes after.

    Attributes:
        failure: why nothing can be written any more; None as long as it can.
    """

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream
        self.failure: OSError | None = None

    def write(self, text: str) -> int:
        """Write, unless that has failed before."""
        if self.failure is None:
            try:
                return self._stream.write(text)
            except UnicodeEncodeError as error:
                self._stream.write(_spelled(text, error.encoding))
            except OSError as error:
                self._give_up(error)
        return len(text)

    def flush(self) -> None:
        """Write what is held back, unless that has failed before."""
        if self.failure is None:
            try:
                self._stream.flush()
            except OSError as error:
                self._give_up(error)

    def _give_up(self, error: OSError) -> None:
        """Let what is still held back go nowhere, so that the end of the program is quiet."""
        self.failure = error
        nowhere = os.open(os.devnull, os.O_WRONLY)
        os.dup2(nowhere, self._stream.fileno())
        os.close(nowhere)

    def __getattr__(self, name: str) -> Any:
        return getattr(self._stream, name)


def guard_streams() -> None:
    """Guard standard output and standard error; one that is closed is as one that is full.

    A closed one is opened, so that no file of the program gets its number.
    """
    for number, name in enumerate(("stdin", "stdout", "stderr")):
        if getattr(sys, name) is not None:
            if number:
                setattr(sys, name, Guarded(getattr(sys, name)))
            continue
        opened = os.open(os.devnull, os.O_RDWR)
        if opened != number:
            os.dup2(opened, number)
            os.close(opened)
        stream: Any = open(number, "w" if number else "r", encoding="utf-8", closefd=False)  # noqa: SIM115
        if number:
            stream = Guarded(stream)
            stream.failure = OSError(errno.EBADF, "it is closed")
        setattr(sys, name, stream)


def code_at_the_end(code: int) -> int:
    """Return the exit code of a command, once all is written that can be.

    A reader that has gone has seen enough. Output that is lost otherwise is reported on standard
    error, with what is committed.
    """
    sys.stdout.flush()
    failure: OSError | None = getattr(sys.stdout, "failure", None)
    if failure is not None and failure.errno not in _GONE and code == 0:
        said = f"{committed} " if (committed := noted_outcome()) else ""
        print(f"{said}Standard output could not be written: {failure.strerror}.", file=sys.stderr)
        code = 5
    sys.stderr.flush()
    return code

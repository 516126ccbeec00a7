"""The program as a function: a command line is carried out in the process of the tests.

The same entry point as the installed program's, without the second that Python takes to load the
packages, and without a new process, which costs more than most commands.
"""

from __future__ import annotations

import gc
import importlib
import os
import pkgutil
import signal
import sys
import tempfile
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from functools import cache
from pathlib import Path
from unittest.mock import patch

import yeldro
from yeldro.cli.main import execute


def run(
    words: Sequence[str], environment: Mapping[str, str], folder: Path, seconds: int
) -> tuple[int, str, str]:
    """Run one command line; its exit code and what it printed and said.

    Args:
        seconds: this whole process is ended if it takes longer.
    """
    _load_everything()
    with tempfile.TemporaryFile("w+b") as out, tempfile.TemporaryFile("w+b") as err:
        with _streams(out.fileno(), err.fileno()), _place(environment, folder):
            signal.alarm(seconds)
            try:
                code = execute(list(words))
            finally:
                signal.alarm(0)
        printed = []
        for file in (out, err):
            file.seek(0)
            printed.append(file.read().decode())
        return code, printed[0], printed[1]


@contextmanager
def _streams(out: int, err: int) -> Iterator[None]:
    """Let what is printed go to files, and nothing be read."""
    with (
        open(os.devnull) as nothing,
        os.fdopen(os.dup(out), "w", encoding="utf-8") as printed,
        os.fdopen(os.dup(err), "w", encoding="utf-8", errors="backslashreplace") as said,
        patch.multiple(sys, stdin=nothing, stdout=printed, stderr=said),
    ):
        yield


@contextmanager
def _place(environment: Mapping[str, str], folder: Path) -> Iterator[None]:
    """Take on an environment and a folder."""
    before = Path.cwd()
    with patch.dict(os.environ, environment, clear=True):
        os.chdir(folder)
        try:
            yield
        finally:
            os.chdir(before)


@cache
def _load_everything() -> None:
    """Import every module, so that no test waits for it more than another."""
    for module in pkgutil.walk_packages(yeldro.__path__, "yeldro."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)
    gc.collect()
    gc.freeze()

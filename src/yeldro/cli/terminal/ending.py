"""What a command line leaves to be printed when it ends; a module that costs no time to load."""

from __future__ import annotations

from typing import Any


class Ending:
    """A document for programs."""

    def __init__(self) -> None:
        self.begin()

    def begin(self) -> None:
        """Forget what an earlier command line of this process has left."""
        self.document: Any = None


ending = Ending()

"""How many random cases are tried: few in a usual run, many in a thorough one, and which.

`YELDRO_THOROUGH=1` runs only the tests that take their cases from here, each for as long as its
cases or its share of `YELDRO_MINUTES` last. `YELDRO_SEED` begins with other cases, `YELDRO_CASE`
tries one. With `YELDRO_TIMES` each tries so many times the cases of a usual run, however fast the
machine is.
"""

from __future__ import annotations

import os
import random
import time
from collections.abc import Iterator

THOROUGH = os.environ.get("YELDRO_THOROUGH", "0") != "0"
_SEED, _MINUTES, _CASE, _TIMES = "YELDRO_SEED", "YELDRO_MINUTES", "YELDRO_CASE", "YELDRO_TIMES"
_APART = 1_000_000  # between the cases of two seeds


def choose_seed() -> int:
    """Choose a thorough run's seed for all its processes; a usual one tries the same cases."""
    chosen = str(random.SystemRandom().randrange(1, _APART) if THOROUGH else 0)
    return int(os.environ.setdefault(_SEED, chosen))


class Trials:
    """The cases of one test."""

    def __init__(self, share: float) -> None:
        """Begin a test's cases.

        Args:
            share: this test's part of the time of the whole run, which is that of each process.
        """
        seconds = float(os.environ.get(_MINUTES, "30")) * 60 * share
        self._ends = time.monotonic() + seconds if THOROUGH else float("inf")
        self.case: int | None = None
        self.only_one = _CASE in os.environ

    def __call__(self, few: int, many: int) -> Iterator[int]:
        """Yield the number of one case after the other, by which the test makes it.

        Args:
            few: cases in a usual run, and least ones in a thorough run.
            many: most cases in a thorough run.
        """
        first = int(os.environ[_SEED]) * _APART
        most = few * int(os.environ.get(_TIMES, "0")) or many
        numbers = iter(range(first, first + (min(most, many) if THOROUGH else few)))
        if only := os.environ.get(_CASE):
            numbers = iter([int(only)])
        for tried, self.case in enumerate(numbers, 1):
            yield self.case
            if tried >= few and time.monotonic() > self._ends:
                break
        self.case = None

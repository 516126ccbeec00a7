"""How many rows the user says must go."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field

from yeldro.core.model.messages.errors import CountMismatch, UsageError
from yeldro.core.model.messages.names import same_name

_RANGE = re.compile(r"(?P<low>\d*)(?P<dots>\.\.)?(?P<high>\d*)")


@dataclass(frozen=True)
class RowRange:
    """A number of rows, from `low` to `high`, both included; `high` None is no upper bound."""

    low: int
    high: int | None

    @classmethod
    def parse(cls, text: str) -> RowRange:
        """Read `N`, `A..B`, `A..` or `..B`.

        Raises:
            UsageError: `text` is none of these, or its ends are the wrong way round.
        """
        found = _RANGE.fullmatch(text.strip().replace("_", ""))
        if (
            not found
            or not (found["low"] or found["high"])
            or (found["high"] and not found["dots"])
        ):
            raise UsageError(
                f"The expectation {text!r} is not a number of rows.",
                "Write a number (12), or a range (1..50, 10.., ..200).",
            )
        low = int(found["low"] or 0)
        if not found["dots"]:
            return cls(low, low)
        high = int(found["high"]) if found["high"] else None
        if high is not None and high < low:
            raise UsageError(f"The range {text!r} is empty.", f"Did you mean {high}..{low}?")
        return cls(low, high)

    @property
    def written(self) -> str:
        """The range as it is read."""
        if self.high == self.low:
            return str(self.low)
        return f"{self.low}..{'' if self.high is None else self.high}"

    def __contains__(self, rows: float) -> bool:
        return self.low <= rows and (self.high is None or rows <= self.high)

    def __str__(self) -> str:
        if self.high == self.low:
            return f"{self.low:,}"
        if self.high is None:
            return f"{self.low:,} or more"
        return f"{self.low:,} to {self.high:,}"


@dataclass(frozen=True)
class Expectations:
    """Expected counts of the matched rows, of single tables, and of all rows together."""

    matched: RowRange | None = None
    tables: Mapping[str, RowRange] = field(default_factory=dict)
    total: RowRange | None = None

    @classmethod
    def parse(cls, texts: Iterable[str]) -> Expectations:
        """Read `N`, `TABLE=N` and `total=N` as options give them.

        Raises:
            UsageError: one cannot be read, or two speak of the same rows.
        """
        matched: RowRange | None = None
        total: RowRange | None = None
        tables: dict[str, RowRange] = {}
        for text in texts:
            name, equals, value = text.rpartition("=")
            expected = RowRange.parse(value)
            again = (
                tables.get(name) if equals and name != "total" else (total if equals else matched)
            )
            if again is not None:
                raise UsageError(
                    f"There are two expectations for the {name or 'matched'} rows.", "Keep one."
                )
            if not equals:
                matched = expected
            elif name == "total":
                total = expected
            else:
                tables[name] = expected
        return cls(matched, tables, total)

    def __bool__(self) -> bool:
        return bool(self.matched or self.tables or self.total)

    def against(
        self, matched: int, total: int, tables: Mapping[str, int]
    ) -> list[tuple[str, RowRange, int]]:
        """Return what each expectation is about, the expected range, and the planned count.

        Args:
            matched: rows of the named table that the cleanup picks.
            total: rows that all steps together remove or change.
            tables: rows that go or change, by table.
        """
        ranges = [("matched rows", self.matched, matched), ("rows in all", self.total, total)]
        ranges += [
            (f"rows of {name}", expected, tables.get(same_name(name, tables) or "", 0))
            for name, expected in self.tables.items()
        ]
        return [(about, each, found) for about, each, found in ranges if each is not None]

    def check(self, matched: int, total: int, tables: Mapping[str, int], data: str) -> None:
        """Compare planned counts with what is expected.

        Args:
            matched, total, tables: as in `against`.
            data: what to say has happened to the data.

        Raises:
            CountMismatch: one of them differs.
        """
        differences = [
            {"about": what, "expected": str(expected), "found": found}
            for what, expected, found in self.against(matched, total, tables)
            if found not in expected
        ]
        if differences:
            said = "; ".join(
                f"{each['about']}: expected {each['expected']}, would be {each['found']:,}"
                for each in differences
            )
            raise CountMismatch(
                f"A count is not as expected ({said}).",
                "Look at the rows with ⟨preview⟩, then correct the selection or the number.",
                data=data,
                differences=differences,
            )

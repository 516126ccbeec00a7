"""What is asked for when rows of a table are chosen, before it is held against the schema."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import listed
from yeldro.core.model.tables.equality import EqualityRules

KEEP_RULES = ("lowest:COLUMN", "highest:COLUMN", "fullest", "referenced", "order:LIST")


@dataclass(frozen=True)
class KeepRule:
    """A rule that prefers one row of a group.

    `lowest:COL`, `highest:COL`, `fullest` (most columns that are neither NULL nor empty),
    `referenced` (a row that some other row references), `order:LIST`.
    """

    kind: str
    argument: str = ""

    @classmethod
    def parse(cls, text: str) -> KeepRule:
        """Read one rule.

        Raises:
            UsageError: it is none of the known rules.
        """
        kind, colon, argument = text.partition(":")
        wants_argument = kind in ("lowest", "highest", "order")
        known = kind in ("lowest", "highest", "fullest", "referenced", "order")
        if not known or wants_argument != bool(argument):
            raise UsageError(
                f"‹keep› {text!r} is not a rule.", f"The rules are {', '.join(KEEP_RULES)}."
            )
        return cls(kind, argument if colon else "")

    def __str__(self) -> str:
        return f"{self.kind}:{self.argument}" if self.argument else self.kind


@dataclass(frozen=True)
class Decision:
    """What was decided of one row.

    Args:
        line: where it stands, from 1.
        group: the number of its group.
        key, seen: SHA-256 hashes, in digits, of the row's key, and of the row as it was.
        stays: None if it is open.
    """

    line: int
    group: int
    key: str
    seen: str
    stays: bool | None


class Decisions(Protocol):
    """Decisions that can be read as often as they are needed; `str` tells where they stand."""

    def read(self) -> Iterator[Decision]: ...


@dataclass(frozen=True)
class RelatedTable:
    """Rows of another table that match: by pairs of columns, or by the foreign key between them.

    Args:
        other: name of the other table.
        pairs: (column of the named table, column of the other); empty for the foreign key.
    """

    other: str
    pairs: tuple[tuple[str, str], ...] = ()

    @classmethod
    def parse(cls, text: str) -> RelatedTable:
        """Read `OTHER` or `OTHER:a=b,c=d`.

        Raises:
            UsageError: a pair is not written `column=column`.
        """
        *before, rest = listed(text, ":")
        other, colon = ":".join(before), bool(before)
        pairs = [tuple(listed(pair, "=")) for pair in listed(rest)]
        if all(len(pair) < 2 for pair in pairs):  # the colon is part of the name
            other, colon = text, False
        if colon and any(len(pair) != 2 or not all(pair) for pair in pairs):
            raise UsageError(
                f"{text!r} does not say which columns must agree.",
                "Write OTHER:column=other_column, with commas between several pairs.",
            )
        return cls(other.strip(), tuple((a, b) for a, b in pairs) if colon else ())

    def __str__(self) -> str:
        pairs = ",".join(f"{ours}={theirs}" for ours, theirs in self.pairs)
        return f"{self.other}:{pairs}" if pairs else self.other


@dataclass(frozen=True)
class Selection:
    """The conditions of a selection; the rows that meet all of them are matched.

    Args:
        table: the named table, as typed.
        parameters: values for the `:name` parameters of `where`.
        duplicates_by: columns on which surplus copies are equal; the row to keep is not matched.
        same: when values of those columns count as equal.
        decisions: which rows of each group stay and which go, as a person decided.
        order_by, limit: only the first `limit` rows in this order.
        all_rows: every row is meant; no other condition may be given then.
        only_table: the table's own rows, without those of tables that inherit from it.
        batch: of these rows only the first so many in key order.
        after_key: only rows whose key comes after this one.
    """

    table: str
    where: str | None = None
    parameters: Mapping[str, Any] = field(default_factory=dict)
    matching: tuple[RelatedTable, ...] = ()
    missing_in: tuple[RelatedTable, ...] = ()
    orphans: str | None = None
    duplicates_by: tuple[str, ...] = ()
    keep: tuple[KeepRule, ...] = ()
    same: EqualityRules = field(default_factory=EqualityRules)
    decisions: Decisions | None = None
    order_by: str | None = None
    limit: int | None = None
    all_rows: bool = False
    only_table: bool = False
    batch: int | None = None
    after_key: tuple[int, ...] = ()

    @property
    def narrows(self) -> bool:
        """True if any condition leaves rows out."""
        return bool(
            self.where is not None
            or self.matching
            or self.missing_in
            or self.orphans
            or self.duplicates_by
            or self.limit is not None
        )

    @property
    def leaves_no_duplicates(self) -> bool:
        """True if every surplus row of every group is picked."""
        others = (
            self.where, self.matching, self.missing_in, self.orphans, self.limit, self.batch,
            self.decisions,
        )  # fmt: skip
        return bool(self.duplicates_by) and not any(others)

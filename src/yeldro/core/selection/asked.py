"""What is asked for when rows of a table are chosen, before it is held against the schema."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from yeldro.core.model.equality import EqualityRules
from yeldro.core.model.errors import UsageError
from yeldro.core.model.names import listed
from yeldro.core.selection.duplicates import KeepRule

if TYPE_CHECKING:
    from yeldro.core.selection.decisions import Decisions


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
        if "=" not in rest:  # the colon is part of the name
            other, colon, rest = text, False, ""
        pairs = [tuple(listed(pair, "=")) for pair in listed(rest)]
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

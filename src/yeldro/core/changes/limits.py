"""The limits of a project: tables of which no row may change, and the most rows of one run."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import ROLLED_BACK, UNCHANGED, LimitReached
from yeldro.core.model.messages.names import same_name, suggestion

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Catalogue


@dataclass(frozen=True)
class Limits:
    """Limits that every cleanup keeps.

    Args:
        protected: tables of which no row may be removed or changed.
        most_rows: the most rows that one run may remove or change; None for any number.
        said_in: where the limits are written, for people.
    """

    protected: tuple[str, ...] = ()
    most_rows: int | None = None
    said_in: str = ""

    def check_tables(
        self,
        rows_by_table: Mapping[str, int],
        catalogue: Catalogue | None = None,
        data: str = UNCHANGED,
    ) -> None:
        """Refuse what touches a protected table.

        Args:
            rows_by_table: how many rows go, change or come.
            catalogue: tells which rows are those of a protected table's heirs and partitions.
            data: what has happened to the data.

        Raises:
            Refused: a table is protected.
        """
        if not (rows_by_table and self.protected):
            return
        named = [name for name in rows_by_table if self._protects(name)]
        within = dict(self._rows_within(catalogue)) if catalogue else {}
        for name in (*named, *(name for name in rows_by_table if name in within)):
            which = f"{name} holds rows of {within[name]}, which" if name in within else name
            raise LimitReached(
                f"{which} is protected by {self.said_in}, and {rows_by_table[name]:,} of the rows "
                f"of {name} would go, change or come back.",
                "Narrow it, or take the table off that list.",
                data=data,
                table=name,
            )

    def check_besides(self, unplanned: Mapping[str, int], catalogue: Catalogue) -> None:
        """Refuse changes of allowed triggers in a protected table, or in one that nobody names.

        Args:
            unplanned: changed rows by table; `*` where the system does not name it.

        Raises:
            Refused: a protected table has been changed, or may have been.
        """
        self.check_tables(unplanned, catalogue, ROLLED_BACK)
        if self.protected and "*" in unplanned:
            raise LimitReached(
                f"An allowed trigger changed {abs(unplanned['*']):,} other rows. This system does "
                f"not tell of which tables, and {self.said_in} protects "
                f"{', '.join(self.protected)}.",
                "Take these tables off that list, or drop the trigger while the rows go.",
                data=ROLLED_BACK,
            )

    def _protects(self, name: str) -> bool:
        names = {name, name.rpartition(".")[2]}
        return any(same_name(each, names) for each in self.protected)

    def _rows_within(self, catalogue: Catalogue) -> Iterator[tuple[str, str]]:
        """Yield the tables in which rows of protected ones live, or which such a part is of."""
        for name in filter(lambda each: self._protects(str(each)), catalogue.table_names()):
            for heir in catalogue.table(name).heirs:
                yield str(heir), str(name)
        for name in filter(lambda each: self._protects(str(each)), catalogue.part_names()):
            if part := catalogue.part_of(name):
                yield str(part.whole), str(name)

    def unknown(self, catalogue: Catalogue) -> list[str]:
        """Return warnings of protected names that no table has: a slip there protects nothing."""
        if not self.protected:
            return []
        tables = [name for name in catalogue.table_names() if catalogue.table(name).kind != "view"]
        tables += catalogue.part_names()
        known = [*map(str, tables), *(name.name for name in tables)]
        return [
            f"{self.said_in} protects {name}, and there is no such table. "
            f"{suggestion(name, dict.fromkeys(known))}"
            for name in self.protected
            if not same_name(name, dict.fromkeys(known))
        ]

    def check_rows(self, total: int) -> None:
        """Refuse more rows than one run may touch.

        Raises:
            Refused: `total` is above the limit.
        """
        if self.most_rows is not None and total > self.most_rows:
            raise LimitReached(
                f"{total:,} rows would go or change, and {self.said_in} allows "
                f"{self.most_rows:,} in one run.",
                "If all of them should go, add ‹allow_more›.",
                total=total,
                most_rows=self.most_rows,
            )

"""A cleanup as it is asked for, and all of it field by field, for receipts, pages and documents."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import asdict, dataclass, field
from datetime import date
from typing import TYPE_CHECKING, Any

from yeldro.core.database.facts import Emptying
from yeldro.core.model.work.expectation import Expectations
from yeldro.core.model.work.given import Given
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.selection.asked import Selection

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Session
    from yeldro.core.planning.merging.filling import Filling
    from yeldro.core.selection.selection import MatchedRows

_OF_SELECTION = (
    "where", "matching", "missing_in", "orphans", "duplicates_by", "keep", "order_by", "limit",
    "all_rows", "only_table",
)  # fmt: skip


@dataclass(frozen=True)
class Cleanup:
    """One deletion as asked for: the rows, what happens to dependents, how many must go.

    Args:
        allowed_triggers: triggers whose changes to other rows the user accepts.
        no_way_back: tables without transactions whose removals the user accepts, though they
            cannot be rolled back.
        emptying: a quicker way than DELETE, if one was asked for.
        add_constraint: add the constraint that keeps such duplicates out.
        filling: what the kept row of each group of duplicates takes from the rows that go.
    """

    selection: Selection
    choices: Choices = field(default_factory=Choices)
    expectations: Expectations = field(default_factory=Expectations)
    allowed_triggers: tuple[str, ...] = ()
    no_way_back: tuple[str, ...] = ()
    add_constraint: bool = False
    emptying: Emptying | None = None
    filling: Filling | None = None


def field_values(cleanup: Cleanup) -> dict[str, Any]:
    """Return the values of all fields of a cleanup, as JSON and TOML hold them."""
    selection, filling = cleanup.selection, cleanup.filling
    values = {name: getattr(selection, name) for name in _OF_SELECTION}
    values |= asdict(selection.same) | asdict(cleanup.choices)
    values |= {each.value: cleanup.emptying == each for each in Emptying}
    values |= {
        "decisions": None if selection.decisions is None else str(selection.decisions),
        "allow_trigger": cleanup.allowed_triggers,
        "no_way_back": cleanup.no_way_back,
        "add_constraint": cleanup.add_constraint,
        "fill": filling.columns if filling else (),
        "fill_empty": filling is not None and filling.empty,
        "fill_first": filling is not None and filling.first,
    }
    return {
        name: list(map(str, value)) if isinstance(value, tuple) else value
        for name, value in values.items()
    }


def asked_of(cleanup: Cleanup, matched: MatchedRows, session: Session) -> Iterator[Given]:
    """Yield all that a cleanup asks for, with values in place of defaults and relative days.

    Among rows that are equal in the order of a limit, the key decides.
    """
    values = field_values(cleanup) | {"table": cleanup.selection.table}
    if cleanup.selection.order_by:
        values["order_by"] = ", ".join(
            [cleanup.selection.order_by, *matched.table.identity.columns]
        )
    for name in ("table", *(each for each in values if each != "table")):
        value = values[name]
        for each in value if isinstance(value, list) else [value]:
            if each not in (None, False):
                yield Given(1, name, "yes" if each is True else str(each))
    for name, value in cleanup.selection.parameters.items():
        yield Given(1, "parameter", _in_words(value), name)
    yield Given(1, "time_zone", session.time_zone())


def _in_words(value: Any) -> str | None:
    if value is None or isinstance(value, str):
        return value
    return value.isoformat() if isinstance(value, date) else str(value)

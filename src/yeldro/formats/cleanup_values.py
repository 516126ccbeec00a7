"""Turning field values into a cleanup and back, for options, programs and files alike."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager, nullcontext
from typing import Any

from yeldro.core.database.facts import Emptying
from yeldro.core.model.messages.errors import UnknownName, UsageError
from yeldro.core.model.messages.names import listed, listed_values
from yeldro.core.model.tables.equality import EqualityRules
from yeldro.core.model.work.expectation import Expectations, RowRange
from yeldro.core.planning.cleanup import Cleanup, field_values
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.planning.merging.filling import Filling
from yeldro.core.selection.asked import KeepRule, RelatedTable, Selection
from yeldro.formats.fields import CLEANUP, EMPTYING, EQUALITY, FILL, KINDS, Field

Reading = Callable[[str], AbstractContextManager[None]]


def _alone(name: str) -> AbstractContextManager[None]:
    """Read a field without anything around it."""
    del name
    return nullcontext()


_READ_EACH: Mapping[str, Any] = {
    "matching": RelatedTable.parse,
    "missing_in": RelatedTable.parse,
    "keep": KeepRule.parse,
}
_IN_ONE_TEXT: Mapping[str, Callable[[str], list[str]]] = {
    "columns": listed,
    "compared": listed_values,
}
_OUTSIDE_SELECTION = (
    "follow",
    "detach",
    "repoint",
    "allow_trigger",
    "no_way_back",
    "add_constraint",
    *(field.name for field in (*FILL, *EMPTYING)),
)


def cleanup_from(
    table: str,
    values: Mapping[str, Any],
    *,
    parameters: Mapping[str, Any] | None = None,
    expectations: Expectations | None = None,
    reading: Reading = _alone,
) -> Cleanup:
    """Return the cleanup that the values of fields describe.

    Args:
        values: by field name; None, false and a missing name are the same.
        parameters: values for the `:name` parameters of `where`.
        reading: called with the name of each field; the field is read within what it returns.

    Raises:
        UnknownName: a field does not exist.
        UsageError: a value cannot be read.
    """
    for name in values:
        if name not in CLEANUP:
            raise UnknownName(f"A cleanup has no field {name!r}.", name, CLEANUP)
    found = {}
    for name, field in CLEANUP.items():
        with reading(name):
            found[name] = value_of(field, values.get(name))
    equality = {field.name: found.pop(field.name) for field in EQUALITY}
    if found["decisions"]:
        from yeldro.formats.review_file import DecisionsFile

        found["decisions"] = DecisionsFile(found["decisions"])
    others = {name: found.pop(name) for name in _OUTSIDE_SELECTION}
    selection = Selection(
        table=table, parameters=dict(parameters or {}), same=EqualityRules(**equality), **found
    )
    return Cleanup(
        selection=selection,
        choices=Choices(others["follow"], others["detach"], others["repoint"]),
        expectations=expectations or Expectations(),
        allowed_triggers=others["allow_trigger"],
        no_way_back=others["no_way_back"],
        add_constraint=others["add_constraint"],
        emptying=_emptying(others),
        filling=filling_of(others),
    )


def _emptying(values: Mapping[str, Any]) -> Emptying | None:
    """Return how the table is emptied, None if rows are removed by DELETE."""
    chosen = [field.name for field in EMPTYING if values[field.name]]
    if len(chosen) > 1:
        first, second = chosen[:2]
        raise UsageError(
            f"‹{first}› and ‹{second}› are two ways to do the same.", "Keep one of them."
        )
    return Emptying(chosen[0]) if chosen else None


def filling_of(values: Mapping[str, Any]) -> Filling | None:
    """Return what kept rows take, None if they take nothing.

    Raises:
        UsageError: it is said how, and not what.
    """
    columns, empty, first = (value_of(field, values.get(field.name)) for field in FILL)
    if columns:
        return Filling(columns, empty, first)
    if empty or first:
        raise UsageError(
            f"‹{'fill_empty' if empty else 'fill_first'}› says how rows are filled, and no ‹fill› "
            f"says with what.",
            "Add ‹fill› COLUMNS, or ‹fill› all.",
        )
    return None


def values_of(cleanup: Cleanup) -> dict[str, Any]:
    """Return the values of all fields of a cleanup, in the order of the fields."""
    values = field_values(cleanup)
    return {name: values[name] for name in CLEANUP}


def value_of(field: Field, given: Any) -> Any:
    """Return the value of one field as a cleanup holds it.

    Raises:
        UsageError: the value is of another kind.
    """
    if field.kind in ("texts", *_IN_ONE_TEXT):
        return tuple(map(_READ_EACH.get(field.name, str), _texts(field, given)))
    if field.kind == "flag":
        if not isinstance(given, bool | None):
            raise _of_another_kind(field, given)
        return bool(given)
    kind = int if field.kind == "count" else str
    if given is not None and (not isinstance(given, kind) or isinstance(given, bool)):
        raise _of_another_kind(field, given)
    return given


def expectations_from(
    matched: int | str | None,
    tables: Mapping[str, int | str],
    total: int | str | None,
    reading: Reading = _alone,
) -> Expectations:
    """Return the expectations given as numbers or ranges such as "1..50".

    Args:
        reading: as in `cleanup_from`.

    Raises:
        UsageError: one is neither.
    """
    with reading("expect"):
        of_matched = None if matched is None else RowRange.parse(str(matched))
    with reading("expect_in"):
        of_tables = {name: RowRange.parse(str(rows)) for name, rows in tables.items()}
    with reading("expect_total"):
        of_total = None if total is None else RowRange.parse(str(total))
    return Expectations(of_matched, of_tables, of_total)


def _texts(field: Field, given: Any) -> list[str]:
    if given is None:
        return []
    if isinstance(given, str):
        return _IN_ONE_TEXT[field.kind](given) if field.kind in _IN_ONE_TEXT else [given]
    try:
        texts = list(given)
    except TypeError as error:
        raise _of_another_kind(field, given) from error
    if not all(isinstance(each, str) for each in texts):
        raise _of_another_kind(field, given)
    return texts


def _of_another_kind(field: Field, given: Any) -> UsageError:
    return UsageError(f"{field.name!r} is {given!r}; it must be {KINDS[field.kind]}.")

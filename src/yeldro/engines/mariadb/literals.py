"""Rows of values as literals for an INSERT of many rows."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Any

from pymysql.converters import escape_bytes, escape_string

_CHARACTERS = 500_000  # of a statement, about; a server takes 1 MB at the least


def statements(rows: Iterable[tuple[Any, ...]]) -> Iterator[str]:
    """Yield the VALUES of a few statements for all rows.

    The session must read a backslash in a text as an escape, as its own mode does.
    """
    listed: list[str] = []
    length = 0
    for row in rows:
        listed.append(f"({','.join([_LITERALS[type(value)](value) for value in row])})")
        length += len(listed[-1])
        if length > _CHARACTERS:
            yield ",".join(listed)
            listed, length = [], 0
    if listed:
        yield ",".join(listed)


def _text(value: str) -> str:
    return f"'{escape_string(value)}'"


def _null(value: None) -> str:
    del value
    return "NULL"


_LITERALS: dict[type, Callable[[Any], str]] = {
    int: str,
    float: lambda value: f"{value!r}e0" if "e" not in repr(value) else repr(value),
    str: _text,
    bytes: escape_bytes,
    type(None): _null,
}

"""Values as they are written in a statement (Transact-SQL reference, "Constants").

Days and times have their type with them: what a mere text means to a `datetime` depends on the
language of the login ("SET LANGUAGE").

The driver writes parameters into the text itself, and takes what looks like one within a text in
quotes for one; so it is given statements without any.
"""

from __future__ import annotations

import uuid
from collections.abc import Mapping, Sequence
from datetime import date, datetime, time
from decimal import Decimal
from typing import Any

from yeldro.core.model.messages.errors import Fault, Refused


def literal(value: Any) -> str:
    """Return a value as it is written in a statement.

    Raises:
        Refused: a text holds half of a pair of surrogates, which the driver cannot send.
    """
    match value:
        case None:
            return "NULL"
        case bool() | int():
            return str(int(value))
        case float():
            return format(value, ".17e")
        case Decimal():
            return format(value, "f")
        case bytes():
            return f"0x{value.hex()}"
        case datetime():
            kind = "datetimeoffset" if value.tzinfo else "datetime2"
            return f"CAST('{value.isoformat(sep='T')}' AS {kind}(7))"
        case date():
            return f"CAST('{value.isoformat()}' AS date)"
        case time():
            return f"CAST('{value.isoformat()}' AS time(7))"
        case uuid.UUID():
            return f"'{value}'"
        case str():
            return _text(value)
    raise Fault(f"no literal of SQL Server is known for a {type(value).__name__}")


def with_literals(statement: str, parameters: Mapping[str, Any] | Sequence[Any]) -> str:
    """Return a statement with its parameters written into it.

    Args:
        statement: with `%(name)s` or `%s` for each, and two percent signs for each one.
    """
    if isinstance(parameters, Mapping):
        return statement % {name: literal(value) for name, value in parameters.items()}
    return statement % tuple(map(literal, parameters))


def _text(value: str) -> str:
    try:
        value.encode()
    except UnicodeEncodeError as error:
        raise Refused(
            "A text holds half of a pair of surrogates, which the driver cannot send.",
            "Leave the row out by its key.",
        ) from error
    return "N'" + value.replace("'", "''") + "'"

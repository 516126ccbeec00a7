"""Writing a cleanup file from a job, with a comment on every part."""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Mapping
from datetime import date, datetime
from types import MappingProxyType
from typing import TYPE_CHECKING, Any

from yeldro.core.model.messages.names import one_line
from yeldro.formats.cleanup_values import values_of
from yeldro.formats.fields import REMOVE

if TYPE_CHECKING:
    from yeldro.core.model.work.expectation import Expectations
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.job import Job

_ABOUT = {field.name: field.about for field in REMOVE}
_BARE = re.compile(r"[A-Za-z0-9_-]+")


def written(
    job: Job, db: str | None = None, types: Mapping[str, str] = MappingProxyType({})
) -> str:
    """Return the job as a cleanup file.

    Args:
        db: the database as it was typed, without a password.
        types: those of parameters that have no value yet.
    """
    lines = [
        "# A Yeldro cleanup file: what is removed, in which order, and how many rows it must be.",
        "#",
        "#   yeldro plan FILE       what would go, and what blocks it",
        "#   yeldro rehearse FILE   do it all, compare the counts, roll back",
        "#   yeldro run FILE        do it; nothing goes if any count differs",
        "",
        f"title = {_text(job.title)}",
    ]
    if job.expectations.total:
        lines.append(f"expect_total = {_rows(job.expectations.total.written)}")
    values = {
        name: value for each in job.cleanups for name, value in each.selection.parameters.items()
    }
    for name, value in values.items():
        lines += [
            "",
            f"[param.{name}]",
            f"type = {_text(_type(value))}",
            f'about = ""                # for the person who is asked for it; last time it was '
            f"{one_line(str(value))}",
        ]
    for name, kind in types.items():
        lines += [
            "",
            f"[param.{name}]",
            f"type = {_text(kind)}",
            'about = ""                # for the person who is asked for it',
        ]
    for cleanup in job.cleanups:
        lines += ["", "[[remove]]", *_remove(cleanup)]
    lines += [
        "",
        "# Checks that must hold when all is done; else everything is rolled back:",
        "#",
        "# [[after]]",
        '# about = "no row is left that should have gone"',
        f'# query = "select count(*) from {one_line(job.cleanups[0].selection.table)} where …"',
        '# expect = "0"',
    ]
    if db:
        lines += ["", "[options]", f"db = {_text(db)}"]
    return "\n".join(lines) + "\n"


def _remove(cleanup: Cleanup) -> Iterator[str]:
    yield f"from = {_text(cleanup.selection.table)}"
    for name, value in values_of(cleanup).items():
        if value not in (None, False, []):
            yield _commented(f"{name} = {_value(value)}", _ABOUT[name])
    yield from _expected(cleanup.expectations)


def _expected(expected: Expectations) -> Iterator[str]:
    if expected.matched:
        yield _commented(f"expect = {_rows(expected.matched.written)}", _ABOUT["expect"])
    else:
        yield '# expect = "1..50"         # How many rows must match.'
    if expected.tables:
        inside = ", ".join(
            f"{_key(name)} = {_rows(each.written)}" for name, each in expected.tables.items()
        )
        yield _commented(f"expect_in = {{ {inside} }}", _ABOUT["expect_in"])
    if expected.total:
        yield _commented(f"expect_total = {_rows(expected.total.written)}", _ABOUT["expect_total"])


def _commented(line: str, about: str) -> str:
    return f"{line:<26} # {about}"


def _value(value: Any) -> str:
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, list):
        return _list(value)
    return str(value) if isinstance(value, int) else _text(value)


def _list(values: Iterable[str]) -> str:
    return f"[{', '.join(map(_text, values))}]"


def _rows(written: str) -> str:
    return written if written.isdecimal() else _text(written)


def _text(value: str) -> str:
    """Return a TOML basic string."""
    return json.dumps(value, ensure_ascii=False).replace("\x7f", "\\u007f")


def _key(name: str) -> str:
    return name if _BARE.fullmatch(name) else _text(name)


def _type(value: Any) -> str:
    """Return the parameter type that a value reads as."""
    known = {bool: "boolean", int: "integer", float: "number", date: "date", datetime: "datetime"}
    if type(value) in known:
        return known[type(value)]
    for read, name in ((date.fromisoformat, "date"), (datetime.fromisoformat, "datetime")):
        try:
            read(str(value))
            return name
        except ValueError:
            continue
    return "text"

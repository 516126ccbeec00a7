"""Cleanup files: a deletion that is named, reviewed and repeated (docs/cleanup-files.md)."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Mapping
from contextlib import AbstractContextManager, contextmanager
from dataclasses import dataclass, replace
from datetime import date, datetime
from pathlib import Path
from typing import Any

from yeldro.core.model.messages.errors import UsageError, YeldroError
from yeldro.core.model.messages.names import suggestion
from yeldro.core.model.work.expectation import Expectations, RowRange
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.job import Job
from yeldro.core.selection.conditions.checks import Check
from yeldro.core.selection.conditions.filters import parameters_in
from yeldro.core.selection.conditions.parameters import relative_day
from yeldro.formats import fields
from yeldro.formats.cleanup_values import cleanup_from, expectations_from
from yeldro.formats.toml import Path_, TomlFile, read_toml


@dataclass(frozen=True)
class Parameter:
    """A value that differs from one run to the next.

    Args:
        type: text, integer, number, date, datetime or boolean.
        default: its value if none is given; None if it has no default.
    """

    name: str
    type: str
    about: str = ""
    default: Any = None

    def value(self, text: str) -> Any:
        """Return a text that a person or `--param` gives as a value of this type.

        Raises:
            UsageError: it is not a value of this type.
        """
        try:
            return _READ[self.type](text.strip() if self.type != "text" else text)
        except (ValueError, KeyError) as error:
            raise UsageError(
                f"The parameter {self.name} is {_ARTICLES[self.type]}, and {text!r} is not.",
                f"Write it as {_EXAMPLES[self.type]}.",
            ) from error


@dataclass(frozen=True)
class CleanupFile:
    """A cleanup file, read and checked except for the values of its parameters.

    Args:
        options: defaults for the options of the command line.
    """

    path: Path
    parameters: tuple[Parameter, ...]
    options: Mapping[str, Any]
    job: Job

    def with_values(self, given: Mapping[str, Any]) -> Job:
        """Return the job, with a value for every parameter.

        Raises:
            UsageError: one has no value, or there is a value that no parameter takes.
        """
        known = {parameter.name: parameter for parameter in self.parameters}
        for name in given:
            if name not in known:
                raise UsageError(
                    f"‹param› {name} is given, and {self.path} has no such parameter.",
                    suggestion(name, known),
                )
        values = {name: each.default for name, each in known.items() if each.default is not None}
        values |= given
        for name, parameter in known.items():
            if name not in values:
                about = f": {parameter.about}" if parameter.about else ""
                raise UsageError(
                    f"{self.path} needs a value for {name} ({parameter.type}){about}.",
                    f"Add ‹param› {name}={_EXAMPLES[parameter.type]}.",
                )
        cleanups = tuple(
            replace(each, selection=replace(each.selection, parameters=_used(each, values)))
            for each in self.job.cleanups
        )
        after = tuple(
            replace(each, parameters={n: values[n] for n in parameters_in(each.query)})
            for each in self.job.after
        )
        return replace(self.job, cleanups=cleanups, after=after)


def read_cleanup_file(path: Path) -> CleanupFile:
    """Read a cleanup file.

    Raises:
        UsageError: something in it does not follow the format; the line is named.
    """
    file = read_toml(path)
    # The version comes first: a newer file may have keys that only a newer Yeldro knows.
    version = file.values.get("format", fields.FORMAT)
    if isinstance(version, int) and version > fields.FORMAT:
        raise file.mistake(
            ("format",),
            f"this file is of format {version}, and this Yeldro reads format {fields.FORMAT}.",
            "Use a newer Yeldro for it.",
        )
    top = file.checked((), fields.TOP, "a cleanup file")
    if not top["remove"]:
        raise file.mistake(("remove",), "there is no [[remove]], so nothing would go.")
    names = top.get("param", {})
    parameters = tuple(_parameter(file, name) for name in names)
    cleanups = tuple(_cleanup(file, place) for place in range(len(top["remove"])))
    after = tuple(_after(file, place) for place in range(len(top.get("after", []))))
    _check_parameters(file, cleanups, after)
    options = file.checked(("options",), fields.OPTIONS, "[options]") if "options" in top else {}
    expected = Expectations()
    if "expect_total" in top:
        with _placed(file, ("expect_total",)):
            expected = Expectations(total=RowRange.parse(str(top["expect_total"])))
    title = top.get("title") or path.name
    job = Job(title, cleanups, after, expected, described=True)
    return CleanupFile(path, parameters, options, job)


def _parameter(file: TomlFile, name: str) -> Parameter:
    at: Path_ = ("param", name)
    found = file.checked(at, fields.PARAM, f"[param.{name}]")
    if not name.isidentifier() or not name.isascii():
        raise file.mistake(
            at, f"{name!r} cannot be a parameter's name.", "Use letters, digits and _."
        )
    parameter = Parameter(name, found["type"], found.get("about", ""))
    if "default" not in found:
        return parameter
    given = found["default"]
    kinds = _KINDS[parameter.type]
    right = isinstance(given, kinds) and (parameter.type == "boolean") == isinstance(given, bool)
    if right and not (parameter.type == "date" and isinstance(given, datetime)):
        return replace(parameter, default=given)
    with _placed(file, (*at, "default")):
        return replace(parameter, default=parameter.value(str(given)))


def _cleanup(file: TomlFile, place: int) -> Cleanup:
    at: Path_ = ("remove", place)
    found = file.checked(at, fields.REMOVE, "[[remove]]")

    def reading(name: str) -> AbstractContextManager[None]:
        return _placed(file, (*at, name))

    cleanup = cleanup_from(
        found["from"],
        {name: value for name, value in found.items() if name in fields.CLEANUP},
        expectations=expectations_from(
            found.get("expect"), found.get("expect_in", {}), found.get("expect_total"), reading
        ),
        reading=reading,
    )
    selection = cleanup.selection
    if not selection.narrows and not selection.all_rows:
        raise file.mistake(
            at,
            f"nothing says which rows of {selection.table} are meant.",
            "Add where, matching, missing_in, orphans or duplicates_by; or all_rows = true.",
        )
    return cleanup


def _after(file: TomlFile, place: int) -> Check:
    at: Path_ = ("after", place)
    found = file.checked(at, fields.AFTER, "[[after]]")
    with _placed(file, (*at, "expect")):
        expected = RowRange.parse(str(found["expect"]))
    return Check(found.get("about", ""), found["query"], expected)


def _check_parameters(
    file: TomlFile, cleanups: tuple[Cleanup, ...], after: tuple[Check, ...]
) -> None:
    """Refuse a parameter that is used and not declared, or declared and not used."""
    places: list[tuple[Path_, str]] = [
        (("remove", n, "where"), each.selection.where or "") for n, each in enumerate(cleanups)
    ]
    places += [(("after", n, "query"), each.query) for n, each in enumerate(after)]
    declared = file.values.get("param", {})
    used: set[str] = set()
    for at, text in places:
        for name in sorted(parameters_in(text)):
            if name not in declared:
                hint = suggestion(name, declared) if declared else ""
                raise file.mistake(
                    at,
                    f":{name} is used, and there is no [param.{name}].",
                    hint or f'Add [param.{name}] with type = "text".',
                )
            used.add(name)
    for name in declared:
        if name not in used:
            raise file.mistake(
                ("param", name), f"nothing uses the parameter {name!r}.", "Drop it, or use it."
            )


def _used(cleanup: Cleanup, values: Mapping[str, Any]) -> dict[str, Any]:
    return {name: values[name] for name in parameters_in(cleanup.selection.where or "")}


@contextmanager
def _placed(file: TomlFile, at: Path_) -> Iterator[None]:
    """Add the line of a value to an error about it."""
    try:
        yield
    except YeldroError as error:
        raise file.mistake(at, error.why, error.next_step) from error


def _boolean(text: str) -> bool:
    return {"true": True, "yes": True, "false": False, "no": False}[text.casefold()]


def _midnight(day: date | None) -> datetime | None:
    return None if day is None else datetime(day.year, day.month, day.day)


def _number(text: str) -> int | float:
    value = float(text)
    if not math.isfinite(value):
        raise ValueError(text)
    return int(text) if text.lstrip("+-").isdecimal() else value


_READ: dict[str, Callable[[str], Any]] = {
    "text": str,
    "integer": int,
    "number": _number,
    "date": lambda text: relative_day(text) or date.fromisoformat(text),
    "datetime": lambda text: _midnight(relative_day(text)) or datetime.fromisoformat(text),
    "boolean": _boolean,
}
_KINDS: dict[str, type | tuple[type, ...]] = {
    "text": str,
    "integer": int,
    "number": (int, float),
    "date": date,
    "datetime": datetime,
    "boolean": bool,
}
_ARTICLES = {
    "text": "a text",
    "integer": "a whole number",
    "number": "a number",
    "date": "a date",
    "datetime": "a date with a time",
    "boolean": "true or false",
}
_EXAMPLES = {
    "text": "TEXT",
    "integer": "12",
    "number": "2.5",
    "date": "2020-01-31",
    "datetime": "2020-01-31T12:00:00",
    "boolean": "true",
}

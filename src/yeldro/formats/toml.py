"""TOML files; every mistake is reported with its line, what was found and what was expected."""

from __future__ import annotations

import re
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime
from pathlib import Path
from typing import Any

from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import suggestion
from yeldro.formats.fields import KINDS, Field

_MOST_BYTES = 1_000_000
_PART = r"""(?:[A-Za-z0-9_-]+|"(?:[^"\\]|\\.)*"|'[^']*')"""
_KEY = re.compile(rf"\s*({_PART}(?:\s*\.\s*{_PART})*)\s*=")
_HEADER = re.compile(rf"\s*(\[\[?)\s*({_PART}(?:\s*\.\s*{_PART})*)\s*\]")
_IN_VALUE = re.compile(
    r'"""(?:\\.|[^\\])*?"""'
    r"|'''.*?'''"
    r'|"(?:\\.|[^"\\\n])*"'
    r"|'[^'\n]*'"
    r"|#[^\n]*|[\[\]{}]",
    re.DOTALL,
)

Path_ = tuple[str | int, ...]


@dataclass(frozen=True)
class TomlFile:
    """A file's values, and the line of each of them."""

    path: Path
    values: dict[str, Any]
    lines: Mapping[Path_, int] = field(repr=False)

    def mistake(self, at: Path_, problem: str, next_step: str = "") -> UsageError:
        """Return an error that names the file and the line of the value `at`, or of its holder."""
        while at and at not in self.lines:
            at = at[:-1]
        return UsageError(f"{self.path}, line {self.lines.get(at, 1)}: {problem}", next_step)

    def checked(self, at: Path_, fields: Sequence[Field], title: str) -> dict[str, Any]:
        """Return the table `at`, if every key in it is known and has a value of its kind.

        Args:
            title: how the file writes the table, such as `[[remove]]`.

        Raises:
            UsageError: a key is unknown or missing, or its value is of another kind.
        """
        table: Any = self.values
        for part in at:
            table = table[part]
        if not isinstance(table, dict):
            raise self.mistake(at, f"{title} is {_shown(table)}, not a table.")
        known = {field.name: field for field in fields}
        for name, value in table.items():
            if name not in known:
                raise self.mistake(
                    (*at, name),
                    f"the key {name!r} is not known in {title}.",
                    suggestion(name, known),
                )
            self._check_kind((*at, name), known[name], value)
        for each in fields:
            if each.required and each.name not in table:
                raise self.mistake(at, f"{title} has no {each.name!r}: {each.about}")
        return table

    def _check_kind(self, at: Path_, known: Field, value: Any) -> None:
        if not _is_of_kind(known.kind, value):
            raise self.mistake(
                at, f"{known.name!r} is {_shown(value)}; it must be {KINDS[known.kind]}."
            )
        if known.choices and value not in known.choices:
            raise self.mistake(
                at,
                f"{known.name!r} is {_shown(value)}; it must be one of {', '.join(known.choices)}.",
                suggestion(str(value), known.choices),
            )


def read_toml(path: Path) -> TomlFile:
    """Read a TOML file.

    Raises:
        UsageError: the file does not exist, is not TOML, or is far too large.
    """
    if path.exists() and not path.is_file():
        raise UsageError(f"{path} is no file, but a folder, a pipe or a device.", "Name a file.")
    try:
        with path.open("rb") as file:
            raw = file.read(_MOST_BYTES + 1)
        if len(raw) > _MOST_BYTES:
            raise UsageError(
                f"{path} is larger than {_MOST_BYTES:,} bytes.",
                "Check the file's name.",
            )
        text = raw.decode("utf-8-sig")
        return TomlFile(path, tomllib.loads(text), lines_in(text))
    except OSError as error:
        raise UsageError(f"The file {path} cannot be read: {error.strerror}.") from error
    except UnicodeDecodeError as error:
        raise UsageError(f"The file {path} is not UTF-8 text.") from error
    except (tomllib.TOMLDecodeError, RecursionError, ValueError) as error:
        place = re.search(r" \(at (?:line (\d+), column (\d+)|end of document)\)", str(error))
        line = f", line {place[1]}" if place and place[1] else ", at its end" if place else ""
        said = str(error)[: place.start()] if place else str(error)
        raise UsageError(f"{path}{line}: this is not TOML: {said}.") from error


def lines_in(text: str) -> dict[Path_, int]:
    """Return the line of each key and each table of a TOML text, counted from 1."""
    found: dict[Path_, int] = {}
    prefix: Path_ = ()
    numbers: dict[Path_, int] = {}
    for line, logical in _logical_lines(text):
        header, key = _HEADER.match(logical), _KEY.match(logical)
        if header:
            prefix = _placed(_parts(header[2]), numbers, new=header[1] == "[[")
            found.setdefault(prefix, line)
        elif key:
            path = prefix
            for part in _parts(key[1]):
                path = (*path, part)
                found.setdefault(path, line)
    return found


def _placed(parts: Sequence[str], numbers: dict[Path_, int], *, new: bool) -> Path_:
    """Return the path of a header, with the newest place in every list of tables on the way."""
    path: Path_ = ()
    for place, part in enumerate(parts):
        path = (*path, part)
        if new and place == len(parts) - 1:
            numbers[path] = numbers.get(path, -1) + 1
        if path in numbers:
            path = (*path, numbers[path])
    return path


def _parts(dotted: str) -> list[str]:
    return [next(iter(tomllib.loads(f"{part} = 1"))) for part in re.findall(_PART, dotted)]


def _logical_lines(text: str) -> Iterator[tuple[int, str]]:
    """Yield each key with its whole value, and each header, with the number of its first line."""
    start, line = 0, 1
    while start < len(text):
        end = _end_of_value(text, start)
        yield line, text[start:end]
        line += text.count("\n", start, end)
        start = end


def _end_of_value(text: str, start: int) -> int:
    """Return the end of the logical line at `start`; brackets and long strings hold line breaks."""
    depth, place = 0, start
    while True:
        newline = text.find("\n", place)
        newline = len(text) if newline < 0 else newline
        token = _IN_VALUE.search(text, place)
        if token is None or token.start() > newline:
            if depth <= 0 or newline == len(text):
                return min(newline + 1, len(text))
            place = newline + 1
            continue
        depth += {"[": 1, "{": 1, "]": -1, "}": -1}.get(token[0], 0)
        place = token.end()


def _is_of_kind(kind: str, value: Any) -> bool:
    whole = isinstance(value, int) and not isinstance(value, bool)
    if kind in ("texts", "columns", "compared"):
        return isinstance(value, str) or (
            isinstance(value, list) and all(isinstance(each, str) for each in value)
        )
    if kind == "rows by table":
        return isinstance(value, dict) and all(_is_of_kind("rows", v) for v in value.values())
    if kind == "tables":
        return isinstance(value, list) and all(isinstance(each, dict) for each in value)
    return {
        "text": isinstance(value, str),
        "flag": isinstance(value, bool),
        "count": whole and value >= 0,
        "number": (whole or isinstance(value, float)) and value >= 0,
        "rows": (whole and value >= 0) or isinstance(value, str),
        "value": isinstance(value, str | bool | int | float | date | datetime),
        "table": isinstance(value, dict),
    }[kind]


def _shown(value: Any) -> str:
    names = {bool: "true or false", dict: "a table", list: "a list"}
    if isinstance(value, bool):
        return str(value).lower()
    if isinstance(value, str):
        return f"the text {value[:60]!r}"
    return names.get(type(value)) or f"{str(value)[:60]} ({type(value).__name__})"

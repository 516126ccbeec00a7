"""Values and names as people see them; nothing stored in a database can control the terminal."""

from __future__ import annotations

import json
import math
import sys
import unicodedata
from collections.abc import Iterator, Mapping, Sequence
from typing import TYPE_CHECKING, Any
from urllib.parse import unquote

from yeldro.core.model.messages.names import counted

if TYPE_CHECKING:
    from yeldro.core.model.work.counts import Ledger
    from yeldro.core.model.work.given import Given

_MOST = 60
_INVISIBLE = {"Cc", "Cf", "Co", "Cs", "Cn", "Zl", "Zp"}


def asked_lines(asked: Sequence[Given]) -> Iterator[tuple[str, str]]:
    """Yield what was asked for: a label, and the values of that choice together."""
    several = len({each.remove for each in asked}) > 1
    texts: dict[str, list[str]] = {}
    for each in asked:
        label = f"{each.remove} {each.label}" if several else each.label
        texts.setdefault(label, []).append("NULL" if each.value is None else each.value)
    yield from ((label, ", ".join(listed)) for label, listed in texts.items())


def visible(text: str) -> str:
    """Return `text` with control, format and unassigned characters made visible."""
    if text.isascii() and text.isprintable():
        return text
    return "".join(_shown(character) for character in text)


def _shown(character: str) -> str:
    if unicodedata.category(character) not in _INVISIBLE:
        return character
    code = ord(character)
    if code < 0x20:
        return chr(0x2400 + code)
    return "␡" if code == 0x7F else f"⟨{code:04X}⟩"


def cell(value: Any, most: int | None = _MOST) -> str:
    """Return a value for a cell of a table.

    A value longer than `most` characters is cut in the middle, and its length is shown; None leaves
    it whole. Text that is empty, or reads NULL, stands in quotes, so that it is told apart from
    NULL without colour.
    """
    if value is None:
        return "NULL"
    if most is None:
        most = sys.maxsize
    if isinstance(value, bytes):
        shown = value if len(value) <= most // 2 else value[: most // 4]
        end = "" if shown is value else f"…{value[-(most // 4) :].hex()}"
        told = f" ({size(len(value))})" if end else ""
        return f"x'{shown.hex()}{end}'{told}"
    if value in ("", "NULL"):
        return f"'{value}'"
    text = json.dumps(plain(value)) if isinstance(value, list | dict) else str(value)
    if len(text) <= most:
        return visible(text)
    half = most // 2
    return f"{visible(text[:half])}…{visible(text[-half:])} ({len(text):,} characters)"


def pointed(place: Mapping[str, Any], width: int = 76) -> str:
    """Return a line that a user wrote, and under it marks at the place that is meant.

    Args:
        place: the line as "text", with "column" (from 1) and "length".
        width: of what is shown of the line, in characters.
    """
    text, column, length = str(place["text"]), int(place["column"]) - 1, int(place["length"])
    first = max(0, min(column - width // 2, len(text) - width))
    shown = text[first : first + width]
    plain = "".join(seen if len(seen) == 1 else "·" for seen in map(visible, shown))
    before = "…" if first else ""
    after = "…" if first + width < len(text) else ""
    marks = "^" * max(min(length, width - (column - first)), 1)
    return f"  {before}{plain}{after}\n  {' ' * (len(before) + column - first)}{marks}"


def short_name(shown: str) -> str:
    """Return a database's name for people: `buoys.db`, or `buoys on db.example`.

    Args:
        shown: its URL, without a password.
    """
    scheme, _, rest = shown.partition("://")
    place = rest.partition("?")[0]
    if scheme == "sqlite":
        path = unquote(rest)
        return path.rpartition("/")[2] or path
    host, _, name = place.rpartition("/")
    host = host.rpartition("@")[2]
    return f"{name} on {host}" if host else name


def size(number: int) -> str:
    """Return a number of bytes as people say it: `12 bytes`, `3.4 MB`; 1 kB is 1,000 bytes."""
    if number < 1000:
        return f"{number} byte" if number == 1 else f"{number} bytes"
    power = min((len(str(number)) - 1) // 3, 4)
    return f"{number / 1000**power:.1f} {' kMGT'[power]}B"


def duration(seconds: float) -> str:
    """Return a time as people say it: `0.2 s`, `42 s`, `3 min 5 s`, `2 h 10 min`."""
    if seconds < 10:
        return f"{seconds:.1f} s"
    whole = round(seconds)
    if whole < 60:
        return f"{whole} s"
    if whole < 3600:
        return f"{whole // 60} min {whole % 60} s"
    return f"{whole // 3600:,} h {whole % 3600 // 60} min"


def plain(value: Any) -> Any:
    """Return a value as JSON holds it."""
    if value is None or isinstance(value, bool | int | str):
        return value
    if isinstance(value, float):
        return value if math.isfinite(value) else str(value)
    if isinstance(value, bytes):
        return f"x'{value.hex()}'"
    if isinstance(value, list | tuple):
        return [plain(each) for each in value]
    if isinstance(value, dict):
        return {str(name): plain(each) for name, each in value.items()}
    return str(value)


def besides(ledger: Ledger) -> str:
    """Return what allowed triggers changed besides the steps, as a sentence; empty if nothing."""
    changed = sum(map(abs, ledger.unplanned.values()))
    if not changed:
        return ""
    return f"Allowed triggers also changed {counted(changed, 'row')}, which no restore undoes."


def held_against(ledger: Ledger) -> str:
    """Return what the counts of the steps were compared with, as a sentence."""
    if not ledger.counted and ledger.also_locked is None:
        return (
            "Each statement changed the planned number of rows; this system gives no count of "
            "its own to compare with, nor of what allowed triggers changed."
        )
    if not ledger.counted:
        others = ", ".join(sorted(ledger.also_locked or ()))
        return "Each statement changed the planned number of rows. This system counts nothing " + (
            "besides. Other tables were locked for writing too, as declared actions and triggers "
            f"do: {others}."
            if others
            else "besides; no other table of this database was locked for writing."
        )
    return besides(ledger) or "The ledger, the database's own count, agrees."

"""Finding what the user meant by a name, and numbers with their nouns."""

from __future__ import annotations

import difflib
import shlex
from collections.abc import Iterable


def nearest(wanted: str, known: Iterable[str], most: int = 3) -> list[str]:
    """Return the known names closest to `wanted`, best first, at most `most` of them."""
    folded = {name.casefold(): name for name in known}
    close = difflib.get_close_matches(wanted.casefold(), folded, n=most, cutoff=0.5)
    inside = [name for name in folded if wanted.casefold() in name and name not in close]
    return [folded[name] for name in (close + inside)[:most]]


def suggestion(wanted: str, known: Iterable[str]) -> str:
    """Return a sentence that names the nearest known names, or all of them where none is near."""
    names = list(known)
    close = nearest(wanted, names)
    if close:
        return f"Did you mean {' or '.join(close)}?"
    if not names:
        return ""
    shown = ", ".join(sorted(names)[:12])
    return f"Known names: {shown}{', …' if len(names) > 12 else ''}."


def as_typed(word: str) -> str:
    """Return a word as people type it in a shell: in double quotes where it holds single ones."""
    return f'"{word}"' if "'" in word and not set(word) & set('"$`\\!') else shlex.quote(word)


def one_line(text: str) -> str:
    """Return the text on one line, without characters that cannot be seen."""
    return "".join(each if each.isprintable() else " " for each in text)


def same_name(wanted: str, known: Iterable[str]) -> str | None:
    """Return `wanted` as `known` spells it: the same, or the one name that differs in case."""
    names = list(known)
    if wanted in names:
        return wanted
    alike = [name for name in names if name.casefold() == wanted.casefold()]
    return alike[0] if len(alike) == 1 else None


def counted(number: int, one: str, many: str = "") -> str:
    """Return a number with its noun: `1 row`, `1,200 rows`."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def told_rows(number: int, table: object, one: str, many: str) -> str:
    """Return a number of rows and what is said of them, as in `1 row of buoy is`."""
    return counted(number, f"row of {table} {one}", f"rows of {table} {many}")

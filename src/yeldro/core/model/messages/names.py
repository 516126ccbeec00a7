"""Finding what the user meant by a name, and numbers with their nouns."""

from __future__ import annotations

import difflib
import re
import shlex
import string
from collections.abc import Iterable

from yeldro.core.model.messages.machine import ON_WINDOWS

_PLAIN = frozenset(f"{string.ascii_letters}{string.digits}_-./:=,\\")
_IN_QUOTES = r'"(?:[^"]|"")+"'
_PARTS = re.compile(rf'(?:{_IN_QUOTES}|[^".]+)(?:\.(?:{_IN_QUOTES}|[^".]+))*')
_PART = re.compile(rf'{_IN_QUOTES}|[^".]+')


def nearest(wanted: str, known: Iterable[str], most: int = 3) -> list[str]:
    """Return the known names closest to `wanted`, best first, at most `most` of them."""
    folded = {name.casefold(): name for name in known}
    close = difflib.get_close_matches(wanted.casefold(), folded, n=most, cutoff=0.6)
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
    return f"Known names: {shown}{f' and {len(names) - 12:,} more' if len(names) > 12 else ''}."


def as_typed(word: str) -> str:
    """Return a word as people type it in a shell: in double quotes where it holds single ones.

    On Windows always in double ones, as one of its shells knows no others.
    """
    if ON_WINDOWS:
        return word if word and set(word) <= _PLAIN else '"{}"'.format(word.replace('"', '\\"'))
    return f'"{word}"' if "'" in word and not set(word) & set('"$`\\!') else shlex.quote(word)


def one_line(text: str) -> str:
    """Return the text on one line, without characters that cannot be seen."""
    return "".join(each if each.isprintable() else " " for each in text)


def same_name(wanted: str, known: Iterable[str]) -> str | None:
    """Return `wanted` as `known` spells it: the same, or the one name that differs in case.

    A name in double quotes, as in SQL, means the name without them, unless it has them itself.
    """
    names = list(known)
    if wanted in names:
        return wanted
    alike = [name for name in names if name.casefold() == wanted.casefold()]
    bare = unquoted(wanted)
    if not alike and bare != wanted:
        return same_name(bare, names)
    return alike[0] if len(alike) == 1 else None


def unquoted(name: str) -> str:
    """Return a name, or names with dots between them, without the double quotes of SQL."""
    if '"' not in name or not _PARTS.fullmatch(name):
        return name
    parts = _PART.findall(name)
    return ".".join(
        part[1:-1].replace('""', '"') if part.startswith('"') else part for part in parts
    )


def listed(text: str, separator: str = ",") -> list[str]:
    """Return the parts of a list; a separator within double quotes is part of a name."""
    found, start, inside = [], 0, False
    for place, character in enumerate(text):
        if character == '"':
            inside = not inside
        elif character == separator and not inside:
            found.append(text[start:place])
            start = place + 1
    if inside and separator in text[start:]:  # a quote that is not closed is part of a name
        return [part.strip() for part in text.split(separator)]
    return [part.strip() for part in (*found, text[start:])]


def listed_values(text: str) -> list[str]:
    """Return the parts of a list of names and expressions, which commas separate.

    A comma within brackets or any quotes is part of an expression; where one of them is left open,
    it is part of a name.
    """
    found, start, depth, quote = [], 0, 0, ""
    for place, character in enumerate(text):
        if quote:
            quote = "" if character == quote else quote
        elif character in "\"'`":
            quote = character
        elif character in "([":
            depth += 1
        elif character in ")]":
            depth -= 1
        elif character == "," and depth <= 0:
            found.append(text[start:place])
            start = place + 1
    if quote or depth > 0:
        return listed(text)
    return [part.strip() for part in (*found, text[start:])]


def as_listed(name: str) -> str:
    """Return a name as it stands in a list with commas: in double quotes where it needs them."""
    plain = unquoted(name) == name and not set(name) & set(',"') and name == name.strip()
    return name if plain else '"' + name.replace('"', '""') + '"'


def counted(number: int, one: str, many: str = "") -> str:
    """Return a number with its noun: `1 row`, `1,200 rows`."""
    return f"{number:,} {one if number == 1 else many or one + 's'}"


def told_rows(number: int, table: object, one: str, many: str) -> str:
    """Return a number of rows and what is said of them, as in `1 row of buoy is`."""
    return counted(number, f"row of {table} {one}", f"rows of {table} {many}")

"""Find the names in the text of triggers and routines, without parsing it.

Strings and comments are not recognised, and a quote inside one must not hide the names after it. So
a name is looked for at every word and at every quote: too many are found, never too few.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import cache


def names_in(text: str, quotes: str) -> Iterator[tuple[str, str]]:
    """Yield pairs of a qualifier and a name, as written; the qualifier is empty if there is none.

    Args:
        quotes: the characters that can enclose a name.
    """
    for found in _pattern(quotes).finditer(text):
        if not _is_after_dot(text, found.start()):
            yield found[1] or "", found[2]
        elif found[1]:  # the second of three
            yield found[1], found[2]


def unquoted(name: str) -> str:
    """Return a name without the quotes that it is written in."""
    quote = name[:1]
    return name[1:-1].replace(quote * 2, quote) if quote in ('"', "`") else name


def is_quoted(name: str) -> bool:
    """True if a name is written in quotes."""
    return name[:1] in ('"', "`")


@cache
def _pattern(quotes: str) -> re.Pattern[str]:
    enclosed = [f"{quote}(?:[^{quote}]|{quote}{quote})+{quote}" for quote in quotes]
    name = "|".join([*enclosed, r"(?<![\w$])[\w$]+"])
    return re.compile(rf"(?=(?:({name})\s*\.\s*)?({name}))")


def _is_after_dot(text: str, place: int) -> bool:
    if place and text[place - 1] in ('"', "`"):
        place -= 1
    while place and text[place - 1].isspace():
        place -= 1
    return text[place - 1 : place] == "."

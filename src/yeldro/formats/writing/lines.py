"""Lines that are short enough for the client that reads a script."""

from __future__ import annotations

import re

_MOST = 2_400  # SQL*Plus takes lines of up to 2,499 characters (error SP2-0027)
_UNITS = re.compile(r"""'(?:[^']|'')*'|"(?:[^"]|"")*"|[^'" ]+|\s+""")


def with_short_lines(text: str) -> str:
    """Return a script for Oracle's client, whose lines are broken between words."""
    return "\n".join(part for line in text.split("\n") for part in _parts(line))


def _parts(line: str) -> list[str]:
    if len(line) <= _MOST:
        return [line]
    if line.startswith("--"):
        return [f"-- {line[at : at + _MOST]}".replace("-- --", "--")
                for at in range(0, len(line), _MOST)]  # fmt: skip
    parts = [""]
    for unit in _UNITS.findall(line):
        # A line that ends with a minus sign would go on in the next one without it.
        breaks = unit.isspace() and len(parts[-1]) > _MOST // 2 and not parts[-1].endswith("-")
        if breaks:
            parts.append("")
        else:
            parts[-1] += unit
    return parts

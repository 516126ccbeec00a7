"""Statements and saved queries of Access, written so that a parser of T-SQL reads them.

Dates stand between number signs with the month first, text between quotes of either kind, names
between brackets (Access SQL reference, "Delete statement", "Like operator", "Date literals").
"""

from __future__ import annotations

import re
from datetime import date, datetime

from yeldro.core.model.errors import UsageError

_TOKEN = re.compile(
    r"""(?P<text>"(?:[^"]|"")*"|'(?:[^']|'')*')|(?P<name>\[[^\]]*\])|(?P<day>\#[^#\n]*\#)
    |(?P<word>[^\W\d]\w*)|(?P<other>\d+(?:\.\d+)?|\s+|<>|<=|>=|.)""",
    re.VERBOSE | re.DOTALL,
)
_DAY = re.compile(
    r"(?:(\d{1,2})/(\d{1,2})/(\d{4})|(\d{4})-(\d{1,2})-(\d{1,2}))"
    r"(?:\s+(\d{1,2}):(\d{2})(?::(\d{2}))?\s*([AP]M)?)?",
    re.IGNORECASE,
)
_WORDS = {
    "TRUE": "(-1)", "YES": "(-1)", "FALSE": "0", "NO": "0", "DISTINCTROW": "",
    "LCASE": "LOWER", "UCASE": "UPPER", "MID": "SUBSTRING", "NZ": "ISNULL",
    "DATESERIAL": "DATEFROMPARTS",
}  # fmt: skip
_UNITS = {"yyyy": "year", "q": "quarter", "m": "month", "d": "day", "y": "day", "ww": "week",
          "h": "hour", "n": "minute", "s": "second"}  # fmt: skip
_SIGNS = {"*": "%", "?": "_", "#": "[0-9]", "%": "[%]", "_": "[_]"}


def as_tsql(text: str) -> str:
    """Return statements of Access in T-SQL, as far as the words go.

    What they mean is for the one who reads the tree.

    Raises:
        UsageError: a part of them cannot be given here; its line is named.
    """
    text, parameters = _without_parameters(text)
    tokens = [(found.lastgroup or "other", found[0]) for found in _TOKEN.finditer(text)]
    written: list[str] = []
    line = 1
    for place, (kind, token) in enumerate(tokens):
        before = _word_before(tokens, place)
        bare = token[1:-1] if kind == "name" else token
        if token == "!" or (kind == "name" and bare.lower() in ("forms", "tempvars")):
            raise UsageError(
                f"Line {line}: it takes a value from a form, and there is none here.",
                "Write :name in its place, and give it with ‹param› name=value.",
            )
        if kind in ("word", "name") and bare.lower() in parameters:
            written.append(f":{bare}")
        elif kind == "text":
            value = token[1:-1].replace(token[0] * 2, token[0])
            written.append(_text(value, before, _function_around(tokens, place)))
        elif kind == "day":
            written.append(_day(token, line))
        elif kind == "word":
            written.append(_word(tokens, place))
        else:
            written.append(token)
        line += token.count("\n")
    return _without_stars(_nullness("".join(written)))


def _without_parameters(text: str) -> tuple[str, frozenset[str]]:
    """Return the text without the line that declares parameters, and their names."""
    found = re.match(r"\s*PARAMETERS\s+([^;]*);", text, re.IGNORECASE)
    if not found:
        return text, frozenset()
    names = [re.match(r"\s*(?:\[([^\]]*)\]|(\w+))", each) for each in found[1].split(",")]
    listed = frozenset((name[1] or name[2]).lower() for name in names if name)
    return "\n" * found[0].count("\n") + text[found.end() :], listed


def _word_before(tokens: list[tuple[str, str]], place: int) -> str:
    for kind, token in reversed(tokens[:place]):
        if not token.isspace():
            return token.upper() if kind == "word" else token
    return ""


def _function_around(tokens: list[tuple[str, str]], place: int) -> str:
    """Return the function whose first argument a token is; empty if it is none."""
    listed = [token for _, token in tokens[:place] if not token.isspace()]
    return listed[-2].upper() if len(listed) > 1 and listed[-1] == "(" else ""


def _text(value: str, before: str, function: str) -> str:
    if function in ("DATEADD", "DATEDIFF", "DATEPART") and value.lower() in _UNITS:
        return _UNITS[value.lower()]
    if before == "LIKE":
        value = _pattern(value)
    return "'" + value.replace("'", "''") + "'"


def _pattern(value: str) -> str:
    """Return a pattern of Access with the signs that T-SQL has for the same."""
    written, inside = "", False
    for each in value:
        if inside:
            written += "^" if each == "!" and written.endswith("[") else each
            inside = each != "]"
        else:
            written += _SIGNS.get(each, each)
            inside = each == "["
    return written


def _day(token: str, line: int) -> str:
    found = _DAY.fullmatch(token[1:-1].strip())
    try:
        if found is None:
            raise ValueError
        month, day, year, iso_year, iso_month, iso_day, hour, minute, second, half = found.groups()
        parts = (year, month, day) if year else (iso_year, iso_month, iso_day)
        at = date(*map(int, parts))
        if hour is None:
            return f"CAST('{at.isoformat()}' AS DATETIME)"
        hours = int(hour) % 12 + (12 if half.upper() == "PM" else 0) if half else int(hour)
        moment = datetime(at.year, at.month, at.day, hours, int(minute), int(second or 0))
        return f"CAST('{moment.isoformat(' ')}' AS DATETIME)"
    except ValueError as error:
        raise UsageError(
            f"Line {line}: {token} is no date with the month first.",
            "Write it as #1/31/2022# or #2022-01-31#.",
        ) from error


def _word(tokens: list[tuple[str, str]], place: int) -> str:
    word = tokens[place][1]
    after = [token for _, token in tokens[place + 1 :] if not token.isspace()][:2]
    called = after[:1] == ["("]
    upper = word.upper()
    if upper in ("DATE", "NOW") and called and after[1:] == [")"]:
        return "YELDRO_TODAY" if upper == "DATE" else "GETDATE"
    if upper == "ON" or (upper in ("TRUE", "FALSE", "YES", "NO") and called):
        return word
    return _WORDS.get(upper, word) if upper in _WORDS and (
        called or upper not in ("LCASE", "UCASE", "MID", "NZ", "DATESERIAL")
    ) else word  # fmt: skip


def _nullness(text: str) -> str:
    """Turn `IsNull(x)` into `(x IS NULL)`, and today into what T-SQL calls it."""
    text = text.replace("YELDRO_TODAY()", "CAST(GETDATE() AS DATE)")
    pattern = re.compile(r"\bISNULL\s*\(([^(),']*(?:\([^()]*\))?[^(),']*)\)", re.IGNORECASE)
    return pattern.sub(lambda found: f"({found[1]} IS NULL)", text)


def _without_stars(text: str) -> str:
    """Leave out the star, or the star of a table, that says that whole rows go."""
    text = re.sub(r"\b(DELETE\s+)\*(\s*FROM\b)", r"\1 \2", text, flags=re.IGNORECASE)
    return re.sub(
        r"\b(DELETE\s+(?:\[[^\]]*\]|\w+))\s*\.\s*\*(\s*FROM\b)", r"\1  \2", text,
        flags=re.IGNORECASE,
    )  # fmt: skip

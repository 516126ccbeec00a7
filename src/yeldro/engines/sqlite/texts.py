"""Texts of SQLite that are not valid in their encoding, and functions on text that Yeldro adds."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from hashlib import sha256
from typing import Any


class UndecodableText(bytes):
    """The bytes of a text that is not valid UTF-8; `seen` is set once there has been any."""

    seen = False


def decoded(raw: bytes) -> str | UndecodableText:
    try:
        return raw.decode()
    except UnicodeDecodeError:
        UndecodableText.seen = True
        return UndecodableText(raw)


def well_formed(codec: str) -> Callable[[Any, bytes], Any]:
    """Return a function that gives a value back, but fails on a text that SQLite's UTF-8 changes.

    SQLite reads two characters of UTF-8 as U+FFFD (sqlite.org/src/file/src/utf.c, READ_UTF8).
    """

    def checked(value: Any, raw: bytes) -> Any:
        if isinstance(value, str) and not {"\ufffe", "\uffff"}.isdisjoint(raw.decode(codec)):
            raise ValueError(value)
        return value

    return checked


def without_case(value: Any) -> Any:
    return value.casefold() if isinstance(value, str) else value


def bytes_of(value: Any) -> Any:
    return bytes(value) if isinstance(value, UndecodableText) else value


def forms_of(row: Sequence[Any]) -> str | None:
    forms = {place: "text" for place, v in enumerate(row) if isinstance(v, UndecodableText)}
    return json.dumps(forms) if forms else None


def hashed(before: str, *told: str | int | float | bytes | None) -> str:
    """Return the SHA-256 hash of some more values, in hexadecimal digits.

    Args:
        before: the hash of the values before them, empty for the first.
        told: by turns the type of a value, as SQLite's `typeof` names it, and the value; text as
            bytes.
    """
    whole = sha256(before.encode())
    for kind, value in zip(told[::2], told[1::2], strict=True):
        written = value if isinstance(value, bytes) else repr(value).encode()
        whole.update(f"{kind!r} {len(written)} ".encode() + written)
    return whole.hexdigest()

"""An encoding for all text that MariaDB holds.

MariaDB can hold half of a surrogate pair, which is not valid UTF-8. Such text is read as Python
holds it, and a receipt keeps its bytes.
"""

from __future__ import annotations

import codecs
from typing import Any

ENCODING = "yeldro-utf8"


class HalfPairs:
    """Notes if any text with half of a surrogate pair has been read."""

    seen = False


def _decode(data: Any, errors: str = "strict") -> tuple[str, int]:
    del errors
    try:
        return codecs.utf_8_decode(data, "strict", True)
    except UnicodeDecodeError:
        HalfPairs.seen = True
        return codecs.utf_8_decode(data, "surrogatepass", True)


def _find(name: str) -> codecs.CodecInfo | None:
    if name != ENCODING.replace("-", "_"):
        return None
    return codecs.CodecInfo(codecs.utf_8_encode, _decode, name=ENCODING)


codecs.register(_find)

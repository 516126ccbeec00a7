"""The answer to a shell that asks how a line can go on."""

from __future__ import annotations

import os
import sys

from yeldro.completion.asked import Asked
from yeldro.completion.line import Line
from yeldro.completion.offered import goes_on, offered

_PLAIN = set("abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789_./,:=+@%^-")
ENDS, GOES_ON = "end", "on"  # the first line of an answer: a blank follows the word, or not


def answer(shell: str, text: str, breaks: str = "") -> list[str]:
    """Return the lines of an answer: if the word ends there, and what it can be.

    Args:
        shell: `bash`, `zsh` or `fish`; the last two get what it means after a tab.
        text: the line up to the cursor.
        breaks: the characters at which the line editor of bash ends what it replaces.
    """
    line = Line(text, breaks)
    if not line.words:
        return []
    asked = Asked(line.words, line.current)
    found = offered(asked)
    on = any(goes_on(asked, text) for text, _ in found)
    first = GOES_ON if on else ENDS
    if shell == "bash":
        found = [(each, "") for text, _ in found if (each := _for_bash(text, line)) is not None]
    if len(found) == 1 and line.quote and on and shell != "zsh":
        found.append((f"{found[0][0]} ", ""))  # of one alone the shell would close the quote
    if shell == "bash":
        return [first, *(text for text, _ in found)]
    return [first, *(f"{text}\t{about}" if about else text for text, about in found)]


def _for_bash(text: str, line: Line) -> str | None:
    """Return what replaces the text from the last break or the open quote on; None if it cannot."""
    if line.quote == "'":
        return None if "'" in text else text[line.before_quote :]
    if line.quote:
        rest = text[line.before_quote :]
        return "".join(f"\\{each}" if each in '"\\$`' else each for each in rest)
    rest = text[line.before_break :]
    return "".join(each if each in _PLAIN or ord(each) > 127 else f"\\{each}" for each in rest)


def print_answer(words: list[str]) -> None:
    """Print the answer for these words: the shell, the line up to the cursor, the breaks."""
    try:
        lines = answer(*words[:3])
        sys.stdout.write("".join(f"{line}\n" for line in lines))
        sys.stdout.flush()
    except Exception:
        return  # a completion is silent
    finally:
        os._exit(0)  # nothing is left to be cleaned up, and that takes time

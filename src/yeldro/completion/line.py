"""A command line that is being typed, cut into words as a shell cuts it."""

from __future__ import annotations

_ENDS = "|;&\n("
_BLANKS = " \t"


class Line:
    """The words of the last command on a line, up to the cursor.

    Attributes:
        words: the values of the words before the one at the cursor; the first is the program.
        current: the value of the word at the cursor, as far as it is typed.
        quote: the quote that is open at the cursor; empty if none is.
        before_quote: the length of `current` before that quote.
        before_break: the length of `current` up to the last break outside quotes.
    """

    def __init__(self, text: str, breaks: str = "") -> None:
        """Cut a line.

        Args:
            text: the line up to the cursor.
            breaks: the characters at which the shell's line editor ends what it replaces.
        """
        self.words: list[str] = []
        self.current = self.quote = ""
        self._start()
        place, began = 0, False
        while place < len(text):
            character = text[place]
            following = text[place + 1 : place + 2]
            if self.quote == "'":
                began = self._in_single(character)
            elif character == "\\" and (not self.quote or following in '"\\$`'):
                self.current, began = self.current + following, True
                place += 1
            elif self.quote:
                self._in_double(character)
            elif character in "'\"":
                self.quote, self.before_quote, began = character, len(self.current), True
            elif character in _ENDS:
                self.words = []
                self._start()
                began = False
            elif character in _BLANKS:
                if began:
                    self.words.append(self.current)
                self._start()
                began = False
            else:
                self.current, began = self.current + character, True
                if character in breaks:
                    self.before_break = len(self.current)
            place += 1
        while self.words and "=" in self.words[0]:
            del self.words[0]  # variables that are set for the command

    def _start(self) -> None:
        self.current, self.quote = "", ""
        self.before_quote = self.before_break = 0

    def _in_single(self, character: str) -> bool:
        if character == "'":
            self.quote = ""
        else:
            self.current += character
        return True

    def _in_double(self, character: str) -> None:
        if character == '"':
            self.quote = ""
        else:
            self.current += character

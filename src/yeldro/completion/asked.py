"""What is asked for at the cursor: a command, an option, or a value of some kind."""

from __future__ import annotations

from yeldro.completion.known import COMMANDS, GROUPS, OPTIONS


class Asked:
    """What the word at the cursor can be, and what the words before it say.

    Attributes:
        command: the name of the command, such as `receipt show`; empty if it is not known yet.
        kind: of the word: `command`, `option`, or one of the kinds in `known`.
        typed: the part of the word that is completed.
        prefix: the part of the word that stands before it.
        arguments: those before the cursor.
        given: the values of the options before the cursor, by name.
    """

    def __init__(self, words: list[str], current: str) -> None:
        self.command, self.kind = "", "command"
        self.typed, self.prefix = current, ""
        self.arguments: list[str] = []
        self.given: dict[str, list[str]] = {}
        rest = words[1:]
        if not rest or rest[0] not in {*COMMANDS, *GROUPS}:
            self.kind = "option" if current.startswith("-") else "command" if not rest else ""
            return
        self.command = rest.pop(0)
        if self.command in GROUPS:
            if not rest:
                return
            self.command += f" {rest.pop(0)}"
            if self.command not in COMMANDS:
                self.kind = ""
                return
        waiting = self._read(rest)
        if waiting:
            self.kind = OPTIONS[waiting][0]
        elif current.startswith("--") and "=" in current and not self._ended:
            name, _, self.typed = current.partition("=")
            self.prefix = f"{name}="
            self.kind = OPTIONS[name][0] if name in self.options else ""
        elif current.startswith("-") and not self._ended:
            self.kind = "option"
        else:
            taken = COMMANDS[self.command][0]
            place = len(self.arguments)
            self.kind = taken[place] if place < len(taken) else ""

    @property
    def options(self) -> tuple[str, ...]:
        """The options that the command has."""
        return COMMANDS[self.command][1] if self.command in COMMANDS else ()

    @property
    def table(self) -> str:
        """The table that the command is about; empty if none is named yet."""
        taken = COMMANDS[self.command][0] if self.command in COMMANDS else ()
        for kind, value in zip(taken, self.arguments, strict=False):
            if kind in ("what", "table") and not value.endswith((".toml", ".json")):
                return value
        named = self.given.get("--only", self.given.get("--table", []))
        return named[-1] if named else ""

    @property
    def file(self) -> str:
        """The cleanup file that the command is about; empty if there is none."""
        return next((each for each in self.arguments if each.endswith(".toml")), "")

    def last(self, option: str) -> str:
        """Return the last value of an option; empty if it was not given."""
        return self.given.get(option, [""])[-1]

    def _read(self, words: list[str]) -> str:
        """Read words; return the option whose value is still to come."""
        waiting, self._ended = "", False
        for word in words:
            if waiting:
                self.given.setdefault(waiting, []).append(word)
                waiting = ""
            elif word == "--" and not self._ended:
                self._ended = True
            elif word.startswith("-") and word != "-" and not self._ended:
                name, equals, value = word.partition("=")
                name = "--output" if name == "-o" else name
                if name not in self.options:
                    continue
                if equals:
                    self.given.setdefault(name, []).append(value)
                elif OPTIONS[name][0] == "flag":
                    self.given.setdefault(name, [])
                else:
                    waiting = name
            else:
                self.arguments.append(word)
        return waiting

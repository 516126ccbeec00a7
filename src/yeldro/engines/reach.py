"""What code in a database can set in motion: everything it names, and what that names in turn.

Nothing is executed, and no text is parsed: a name in a text counts as used. So too much is found,
never too little; what cannot be read, or is put together while it runs, is named as unknown.
"""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Generic, TypeVar

Name = TypeVar("Name", bound=Hashable)


@dataclass(frozen=True)
class Code:
    """A text that names what it uses: a body, a query, an expression, or a list of names.

    Args:
        text: as the catalogue holds it.
        place: where its bare names are looked for.
        effects: what is known of it besides, in names for people, that cannot be rolled back.
    """

    text: str
    place: str = ""
    effects: tuple[str, ...] = ()


@dataclass(frozen=True)
class CodeInDatabase(Generic[Name]):
    """All code of a database, by the names under which other code uses it.

    Args:
        code: what runs, or is reached, when a name is used: routines, triggers of a table, a view's
            query, the parts of a table.
        lasting: names whose use cannot be rolled back or counted, with how people know them.
        names_in: returns the names that a piece of code may use.
    """

    code: Mapping[Name, Sequence[Code]]
    lasting: Mapping[Name, Sequence[str]]
    names_in: Callable[[Code], Iterable[Name]]

    def lasting_effects(self, start: Code) -> Iterator[str]:
        """Yield what can be reached from some code and cannot be rolled back, each once."""
        told: set[str] = set()
        seen: set[Code] = set()
        waiting = [start]
        while waiting:
            each = waiting.pop()
            if each in seen:
                continue
            seen.add(each)
            found = list(each.effects)
            for name in self.names_in(each):
                found += self.lasting.get(name, ())
                waiting += self.code.get(name, ())
            for effect in found:
                if effect not in told:
                    told.add(effect)
                    yield effect

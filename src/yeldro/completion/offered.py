"""What can stand at the cursor, by kind: pairs of a text and what it means."""

from __future__ import annotations

import os

from yeldro.completion.known import COMMANDS, DIALECTS, OPTIONS, RULES, SHELLS, TOPICS
from yeldro.completion.live import Names
from yeldro.completion.places import Places

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Iterable, Iterator
    from typing import TypeAlias

    from yeldro.completion.asked import Asked

    Offers: TypeAlias = Iterable[tuple[str, str]]


def offered(asked: Asked) -> list[tuple[str, str]]:
    """Return what can stand at the cursor, each as the whole word, with what it means.

    A text that ends with `=`, `:` or `/` is to be gone on with.
    """
    before, typed = asked.prefix, asked.typed
    known = _Known(asked)
    offers = getattr(known, f"of_{asked.kind.replace(' ', '_')}", known.of_nothing)
    kind = asked.kind
    if kind in ("columns", "order", "rule", "sql", "pairs"):
        head, typed = _cut(kind, typed)
        before += head
    found = [(text, about) for text, about in offers(typed) if text.isprintable()]
    exact = [pair for pair in found if pair[0].startswith(typed)]
    if not exact:
        exact = [pair for pair in found if pair[0].casefold().startswith(typed.casefold())]
    unique = dict.fromkeys(text for text, _ in exact)
    about = dict(reversed(exact))
    return [(before + text, about[text]) for text in unique if before + text != asked.prefix]


def goes_on(asked: Asked, text: str) -> bool:
    """True if more can follow this text in the same word."""
    return text.endswith(("=", ":", "/")) or asked.kind in ("columns", "order", "sql", "pairs") or (
        asked.kind == "rule" and ":" in text
    )  # fmt: skip


def _cut(kind: str, typed: str) -> tuple[str, str]:
    """Return the part of a value that stays, and the name at its end that is completed."""
    if kind == "sql":
        start = len(typed)
        while start and (typed[start - 1].isalnum() or typed[start - 1] == "_"):
            start -= 1
        return typed[:start], typed[start:]
    separators = {"columns": ",", "pairs": ":,=", "order": ", ", "rule": ":, "}[kind]
    start = max(typed.rfind(separator) for separator in separators) + 1
    return typed[:start], typed[start:]


class _Known:
    """The offers for one line."""

    def __init__(self, asked: Asked) -> None:
        self.asked = asked
        self._places: Places | None = None
        self._names: Names | None = None

    @property
    def places(self) -> Places:
        self._places = self._places or Places()
        return self._places

    @property
    def names(self) -> Names:
        if self._names is None:
            typed = self.asked.last("--into") or self.asked.last("--db")
            self._names = Names(self.places.url(typed))
        return self._names

    def of_nothing(self, typed: str) -> Offers:
        """Offer nothing: a number, a day, a name that is new."""
        del typed
        return ()

    def of_command(self, typed: str) -> Offers:
        del typed
        if self.asked.command:
            inner = f"{self.asked.command} "
            return [(name[len(inner) :], about) for name, (_, _, about) in COMMANDS.items()
                    if name.startswith(inner)]  # fmt: skip
        alone = [(name, about) for name, (_, _, about) in COMMANDS.items() if " " not in name]
        return alone

    def of_option(self, typed: str) -> Offers:
        del typed
        again = {name for name in self.asked.given if not OPTIONS[name][1]}
        if not self.asked.command:
            return [("--help", "Show the commands."), ("--version", "Show the version.")]
        own = [(name, OPTIONS[name][2]) for name in self.asked.options if name not in again]
        return [*own, ("--help", "Show what the command does.")]

    def of_table(self, typed: str) -> Offers:
        del typed
        return [(name, "table") for name in self.names.tables(views=False)]

    def of_what(self, typed: str) -> Iterator[tuple[str, str]]:
        if "/" not in typed:
            yield from ((name, "table") for name in self.names.tables())
        for path, about in self._paths(typed):
            if path.endswith((".toml", ".json", "/")) and os.path.basename(path) != "yeldro.toml":
                yield path, about

    def of_columns(self, typed: str) -> Offers:
        del typed
        return [(_listed(name), about) for name, about in self._columns()]

    def of_order(self, typed: str) -> Iterator[tuple[str, str]]:
        del typed
        for name, about in self._columns():
            if name.isidentifier():
                yield name, about
        yield from (("asc", "smallest first"), ("desc", "largest first"))

    def of_rule(self, typed: str) -> Offers:
        del typed
        before = self.asked.typed
        if ":" not in before:
            return RULES
        return self.of_order("") if before.startswith("order:") else self.of_columns("")

    def of_sql(self, typed: str) -> Offers:
        before = self.asked.typed[: len(self.asked.typed) - len(typed)]
        if before.count("'") % 2 or before.endswith(":"):
            return self._parameters_in() if before.endswith(":") else ()
        return [(name, about) for name, about in self._columns() if name.isidentifier()]

    def of_pairs(self, typed: str) -> Offers:
        before = self.asked.typed[: len(self.asked.typed) - len(typed)]
        if not before:
            return [(name, "table") for name in self.names.tables()]
        other = self.asked.typed.partition(":")[0]
        own = other if before.endswith("=") else self.asked.table
        return [(name, about) for name, about in self.names.columns(own)]

    def of_dependents(self, typed: str) -> Iterator[tuple[str, str]]:
        del typed
        yield "all", "every foreign key that blocks"
        keys = self.names.foreign_keys()
        for child in dict.fromkeys(child for child, _, _ in keys):
            yield child, "table"
        for child, columns, parent in keys:
            yield f"{child}.{columns}", f"references {parent}"

    def of_foreign_key(self, typed: str) -> Offers:
        del typed
        own = self.asked.table
        return [(f"{child}.{columns}", f"references {parent}")
                for child, columns, parent in self.names.foreign_keys()
                if child == own or not own]  # fmt: skip

    def of_trigger(self, typed: str) -> Offers:
        del typed
        return [(name, f"on {table}") for name, table in self.names.triggers()]

    def of_expectation(self, typed: str) -> Iterator[tuple[str, str]]:
        if "=" not in typed:
            yield "total=", "rows of all tables"
            yield from ((f"{name}=", "rows of this table") for name in
                        self.names.tables(views=False))  # fmt: skip

    def of_database(self, typed: str) -> Iterator[tuple[str, str]]:
        yield from self.places.databases.items()
        if "://" not in typed:
            yield from self._paths(typed)

    def of_parameter(self, typed: str) -> Offers:
        del typed
        return self._parameters_in()

    def of_value(self, typed: str) -> Offers:
        return [(f"{name}=", about) for name, about in self._parameters_in() if "=" not in typed]

    def of_dialect(self, typed: str) -> Offers:
        del typed
        return [(name, "") for name in DIALECTS]

    def of_shell(self, typed: str) -> Offers:
        del typed
        return [(name, "") for name in SHELLS]

    def of_topic(self, typed: str) -> Offers:
        del typed
        return [*TOPICS, *((name, about) for name, (_, _, about) in COMMANDS.items()
                           if " " not in name)]  # fmt: skip

    def of_receipt(self, typed: str) -> Iterator[tuple[str, str]]:
        yield "last", "the newest one"
        folder = self.asked.last("--receipts") or self.places.receipts
        for name in sorted(_listing(folder), reverse=True):
            parts = name.removesuffix(".receipt.sqlite").split("-")
            if name.endswith(".receipt.sqlite") and len(parts) > 3:
                day, time = parts[0], parts[1]
                when = f"{day[:4]}-{day[4:6]}-{day[6:]} {time[:2]}:{time[2:4]}"
                yield parts[-1], f"{when} {'-'.join(parts[2:-1])}"
        if "/" in typed:
            yield from self._paths(typed)

    def of_file(self, typed: str) -> Offers:
        return self._paths(typed)

    def of_folder(self, typed: str) -> Offers:
        return [(path, about) for path, about in self._paths(typed) if path.endswith("/")]

    def _columns(self) -> Offers:
        table = self.asked.table
        return self.names.columns(table) if table else ()

    def _parameters_in(self) -> Offers:
        """Return the parameters that the file declares, or that the filter uses."""
        if not self.asked.file:
            return [(name, "in --where") for name in _used_in(self.asked.last("--where"))]
        try:
            with open(self.asked.file, encoding="utf-8") as file:
                lines = [line.strip() for line in file]
        except (OSError, UnicodeDecodeError):
            return ()
        return [(line[7:-1], "in the file") for line in lines
                if line.startswith("[param.") and line.endswith("]")]  # fmt: skip

    def _paths(self, typed: str) -> Iterator[tuple[str, str]]:
        """Yield the files and folders whose path begins as typed."""
        shown, _, start = typed.rpartition("/")
        shown += "/" if "/" in typed else ""
        folder = os.path.expanduser(shown) or "."
        for name in sorted(_listing(folder)):
            if name.startswith(".") and not start.startswith("."):
                continue
            is_folder = os.path.isdir(os.path.join(folder, name))
            yield f"{shown}{name}{'/' if is_folder else ''}", "folder" if is_folder else "file"


def _listing(folder: str) -> list[str]:
    try:
        return os.listdir(folder)
    except OSError:
        return []


def _listed(name: str) -> str:
    """Return a name as it stands in a list with commas."""
    plain = name and not set(name) & set(',".') and name == name.strip()
    return name if plain else '"' + name.replace('"', '""') + '"'


def _used_in(condition: str) -> Iterator[str]:
    """Yield the names after colons, outside text in quotes."""
    for part in condition.split("'")[::2]:
        for piece in part.replace("::", " ").split(":")[1:]:
            end = 0
            while end < len(piece) and (piece[end].isalnum() or piece[end] == "_"):
                end += 1
            if end:
                yield piece[:end]

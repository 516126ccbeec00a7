"""Statements of one database's system in another system's SQL.

Statements are the plan's own; the conditions that a user wrote come from `conditions`.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import TYPE_CHECKING

import sqlglot
from sqlglot import exp
from sqlglot.errors import ErrorLevel, SqlglotError

from yeldro.core.database.catalogue import find_source
from yeldro.core.model.errors import Refused, UsageError
from yeldro.formats.writing.mysql import opened_once
from yeldro.formats.writing.targets import KEY_TABLE

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Catalogue
    from yeldro.formats.writing.targets import Target

_CASE_IN_NAMES = ("postgres",)  # systems on which names in quotes differ by case
_HOLD_CONDITIONS = (exp.And, exp.Or, exp.Not, exp.Where, exp.Having, exp.Paren)
_LONGEST_LIST = 1000  # Oracle's error ORA-01795
_LONGEST_TEXT = 4000  # bytes of a literal in Oracle's SQL
_ENDS_A_LINE = "\x7f\x85\u2028\u2029"  # beside the control characters of ASCII
_PIECE = 300  # characters of one literal, so that lines can be broken between them


class Translator:
    """Writes the statements of one database for another system.

    Args:
        source: the dialect of the statements.
        catalogue: the database's tables, by which names are spelled.
    """

    def __init__(self, target: Target, source: str, catalogue: Catalogue) -> None:
        self.target = target
        self.source = source
        self.catalogue = catalogue

    def parsed(self, text: str) -> exp.Expr:
        """Return a statement of the database's own SQL as a tree."""
        return sqlglot.parse_one(text, read=self.source)

    def sql(self, tree: exp.Expr, place: int) -> str:
        """Return a tree of the source's SQL as the target has it.

        Args:
            place: the number of the cleanup, which is part of the names of its key tables.

        Raises:
            Refused: the target has nothing that is the same.
        """
        changed = tree.copy()
        for change in self._changes():
            changed = changed.transform(change)
        if self.target.dialect == "oracle" and changed.find(exp.Except):
            self._refuse("subtracts one query from another, which has another word there")
        if self.target.is_far:
            changed = _truths(changed)
            for each in changed.find_all(exp.Tuple):
                if isinstance(each.parent, exp.Binary | exp.In):
                    self._refuse("compares several columns at once")
        self._name(changed, place)
        try:
            written = changed.sql(
                dialect=self.target.dialect, unsupported_level=ErrorLevel.RAISE, comments=False
            )
        except SqlglotError as error:
            self._refuse(f"cannot be written: {error}", error)
        return written

    def statements(self, tree: exp.Expr, place: int) -> list[str]:
        """Return a statement as the target has it, after those that make copies which it needs."""
        making: list[str] = []
        if self.target.opens_once:
            tree, making = opened_once(tree, lambda name: self.target.key_table(name, place))
        return [*making, self.sql(tree, place)]

    def as_declared(self, tree: exp.Expr) -> exp.Expr:
        """Return a tree whose names are spelled as this database has them."""
        known = self._known_names(tree)
        for identifier in tree.find_all(exp.Identifier):
            name = known.get(identifier.name.casefold())
            if name is not None:
                identifier.set("this", name)
                identifier.set("quoted", True)
        return tree

    def _refuse(self, problem: str, error: Exception | None = None) -> None:
        raise Refused(
            f"For {self.target.frame.name} a statement {problem}.",
            "Write the script for this database's own system.",
        ) from error

    def _changes(self) -> Sequence[Callable[[exp.Expr], exp.Expr]]:
        found: list[Callable[[exp.Expr], exp.Expr]] = [_row_by_row, self._without_collation]
        if self.target.is_far:
            found += [_null_safe, self._text]
        if self.target.dialect == "oracle":
            found += [_in_parts, _from_dual, _short_texts, _plain_order]
        return found

    def _without_collation(self, node: exp.Expr) -> exp.Expr:
        """Leave out the collation that SQLite compares the text of a key by."""
        if isinstance(node, exp.Collate) and self.source == "sqlite":
            inner: exp.Expr = node.this
            return inner
        return node

    def _text(self, node: exp.Expr) -> exp.Expr:
        """Return a text in a form that no setting and no client reads in another way."""
        if not isinstance(node, exp.Literal) or not node.is_string:
            return node
        text = str(node.this)
        if self.target.dialect == "tsql":
            return exp.Var(this=_for_sqlcmd(text))
        if len(text.encode()) > _LONGEST_TEXT:
            self._refuse(f"holds a text of {len(text):,} characters, and a literal has at most "
                         f"{_LONGEST_TEXT:,} bytes there")  # fmt: skip
        return exp.Var(this=_for_sqlplus(text))

    def _name(self, tree: exp.Expr, place: int) -> None:
        """Spell all names as the target has them, in its quotes."""
        known = self._known_names(tree)
        for node in tree.find_all(exp.Table, exp.Column):
            if node.args.get("db") and node.text("db") in ("temp", "pg_temp"):
                node.set("db", None)
        meant: dict[str, str] = {}
        for identifier in tree.find_all(exp.Identifier):
            if KEY_TABLE.fullmatch(identifier.name):
                name = self.target.key_table(identifier.name, place)
            else:
                own = identifier.name
                if self.source in _CASE_IN_NAMES:
                    own = own if identifier.quoted else own.lower()
                else:
                    own = known.get(own.casefold(), own)
                name = self.target.folded(own)
                if meant.setdefault(name, own).casefold() != own.casefold() or (
                    self.source in _CASE_IN_NAMES and meant[name] != own
                ):
                    self._refuse(f"names both {own} and {meant[name]}, which are the same there")
                if self.target.is_far and not name.isprintable():
                    self._refuse(f"has a name with characters that cannot be seen ({name!r})")
                if self.target.dialect == "oracle" and '"' in name:
                    self._refuse(f"has the name {name}, and names have no double quotes there")
            identifier.set("this", name)
            identifier.set("quoted", True)

    def _known_names(self, tree: exp.Expr) -> dict[str, str]:
        """Return the names of the tables in a tree and of their columns, as they are declared."""
        known: dict[str, str] = {}
        for each in tree.find_all(exp.Table):
            if KEY_TABLE.fullmatch(each.name):
                continue
            try:
                found = find_source(self.catalogue, each.db, each.name)
            except UsageError:
                continue  # a query of a WITH
            known[each.name.casefold()] = found.name.name
            for column in found.columns:
                known.setdefault(column.name.casefold(), column.name)
        return known


def _row_by_row(node: exp.Expr) -> exp.Expr:
    """Turn `(a, b) IN (SELECT x, y …)` into EXISTS, where a system compares single values only."""
    if not isinstance(node, exp.In) or not isinstance(node.this.unnest(), exp.Tuple):
        return node
    query = node.args.get("query")
    inner = query.unnest() if query is not None else None
    if not isinstance(inner, exp.Select):
        return node
    values = node.this.unnest().expressions
    found = inner.copy()
    names = []
    for place, each in enumerate(found.expressions):
        names.append(f"yeldro_c{place}")
        each.replace(exp.alias_(each.unalias().copy(), names[-1]))
    pairs = [
        exp.EQ(this=exp.column(name, table="yeldro_row"), expression=value.copy())
        for name, value in zip(names, values, strict=True)
    ]
    one = exp.select("1").from_(found.subquery("yeldro_row")).where(exp.and_(*pairs))
    return exp.Exists(this=one)


def _null_safe(node: exp.Expr) -> exp.Expr:
    """Write IS DISTINCT FROM by comparisons that every version has; it is never NULL."""
    if not isinstance(node, exp.NullSafeEQ | exp.NullSafeNEQ):
        return node
    sides = (node.this, node.expression)
    either = [each for each in sides if not isinstance(each, exp.Literal)]
    null = [_is_null(each) for each in either]
    known = [exp.not_(each.copy()) for each in null]
    if isinstance(node, exp.NullSafeEQ):
        found = exp.and_(*known, exp.EQ(this=sides[0].copy(), expression=sides[1].copy()))
        if len(either) == 2:
            found = exp.or_(found, exp.and_(*null))
    else:
        found = exp.and_(*known, exp.NEQ(this=sides[0].copy(), expression=sides[1].copy()))
        others = known[::-1] if len(either) == 2 else [None] * len(either)
        for one, other in zip(null, others, strict=True):
            found = exp.or_(found, one if other is None else exp.and_(one.copy(), other.copy()))
    return exp.Paren(this=found)


def _is_null(node: exp.Expr) -> exp.Expr:
    return exp.Is(this=node.copy(), expression=exp.Null())


def _in_parts(node: exp.Expr) -> exp.Expr:
    """Split a list that is longer than Oracle takes."""
    if not isinstance(node, exp.In) or len(node.expressions) <= _LONGEST_LIST:
        return node
    values = node.expressions
    parts = [
        exp.In(this=node.this.copy(), expressions=values[start : start + _LONGEST_LIST])
        for start in range(0, len(values), _LONGEST_LIST)
    ]
    return exp.Paren(this=exp.or_(*parts))


def _from_dual(node: exp.Expr) -> exp.Expr:
    """Name Oracle's table of one row where nothing is selected from."""
    if isinstance(node, exp.Select) and not node.args.get("from_"):
        node.set("from_", exp.From(this=exp.to_table("DUAL")))
    return node


def _plain_order(node: exp.Expr) -> exp.Expr:
    """Say the direction of an order, and no offset of nothing, which some readers need."""
    if isinstance(node, exp.Ordered) and node.args.get("desc") is None:
        node.set("desc", False)
    offset = node.args.get("offset") if isinstance(node, exp.Select) else None
    if offset is not None and offset.expression == exp.Literal.number(0):
        node.set("offset", None)
    return node


def _short_texts(node: exp.Expr) -> exp.Expr:
    """Shorten texts that cannot be compared in Oracle."""
    if isinstance(node, exp.Cast) and node.to.is_type("text"):
        node.set("to", exp.DataType.build("VARCHAR(4000)"))
    return node


def _truths(tree: exp.Expr) -> exp.Expr:
    """Write truth values as conditions where conditions stand, and as numbers elsewhere."""
    for each in list(tree.find_all(exp.Boolean)):
        stands = isinstance(
            each.parent, exp.And | exp.Or | exp.Not | exp.Where | exp.Having | exp.Paren
        )
        number = exp.Literal.number(int(bool(each.this)))
        truth = exp.EQ(this=exp.Literal.number(1), expression=number)
        each.replace(exp.Paren(this=truth) if stands else number)
    return tree


def _for_sqlcmd(text: str) -> str:
    """Return a text for `sqlcmd`, which reads lines such as GO and variables such as $(x)."""
    pieces = []
    plain = ""
    for each in text:
        if each not in _ENDS_A_LINE and each >= " ":
            plain += each
            continue
        if plain:
            pieces.append(f"N'{_doubled(plain)}'")
            plain = ""
        pieces.append(f"NCHAR({ord(each)})")
    if plain or not pieces:
        pieces.append(f"N'{_doubled(plain)}'")
    return pieces[0] if len(pieces) == 1 else f"({' + '.join(pieces)})"


def _for_sqlplus(text: str) -> str:
    """Return a text for a client that knows one character set and ends statements by lines."""
    if all(" " <= each <= "~" for each in text):
        pieces = [f"'{_doubled(text[at : at + _PIECE])}'" for at in range(0, len(text), _PIECE)]
    else:
        coded = [_code(each) for each in text]
        step = _PIECE // 5
        pieces = [f"UNISTR('{''.join(coded[at : at + step])}')"
                  for at in range(0, len(coded), step)]  # fmt: skip
    if len(pieces) < 2:
        return pieces[0] if pieces else "''"
    return f"({' || '.join(pieces)})"


def _code(each: str) -> str:
    if " " <= each <= "~" and each != "\\":
        return _doubled(each)
    units = each.encode("utf-16-be")
    return "".join(f"\\{units[at : at + 2].hex()}" for at in range(0, len(units), 2))


def _doubled(text: str) -> str:
    return text.replace("'", "''")

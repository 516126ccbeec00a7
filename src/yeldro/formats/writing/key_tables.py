"""The statements that make and fill a plan's temporary key tables, for another system."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass

from sqlglot import exp

from yeldro.core.database.catalogue import find_source
from yeldro.core.model.errors import Fault
from yeldro.formats.writing.targets import KEY_TABLE, key_tables_in
from yeldro.formats.writing.translation import Translator


@dataclass(frozen=True)
class SetUp:
    """One statement that makes or fills a key table.

    Args:
        again: a statement that is repeated after it until it adds no row.
    """

    statement: str
    again: str = ""


class KeyTableStatements:
    """Writes the statements of one cleanup's key tables.

    A table is made just before it is first used, with the types of the values that go into it.

    Args:
        sets: the plan's own statements, in their order.
        place: the number of the cleanup.
        adapted: puts the user's conditions into a statement as the target has them.
    """

    def __init__(
        self,
        translator: Translator,
        sets: Sequence[str],
        place: int,
        adapted: Callable[[exp.Expr], exp.Expr],
    ) -> None:
        self.translator = translator
        self.target = translator.target
        self.sets = sets
        self.place = place
        self.adapted = adapted
        self.waiting = {_key_table_in(each): each for each in sets if _makes(each)}

    def written(self) -> Iterator[SetUp]:
        """Yield the statements, in an order in which each finds what it names."""
        for text in self.sets:
            if text.startswith(("INSERT", "WITH")):
                tree = self.translator.parsed(text)
                for each in key_tables_in(tree):
                    yield from self._made(each.name)
                yield from self._filled(tree)
            elif text.startswith(("UPDATE", "DELETE")) and _key_table_in(text) not in self.waiting:
                yield SetUp(self._sql(self.translator.parsed(text)))
        for name in list(self.waiting):
            yield from self._made(name)

    def _sql(self, tree: exp.Expr) -> str:
        return self.translator.sql(self.adapted(tree), self.place)

    def _filled(self, insert: exp.Expr) -> Iterator[SetUp]:
        with_ = insert.args.get("with_")
        if with_ is None:
            yield from map(SetUp, self.translator.statements(self.adapted(insert), self.place))
        elif self.target.is_far:
            yield self._in_waves(insert)
        else:  # as INSERT INTO … WITH …, which more systems take
            insert.set("with_", None)
            insert.expression.set("with_", with_)
            yield SetUp(self._sql(insert))

    def _in_waves(self, insert: exp.Expr) -> SetUp:
        """Write a recursion as a statement that is repeated until it adds no row.

        The recursion begins with the rows of one key table and goes on with those that depend on
        the rows found; systems differ in what a recursion may hold.
        """
        recursion = insert.args["with_"].expressions[0]
        first, deeper = recursion.this.this, recursion.this.expression
        names = [each.name for each in insert.this.expressions]
        table = deeper.find(exp.Join).this
        identity = find_source(self.translator.catalogue, table.db, table.name).identity.columns
        keys = insert.this.this
        known = _called(keys.name, "yeldro_known")
        same = [exp.EQ(this=exp.column(name, table="yeldro_known", quoted=True),
                       expression=exp.column(name, table=table.alias_or_name, quoted=True))
                for name in identity]  # fmt: skip
        is_known = exp.Exists(this=exp.select("1").from_(known).where(exp.and_(*same)))
        again = deeper.copy().distinct()
        for each in list(again.find_all(exp.Table)):
            if each.name == recursion.alias:
                each.replace(_called(keys.name, recursion.alias))
        again = again.where(exp.not_(is_known))
        target = insert.this.copy()
        starts = exp.Insert(this=target, expression=first.copy())
        goes_on = exp.Insert(this=target.copy(), expression=again)
        if len(names) != len(first.expressions):
            raise Fault("a recursion does not begin with the columns of its key table")
        return SetUp(self._sql(starts), self._sql(goes_on))

    def _made(self, name: str) -> Iterator[SetUp]:
        """Yield the statements that make a key table, after those its types come from."""
        text = self.waiting.pop(name, None)
        if text is None:
            return
        table = self.translator.sql(exp.to_table(name), self.place)
        if self.target.dialect == "tsql":
            yield SetUp(f"DROP TABLE IF EXISTS {table}")
        words = {"tsql": "CREATE TABLE", "oracle": "CREATE PRIVATE TEMPORARY TABLE"}
        create = f"{words.get(self.target.dialect, 'CREATE TEMPORARY TABLE')} {table}"
        when = " ON COMMIT DROP DEFINITION" if self.target.dialect == "oracle" else ""
        filled = self._first_filled(name)
        if filled is None:  # it remains empty
            yield SetUp(f"{create} ({', '.join(self._declared(text))}){when}")
            return
        names, query = filled
        for other in key_tables_in(query):
            yield from self._made(other.name)
        inner = self._sql(query)
        listed = ", ".join(
            self.translator.sql(exp.column(each, quoted=True), self.place) for each in names
        )
        first = self.translator.sql(exp.to_table("yeldro_first"), self.place)
        if self.target.dialect == "tsql":
            # The second half of the union strips the identity property from the columns.
            empty = f"FROM ({inner}) AS {first} ({listed}) WHERE 1 = 0"
            yield SetUp(f"SELECT {listed} INTO {table} {empty} UNION ALL SELECT {listed} {empty}")
            return
        yield SetUp(
            f"{create}{when} AS WITH {first} ({listed}) AS ({inner}) "
            f"SELECT {listed} FROM {first} WHERE 1 = 0"
        )

    def _declared(self, create: str) -> Iterator[str]:
        """Yield the columns of a table that remains empty, each with a type for it."""
        text_type = "VARCHAR(255)"
        if self.target.dialect == "tsql":
            text_type += " COLLATE DATABASE_DEFAULT"
        for name, kind in re.findall(r"[\"`]([^\"`]+)[\"`] (\w+)", create):
            column = self.translator.sql(exp.column(name, quoted=True), self.place)
            yield f"{column} {'INTEGER' if 'int' in kind.lower() else text_type}"

    def _first_filled(self, name: str) -> tuple[list[str], exp.Expr] | None:
        """Return the columns of a key table and the query, with its types, that first fills it."""
        for text in self.sets:
            if not text.startswith(("INSERT", "WITH")) or _filled_by(text) != name:
                continue
            insert = self.translator.parsed(text)
            names = [each.name for each in insert.this.expressions]
            query = insert.expression.copy()
            if insert.args.get("with_"):  # a recursion, which begins with the rows of another
                seeds = next(each for each in key_tables_in(insert) if each.name != name)
                earlier = self._first_filled(seeds.name)
                return earlier and (names, earlier[1])
            if not isinstance(query, exp.Select):
                return names, query
            for part in ("where", "distinct", "order"):
                query.set(part, None)
            source = query.args["from_"].this
            if isinstance(source, exp.Table) and KEY_TABLE.fullmatch(source.name):
                earlier = self._first_filled(source.name)
                return earlier and (names, earlier[1])
            return names, query
        return None


def _called(name: str, alias: str) -> exp.Table:
    table = exp.to_table(name)
    table.set("alias", exp.TableAlias(this=exp.to_identifier(alias)))
    return table


def _makes(text: str) -> bool:
    return text.startswith("CREATE TEMP")


def _filled_by(text: str) -> str:
    """Return the key table that an INSERT fills, also after the queries of a WITH."""
    found = KEY_TABLE.search(text, text.index("INSERT INTO"))
    if found is None:
        raise Fault("a statement fills no key table")
    return f"yeldro_keys_{found[2]}"


def _key_table_in(text: str) -> str:
    """Return the first key table that a statement names."""
    found = KEY_TABLE.search(text)
    if found is None:
        raise Fault("a statement names no key table")
    return f"yeldro_keys_{found[2]}"

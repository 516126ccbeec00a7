"""Random schemas on a SQL Server, or on its stand-in."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import Any

import pymssql
from random_schemas import Case, Link, quoted
from systems import SqlServerDatabase, in_tsql


def for_sql_server(case: Case) -> Case:
    """Return a case as SQL Server takes it.

    It has no RESTRICT, one NULL in a unique key, and no actions that meet.

    Texts are compared without case, where nothing else is said; but SQLite, which the stand-in
    stands on, compares a row's own key with its foreign key byte by byte.
    """
    tables = tuple(replace(each, options="", blind=True) for each in case.tables)
    blind = replace(case, tables=tables)
    if blind.as_sqlite_would_treat_it().references_itself_loosely():
        return for_sql_server(case.in_standard_sql())
    rows = tuple(
        tuple(
            {column: place if value is None and table.unique == (column,) else value
             for column, value in row.items()}
            for place, row in enumerate(each, 1)
        )
        for table, each in zip(case.tables, case.rows, strict=True)
    )  # fmt: skip
    links: list[Link] = []
    for link in case.links:
        bare = replace(link, action="NO ACTION")
        links.append(link if taken_by_sql_server([*links, link]) else bare)
    return replace(case, tables=tables, rows=rows, links=tuple(links))


def taken_by_sql_server(links: Sequence[Link]) -> bool:
    """False if a deletion could come to a table on two ways, or come back (error 1785)."""
    if any(link.action == "RESTRICT" for link in links):
        return False
    if any(link.action == "SET NULL" and not link.nullable for link in links):
        return False

    def reached(table: int, before: tuple[int, ...]) -> Iterator[int]:
        for link in links:
            if link.parent == table and link.action != "NO ACTION":
                yield link.child
                if link.action == "CASCADE" and link.child not in before:
                    yield from reached(link.child, (*before, link.child))

    starts = {link.parent for link in links}
    ways = [[start, *reached(start, (start,))] for start in starts]
    return all(len(each) == len(set(each)) for each in ways)


_REFUSED = (547, 515, 217, 50002)  # by a key, a column, triggers without end, and one that says no


class SqlServerSchema:
    """One database; actions that the server does not take are left out, and then nothing is tried.

    Which rows go and change then is known from a plain fixpoint alone.
    """

    def __init__(self, database: SqlServerDatabase, case: Case) -> None:
        self.url = database.url
        self.case = case
        self.as_declared = taken_by_sql_server(case.links)
        if not self.as_declared:
            links = tuple(replace(link, action="NO ACTION") for link in case.links)
            case = replace(case, links=links)
        self.connection = database.connect()
        self.close = self.connection.close
        for number in range(len(case.tables)):
            declared = case.declared(number, inline_keys=False).replace(" COLLATE NOCASE", "")
            self.create(number, in_tsql(declared.replace(" TEXT", " nvarchar(20)")))
            for row in case.values(number):
                self.insert(number, case.insert(number, "{}").format(*map(_literal, row)))
        for link in case.links:
            table = quoted(case.tables[link.child].name)
            self.execute(f"ALTER TABLE {table} ADD {case.foreign_key(link)}")

    def create(self, number: int, statement: str) -> None:
        """Make a table, by its number."""
        del number
        self.execute(statement)

    def insert(self, number: int, statement: str) -> None:
        """Add a row to a table, by its number."""
        del number
        self.execute(statement)

    def execute(self, statement: str) -> Any:
        with self.connection.cursor() as cursor:
            cursor.execute(statement)
            return cursor.fetchall() if cursor.description else None

    def delete(self) -> bool:
        name = quoted(self.case.tables[self.case.target].name)
        try:
            self.execute(f"DELETE FROM {name} WHERE mark < {self.case.below}")
        except pymssql.Error as error:
            if error.args[0] not in _REFUSED:
                raise
            return False
        return self.as_declared

    def contents(self) -> dict[str, list[str]]:
        return {
            table.name: sorted(
                repr(row) for row in self.execute(f"SELECT * FROM {quoted(table.name)}")
            )
            for table in self.case.tables
        }


def _literal(value: Any) -> str:
    if value is None:
        return "NULL"
    return f"N'{value}'" if isinstance(value, str) else str(value)

"""The core's statements in Transact-SQL, and the number of rows that each has changed."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from sqlalchemy.dialects import registry
from sqlalchemy.dialects.mssql import base, pymssql
from sqlalchemy.engine import cursor as cursors

from yeldro.engines.plain_forms import PlainForms
from yeldro.engines.sqlserver.literals import with_literals

# The driver's own number is of 32 bits, and that of the last statement in a batch.
_COUNTED = "; SELECT ROWCOUNT_BIG() AS yeldro_rows"


class TransactSql(PlainForms, base.MSSQLCompiler):
    """Writes statements of the core; what SQLAlchemy would leave out in silence is refused."""


class TransactSqlTypes(base.MSTypeCompiler):
    """Text is Unicode text: VARCHAR would lose what its code page lacks."""

    def visit_TEXT(self, type_: Any, **kw: Any) -> str:  # noqa: N802
        del type_, kw
        return "NVARCHAR(max)"

    def visit_VARCHAR(self, type_: Any, **kw: Any) -> str:  # noqa: N802
        return str(super().visit_NVARCHAR(type_, **kw))  # type: ignore[no-untyped-call]

    def visit_CHAR(self, type_: Any, **kw: Any) -> str:  # noqa: N802
        return str(super().visit_NCHAR(type_, **kw))  # type: ignore[no-untyped-call]


class Counting(base.MSExecutionContext):
    """Asks the server for the number of rows in the batch that changes them."""

    _asked = False

    def pre_exec(self) -> None:
        super().pre_exec()  # type: ignore[no-untyped-call]
        changes = self.isinsert or self.isupdate or self.isdelete
        if changes and not self.executemany:
            self.statement += _COUNTED
            self._asked = True

    def post_exec(self) -> None:
        super().post_exec()  # type: ignore[no-untyped-call]
        if self._asked:
            self._rowcount = last_number(self)
            no_rows: Any = cursors._NO_CURSOR_DML
            self.cursor_fetch_strategy = no_rows


def last_number(result: Counting | sa.CursorResult[Any]) -> int:
    """Return the number that a batch ends with; what triggers have selected comes before it."""
    cursor: Any = result.cursor
    rows = cursor.fetchall()
    while cursor.nextset():
        rows = cursor.fetchall()
    ((number,),) = rows
    return int(number)


class Preparer(base.MSIdentifierPreparer):
    """Doubles percent signs in names, as parameters are written with one."""

    def _escape_identifier(self, value: str) -> str:
        escaped = super()._escape_identifier(value)  # type: ignore[no-untyped-call]
        return str(escaped).replace("%", "%%")


ROWS_AT_ONCE = 1000  # after VALUES (Transact-SQL reference, "Table value constructor")
DRIVER = "mssql+yeldro"  # the driver of a URL that connects by this dialect


class Dialect(pymssql.MSDialect_pymssql):
    """What connects, and gives the driver no parameters."""

    preparer = Preparer  # type: ignore[assignment]
    statement_compiler = TransactSql
    type_compiler_cls = TransactSqlTypes
    execution_ctx_cls = Counting
    supports_statement_cache = True

    def do_execute(self, cursor: Any, statement: str, parameters: Any, context: Any = None) -> None:
        del context
        cursor.execute(with_literals(statement, parameters or ()))

    def do_executemany(
        self, cursor: Any, statement: str, parameters: Any, context: Any = None
    ) -> None:
        """Execute a statement for each; an INSERT of values takes many of them at once."""
        head, word, row = statement.partition(" VALUES ")
        if not statement.startswith("INSERT") or not word:
            for each in parameters:
                self.do_execute(cursor, statement, each, context)
            return
        for start in range(0, len(parameters), ROWS_AT_ONCE):
            some = parameters[start : start + ROWS_AT_ONCE]
            rows = ", ".join(with_literals(row, each) for each in some)
            cursor.execute(with_literals(head, ()) + word + rows)


registry.register(DRIVER.replace("+", "."), __name__, Dialect.__name__)


def written_form() -> base.MSDialect:
    """Return the dialect in which statements are written."""
    dialect = base.MSDialect(deprecate_large_types=True)  # type: ignore[no-untyped-call]
    dialect.statement_compiler = TransactSql
    dialect.type_compiler_instance = TransactSqlTypes(dialect)
    return dialect

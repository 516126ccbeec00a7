"""The core's statements in Transact-SQL, and the number of rows that each has changed."""

from __future__ import annotations

from typing import Any

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
            rows = self.cursor.fetchall()
            while self.cursor.nextset():  # what a trigger has selected came first
                rows = self.cursor.fetchall()
            ((self._rowcount,),) = rows
            no_rows: Any = cursors._NO_CURSOR_DML
            self.cursor_fetch_strategy = no_rows


class Preparer(base.MSIdentifierPreparer):
    """Doubles percent signs in names, as parameters are written with one."""

    def _escape_identifier(self, value: str) -> str:
        escaped = super()._escape_identifier(value)  # type: ignore[no-untyped-call]
        return str(escaped).replace("%", "%%")


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
        for each in parameters:
            self.do_execute(cursor, statement, each, context)


registry.register(DRIVER.replace("+", "."), __name__, Dialect.__name__)


def written_form() -> base.MSDialect:
    """Return the dialect in which statements are written."""
    dialect = base.MSDialect(deprecate_large_types=True)  # type: ignore[no-untyped-call]
    dialect.statement_compiler = TransactSql
    dialect.type_compiler_instance = TransactSqlTypes(dialect)
    return dialect

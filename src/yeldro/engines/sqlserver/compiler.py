"""The core's statements in Transact-SQL."""

from __future__ import annotations

from typing import Any

from sqlalchemy.dialects.mssql import base

from yeldro.engines.plain_forms import PlainForms


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


def written_form() -> base.MSDialect:
    """Return the dialect in which statements are written."""
    dialect = base.MSDialect(deprecate_large_types=True)  # type: ignore[no-untyped-call]
    dialect.statement_compiler = TransactSql
    dialect.type_compiler_instance = TransactSqlTypes(dialect)
    return dialect

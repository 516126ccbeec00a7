"""What the core composes means the same in the forms that every system has (tried on SQLite)."""

from __future__ import annotations

from dataclasses import replace

import pytest
from random_schemas import random_case
from sqlalchemy.dialects.sqlite.base import SQLiteCompiler, SQLiteDialect
from test_ripple import check, cleanup_as_chosen, cleanup_of
from trials import Trials

from yeldro.engines.plain_forms import PlainForms
from yeldro.engines.sqlite import session

FEW, MANY = 14, 2000


class PlainSqlite(PlainForms, SQLiteCompiler):
    """SQLite's statements, without what only some systems take."""


@pytest.fixture
def plain(monkeypatch: pytest.MonkeyPatch) -> None:
    """Let SQLite's statements be written in the forms that every system has."""
    monkeypatch.setattr(SQLiteDialect, "statement_compiler", PlainSqlite)
    monkeypatch.setattr(session, "TRAITS", replace(session.TRAITS, recurses_by_union=False))


@pytest.mark.usefixtures("plain")
def test_random_schemas_end_as_they_do_in_shorter_forms(trials: Trials) -> None:
    for number in trials(FEW, MANY):
        case = random_case(number, choose=number % 2 == 1)
        check(case, cleanup_as_chosen(case) if number % 2 else cleanup_of(case))

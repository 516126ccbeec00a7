"""SQL Server's stand-in refuses what its documentation refuses, and reads all that is composed."""

from __future__ import annotations

import pytest
import sqlalchemy as sa
from composed import Composing

from yeldro.engines.sqlserver.compiler import written_form
from yeldro.standins.sqlserver.reader import read
from yeldro.standins.sqlserver.refusals import REFUSALS, ReadError

MAST = sa.table("mast", sa.column("id"), sa.column("name"))
LAMP = sa.table("lamp", sa.column("id"), sa.column("mast"))


READ = [each for each in REFUSALS if each.find]


@pytest.mark.parametrize("refusal", READ, ids=lambda each: f"{each.number} {each.section}")
def test_an_example_of_each_refusal_is_refused_and_the_other_is_read(refusal) -> None:
    with pytest.raises(ReadError) as refused:
        read(refusal.fails)
    assert refused.value.number == refusal.number
    assert read(refusal.passes)


@pytest.mark.parametrize(
    "batch",
    ["SELECT a FROM t LIMIT 3", "SELECT a FROM t ORDER BY a NULLS FIRST", "SELECT FROM WHERE",
     "DELETE FROM t WHERE TRUE", "CREATE TRIGGER x"],
)  # fmt: skip
def test_words_of_other_systems_are_refused(batch) -> None:
    with pytest.raises(ReadError) as refused:
        read(batch)
    assert refused.value.number == 102


def test_a_name_may_be_a_word_of_another_system() -> None:
    assert read("SELECT [limit], 'NULLS' AS [true] FROM [glob]")


def test_what_sqlalchemy_would_leave_out_is_refused() -> None:
    query = sa.select(MAST.c.id)
    with pytest.raises(sa.exc.CompileError, match="locked"):
        query.with_for_update().compile(dialect=written_form())
    found = query.cte("found", recursive=True)
    again = found.union(sa.select(LAMP.c.id).join(found, LAMP.c.mast == found.c.id))
    with pytest.raises(sa.exc.CompileError, match="repeated rows"):
        sa.select(again.c.id).compile(dialect=written_form())
    depends = sa.select(LAMP.c.id, LAMP.c.mast).where(LAMP.c.mast == MAST.c.id)
    several = sa.tuple_(MAST.c.id, MAST.c.name).in_(depends)
    with pytest.raises(sa.exc.CompileError, match="depends on them"):
        query.where(several).compile(dialect=written_form())


def test_text_is_unicode_and_nothing_is_ordered_by_what_it_lacks() -> None:
    ranked = sa.select(
        sa.cast(MAST.c.id, sa.Text), sa.func.row_number().over(), MAST.c.id.is_(None)
    )
    written = str(ranked.compile(dialect=written_form()))
    assert "NVARCHAR(max)" in written
    assert "OVER (ORDER BY (SELECT NULL))" in written
    assert "CASE WHEN (mast.id IS NULL) THEN 1 ELSE 0 END" in written
    assert read(written)


def test_a_statement_that_it_would_refuse_fails_the_test_that_composes_it() -> None:
    engine = sa.create_engine("sqlite://")
    sa.event.listen(engine, "before_execute", Composing().check)
    with engine.connect() as connection, pytest.raises(ReadError, match="102"):
        connection.execute(sa.select(sa.func.count()).group_by(MAST.c.id.is_(None)))

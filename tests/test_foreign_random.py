"""Random conditions of one live system, read and written for others: the same rows, or a refusal.

The system that a condition is written for says itself which rows it means.
"""

from __future__ import annotations

import os
import random
import re
import uuid
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import need
from standin import SYSTEMS, StandIn
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
)
from test_foreign_sql import matched

from yeldro.core.model.errors import YeldroError
from yeldro.core.planning.job import Job
from yeldro.core.planning.plan import Cleanup
from yeldro.core.planning.treatment import Choices
from yeldro.core.selection.asked import Selection
from yeldro.engines import open_database
from yeldro.formats import sql_out

CASES = int(os.environ.get("YELDRO_CONDITIONS", "60"))
PLAIN = ["N1", "N2", "N10", "x1", "a-b", "Eddy", None]
HOSTILE = ["N1", "n1", "N1 ", "É1", "E1", "", " N1", "a_b", "a%b", "a\\b", "aXb", "ß", "ss", None]
DAYS = ["2015-03-11", "2018-01-01", "2018-04-11", "2018-12-31", "2020-02-29", None]
MOMENTS = ["2018-01-01 00:00:00", "2018-04-11 12:30:00", "2018-04-11 00:00:00",
           "2020-02-29 23:59:59", None]  # fmt: skip


def literal(value: str | None) -> str:
    if value is None:
        return "NULL"
    return "'" + value.replace("'", "''") + "'"


def script(texts: list[str | None], backslash: str) -> str:
    chance = random.Random(5)
    rows = []
    for n in range(1, 61):
        text = literal(texts[n % len(texts)]).replace("\\", backslash)
        day, moment = chance.choice(DAYS), chance.choice(MOMENTS)
        number = chance.choice([None, -3, 0, 1, 2, 7, 100])
        amount = chance.choice([None, "0.50", "1.00", "7.25"])
        told = [str(n), text, *map(literal, (day, moment)),
                *("NULL" if each is None else str(each) for each in (number, amount)),
                chance.choice(["TRUE", "FALSE", "NULL"])]  # fmt: skip
        rows.append(f"({', '.join(told)})")
    return f"INSERT INTO t VALUES {', '.join(rows)};"


TABLE = """CREATE TABLE t (id INTEGER PRIMARY KEY, name VARCHAR(20), day DATE, seen {moment} NULL,
    x INTEGER, amount NUMERIC(6, 2), active BOOLEAN);"""


class Conditions:
    """Makes conditions in the words of one system."""

    def __init__(self, dialect: str, chance: random.Random, texts: list[str | None]) -> None:
        self.dialect = dialect
        self.chance = chance
        self.texts = [each for each in texts if each is not None]

    def condition(self, depth: int = 2) -> str:
        kind = self.chance.random()
        if depth and kind < 0.25:
            word = self.chance.choice(["AND", "OR"])
            return f"({self.condition(depth - 1)} {word} {self.condition(depth - 1)})"
        if depth and kind < 0.35:
            return f"NOT ({self.condition(depth - 1)})"
        return self.chance.choice([self.of_text, self.of_text, self.of_day, self.of_moment,
                                   self.of_number, self.of_truth])()  # fmt: skip

    def compared(self) -> str:
        return self.chance.choice(["=", "<>", "<", "<=", ">", ">="])

    def text(self) -> str:
        found = self.chance.choice([*self.texts, "N1", "zz"])
        return literal(found).replace("\\", "\\\\" if self.dialect == "mysql" else "\\")

    def of_text(self) -> str:
        pick = self.chance.choice
        value = pick(["name", "name", "name", "lower(name)", "upper(name)", "trim(name)",
                      "coalesce(name, '')", "coalesce(name, 'N1')"])  # fmt: skip
        if self.dialect != "sqlite":
            value = pick([value, value, "left(name, 2)", "concat(name, 'x')"])
        else:
            value = pick([value, value, "substr(name, 1, 2)", "name || 'x'"])
        form = pick(["=", "=", "<>", "in", "not in", "like", "not like", "null", "length"])
        if form == "null":
            return f"name IS {pick(['', 'NOT '])}NULL"
        if form == "length":
            function = "char_length" if self.dialect != "sqlite" else "length"
            return f"{function}(name) {self.compared()} {pick([0, 2, 3])}"
        if "like" in form:
            pattern = pick(["N%", "%1", "_1", "a\\_b", "%\\%%", "n1", "É%", "N1"])
            if self.dialect == "mysql":
                pattern = pattern.replace("\\", "\\\\")
            return f"{value} {form.upper()} '{pattern}'"
        if "in" in form:
            return f"{value} {form.upper()} ({self.text()}, {self.text()})"
        return f"{value} {form} {self.text()}"

    def of_day(self) -> str:
        return self.of_time("day", [each for each in DAYS if each])

    def of_moment(self) -> str:
        return self.of_time("seen", [each for each in (*MOMENTS, *DAYS) if each])

    def of_time(self, column: str, values: list[str]) -> str:
        pick = self.chance.choice
        value = literal(pick(values))
        plain = [f"{column} {self.compared()} {value}",
                 f"{column} BETWEEN {value} AND {literal(pick(values))}",
                 f"{column} IS NULL"]  # fmt: skip
        if self.dialect == "postgresql":
            plain += [f"extract(year from {column}) {self.compared()} {pick([2015, 2018])}",
                      f"{column}::date {self.compared()} {literal(pick(DAYS[:-1]))}",
                      f"{column} < current_date - {pick([2000, 3000])}",
                      f"{column} >= now() - interval '{pick([8, 10])} years'",
                      f"{column} < DATE '2018-04-11' + interval '1 month'"]  # fmt: skip
        if self.dialect == "mysql":
            plain += [f"year({column}) {self.compared()} {pick([2015, 2018])}",
                      f"date({column}) {self.compared()} {literal(pick(DAYS[:-1]))}",
                      f"datediff(curdate(), {column}) {self.compared()} {pick([2000, 3000])}",
                      f"{column} < date_sub(curdate(), interval {pick([8, 10])} year)",
                      f"{column} > 20180411"]  # fmt: skip
        return pick(plain)

    def of_number(self) -> str:
        pick = self.chance.choice
        column = pick(["x", "x", "amount", "x + 1", "x * 2", "- x"])
        value = pick(["0", "1", "7", "1.00", "7.25", "'7'", "-3"])
        return pick([f"{column} {self.compared()} {value}", f"{column} IN ({value}, 2)",
                     f"x IS {pick(['', 'NOT '])}NULL", f"{column} BETWEEN 0 AND {value}",
                     "x = (SELECT max(x) FROM t)", "id IN (SELECT x FROM t WHERE x > 1)",
                     "id NOT IN (SELECT x FROM t WHERE x IS NOT NULL)"])  # fmt: skip

    def of_truth(self) -> str:
        return self.chance.choice(["active", "active = TRUE", "active IS NULL", "NOT active",
                                   "active = FALSE"])  # fmt: skip


def _new_name() -> str:
    return f"yeldro_{uuid.uuid4().hex[:12]}"


@pytest.fixture
def everywhere(tmp_path: Path) -> Iterator[Callable[[list[str | None]], dict[str, AnyDatabase]]]:
    """The same table on all three systems."""
    need("postgresql")
    need("mariadb")
    made: list[AnyDatabase] = []

    def make(texts: list[str | None]) -> dict[str, AnyDatabase]:
        found: dict[str, AnyDatabase] = {
            "sqlite": SqliteFile(tmp_path / "t.db"),
            "postgresql": PostgresqlServerDatabase(_new_name()),
            "mysql": MariadbServerDatabase(_new_name()),
        }
        made.extend(found.values())
        for dialect, database in found.items():
            moment = "DATETIME" if dialect == "mysql" else "TIMESTAMP"
            backslash = "\\\\" if dialect == "mysql" else "\\"
            database.script(TABLE.format(moment=moment) + script(texts, backslash))
        return found

    yield make
    for each in made:
        if not isinstance(each, SqliteFile):
            each.drop()


@pytest.mark.parametrize("texts", [PLAIN, HOSTILE], ids=["plain", "hostile"])
@pytest.mark.parametrize("dialect", ["postgresql", "mysql", "sqlite"])
def test_a_random_condition_picks_the_same_rows_elsewhere_or_is_refused(
    everywhere, dialect: str, texts: list[str | None]
) -> None:
    databases = everywhere(texts)
    chance = random.Random(f"{dialect} {len(texts)}")
    conditions = Conditions(dialect, chance, texts)
    carried, wrong, tried = 0, [], 0
    while tried < CASES:
        condition = conditions.condition()
        try:
            rows = databases[dialect].rows(f"SELECT id FROM t WHERE {condition}")
        except Exception:
            continue  # the system itself does not take it
        tried += 1
        meant = {row[0] for row in rows}
        for other, database in databases.items():
            if other == dialect:
                continue
            try:
                found = matched(database, dialect, f"DELETE FROM t WHERE {condition}")
            except YeldroError:
                continue
            carried += 1
            if found != meant:
                wrong.append((other, condition, sorted(meant ^ found)[:6]))
    assert wrong == []
    assert carried > tried * (0.5 if texts is PLAIN else 0.2)


def rows_there(database: AnyDatabase | StandIn, condition: str) -> set[int]:
    """Return the rows that a condition picks on the system that it is written for."""
    if not isinstance(database, StandIn):
        return {row[0] for row in database.rows(f"SELECT id FROM t WHERE {condition}")}
    cursor = database.connection.cursor()
    table, column = ("[t]", "[id]") if database.far == "sqlserver" else ('"T"', '"ID"')
    cursor.execute(database.as_is(f"SELECT {column} FROM {table} WHERE {condition}"))
    return {int(row[0]) for row in cursor.fetchall()}


@pytest.mark.parametrize("texts", [PLAIN, HOSTILE], ids=["plain", "hostile"])
@pytest.mark.parametrize("dialect", ["postgresql", "mysql", "sqlite"])
def test_a_random_condition_written_for_another_system_picks_the_same_rows_or_is_refused(
    everywhere, dialect: str, texts: list[str | None]
) -> None:
    databases = everywhere(texts)
    copied = databases["sqlite"].connect()
    targets = databases | {system: StandIn(system, copied) for system in SYSTEMS}
    copied.close()
    opened = open_database(databases[dialect].url)
    chance = random.Random(f"{dialect} {len(texts)} written")
    conditions = Conditions(dialect, chance, texts)
    written, wrong, tried = 0, [], 0
    while tried < CASES:
        condition = conditions.condition()
        try:
            meant = rows_there(databases[dialect], condition)
        except Exception:
            continue  # the system itself does not take it
        tried += 1
        for target, database in targets.items():
            if target == dialect:
                continue
            try:
                job = Job.of(Cleanup(Selection("t", where=condition), Choices()))
                script = sql_out.script(opened, job, target.partition("-")[0])
            except YeldroError:
                continue
            written += 1
            (line,) = re.findall(r"(?ms)^ *DELETE FROM \S+ WHERE (.*?);$", script)
            if "yeldro_1" in line.lower():
                (line,) = re.findall(r"(?m)^INSERT INTO .*?\) SELECT .*? WHERE (\(.*\));$", script)
            try:
                found = rows_there(database, line)
            except Exception as error:
                wrong.append((target, condition, line, str(error)[:200]))
                continue
            if found != meant:
                wrong.append((target, condition, line, sorted(meant ^ found)[:6]))
    for each in targets.values():
        if isinstance(each, StandIn):
            each.close()
    assert wrong == []
    assert written > tried

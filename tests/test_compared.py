"""Duplicates that are compared by expressions, held against a model."""

from __future__ import annotations

import random
import re
import shlex
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase, SqliteFile
from trials import Trials

import yeldro as program
from yeldro.core.inspection.repeats import search_repeats
from yeldro.core.model.tables.equality import EqualityRules
from yeldro.engines import open_database

Row = tuple[int, str | None, str | None, int | None]
Model = Callable[[Row], Any]


def unless_null(place: int, compute: Callable[[Any], Any]) -> Model:
    return lambda row: None if row[place] is None else compute(row[place])


def both(left: bool | None, right: bool | None) -> bool | None:
    """AND in SQL."""
    return False if False in (left, right) else None if None in (left, right) else True


EXPRESSIONS: dict[str, Model] = {
    "mail": lambda row: row[1],
    "n": lambda row: row[3],
    "lower(trim(mail))": unless_null(1, lambda text: text.strip(" ").lower()),
    "replace(phone, ' ', '')": unless_null(2, lambda text: text.replace(" ", "")),
    "coalesce(mail, phone)": lambda row: row[2] if row[1] is None else row[1],
    "coalesce(phone, 'none, at all')": lambda row: "none, at all" if row[2] is None else row[2],
    "abs(n) % 3": unless_null(3, lambda n: abs(n) % 3),
    "lower(mail) = 'a@b' and (n > 1)": lambda row: both(
        None if row[1] is None else row[1].lower() == "a@b", None if row[3] is None else row[3] > 1
    ),
    "length(phone) + 1": unless_null(2, len),
    "substr(mail, 1, 2)": unless_null(1, lambda text: text[:2]),
    "case when n > 1 then 'many' else mail end": lambda row: (
        "many" if row[3] is not None and row[3] > 1 else row[1]
    ),
}
MAILS = [None, "", "a@b", "A@B", " a@b", "a@B  ", "%s:x\\y", "Ä@b", "ä@b", "it's, so"]
PHONES = [None, "", "1 2", "12", " 12", "1  2", "34"]


def people(database: AnyDatabase, rows: list[Row]) -> None:
    """Make the table, with text that MariaDB compares as it is written."""
    exact = "CHARACTER SET utf8mb4 COLLATE utf8mb4_nopad_bin"
    kind = f"VARCHAR(40) {exact if database.url.startswith('mariadb') else ''}"
    database.script("DROP TABLE IF EXISTS contact; CREATE TABLE contact (id INTEGER PRIMARY KEY,"
                    f" mail {kind}, phone {kind}, n INTEGER)")  # fmt: skip
    for row in rows:
        database.script(f"INSERT INTO contact VALUES ({written(database, row)})")


def written(database: AnyDatabase, row: Row) -> str:
    def one(value: object) -> str:
        text = "'" + str(value).replace("'", "''") + "'"
        if database.url.startswith("mariadb"):
            text = text.replace("\\", "\\\\")
        return "NULL" if value is None else str(value) if isinstance(value, int) else text

    return ", ".join(map(one, row))


def random_row(chance: random.Random, number: int) -> Row:
    n = chance.choice([None, -2, 0, 1, 2, 4])
    return number, chance.choice(MAILS), chance.choice(PHONES), n


def lowered(database: AnyDatabase, model: Model) -> Model:
    """Return the model as a system's own lower() has it: SQLite's knows the letters A to Z."""
    if not isinstance(database, SqliteFile):
        return model
    kept = str.maketrans("äÄ", "\0\1")
    back = str.maketrans("\0\1", "äÄ")

    def narrower(row: Row) -> Any:
        found = model((row[0], row[1] and row[1].translate(kept), *row[2:]))
        return found.translate(back) if isinstance(found, str) else found

    return narrower


def test_random_expressions_group_as_a_model_does(
    made: Callable[[str], AnyDatabase], tmp_path: Path, trials: Trials
) -> None:
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    promised = 0
    for seed in trials(4, 60):
        chance = random.Random(seed)
        rows = [random_row(chance, n) for n in range(1, chance.randint(2, 25))]
        people(database, rows)
        by = chance.sample(list(EXPRESSIONS), chance.randint(1, 3))
        distinct = chance.random() < 0.3
        models = [lowered(database, EXPRESSIONS[each]) for each in by]
        groups: dict[tuple[Any, ...], list[Row]] = {}
        for row in rows:
            values = tuple(model(row) for model in models)
            if not (distinct and None in values):
                groups.setdefault(values, []).append(row)
        going = {row[0] for group in groups.values() for row in group[1:]}
        opened = program.connect(database.url)
        words: dict[str, Any] = {"by": ", ".join(by), "null_distinct": distinct}
        report = opened.duplicates("contact", **words)
        assert report.removable == len(going), (seed, by)
        cleanup = program.cleanup(
            "contact", duplicates_by=", ".join(by), null_distinct=distinct, expect=len(going)
        )
        before = database.contents()
        planned = opened.plan(cleanup).plans[0]
        assert planned.prevention == report.prevention
        if not going:
            continue
        done = opened.run(cleanup, receipts=tmp_path)
        left = {row[0] for row in database.rows("SELECT id FROM contact")}
        assert left == {row[0] for row in rows} - going, (seed, by)
        known = report.prevention.statement if report.prevention else None
        promised += prevents(database, known, chance, groups, models, distinct)
        assert done.receipt is not None
        opened.restore(done.receipt)
        assert database.contents() == before, (seed, by)
    assert promised or trials.only_one or not isinstance(database, SqliteFile)


def prevents(
    database: AnyDatabase,
    statement: str | None,
    chance: random.Random,
    groups: dict[tuple[Any, ...], list[Row]],
    models: list[Model],
    distinct: bool,
) -> bool:
    """Hold a promised constraint against the model, by rows that come; True if there was one."""
    if not statement:
        return False
    database.script(statement)
    known = set(groups)
    added = []
    for number in range(1000, 1012):
        row = random_row(chance, number)
        values = tuple(model(row) for model in models)
        try:
            database.script(f"INSERT INTO contact VALUES ({written(database, row)})")
        except Exception as error:
            assert re.search("unique|duplicate", str(error), re.IGNORECASE), error
            assert values in known, (statement, row)
        else:
            added.append(number)
            assert values not in known or (distinct and None in values), (statement, row)
            known.add(values)
    for number in added:
        database.script(f"DELETE FROM contact WHERE id = {number}")
    if statement.startswith("CREATE UNIQUE INDEX"):
        database.script(f"DROP INDEX {statement.split()[3]}")
    else:
        what = "COLUMN" if "ADD COLUMN" in statement else "KEY"
        name = statement.partition("ADD UNIQUE KEY ")[2].split()[0]
        database.script(f"ALTER TABLE contact DROP {what} {name}")
    return True


REFUSED = {
    "lower(nail)": "There is no column 'nail' in contact",
    "lower('x')": "names no column of contact, so all rows would be equal",
    "coalesce(mail, :x)": "holds the parameter :x",
    "mail || (select max(phone) from contact)": "reads other rows",
    "coalesce(mail, current_timestamp)": "depends on when it is read",
    "lower(mail": "cannot be read as SQL",
    "count(mail)": "cannot compare rows by 'count(mail)'",
    "row_number() over (order by mail)": "reads other rows",
    "mail, lower(mail), LOWER(mail)": "names 'LOWER(mail)' twice",
    "mail desc": "is not an expression",
    "lower(mail), ": "holds a part that is empty",
    "mail; select 1": "holds 2 statements",
    "exists(select 1)": "reads other rows",
    "*": "is not an expression",
}
OF_ONE = {
    "sqlite": {
        "random() + n": "gives another value each time",
        "last_insert_rowid() + n": "not known to be free of side effects",
        "load_extension(mail)": "not known to be free of side effects",
        "n + unixepoch('subsec')": "depends on when it is read",
        "unixepoch() + n": "depends on when it is read",
        "date(mail, 'now')": "depends on when it is read",
    },
    "postgresql": {
        "nextval(mail)": "not known to be free of side effects",
        "age(cast(mail as timestamp))": "depends on when it is read",
        "regexp_split_to_table(mail, '@')": "cannot compare rows by",
        "cast(mail as json)": "cannot compare rows by",
        "cast('today' as date) - n": "depends on when it is read",
    },
    "mariadb": {
        "rand() + n": "gives another value each time",
        "last_insert_id(n)": "not known to be free of side effects",
        "sysdate(6) + n": "depends on when it is read",
        "benchmark(n, 1)": "not known to be free of side effects",
    },
}


def test_expressions_that_mean_no_one_value_are_refused(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    people(database, [(1, "a", "1", 1), (2, "a", "2", 2)])
    before = database.contents()
    system = next((each for each in OF_ONE if database.url.startswith(each)), "sqlite")
    for by, told in (REFUSED | OF_ONE[system]).items():
        run_words = ("run", "contact", "--duplicates-by", by, "--expect", "0..", "--yes")
        for words in (("duplicates", "contact", "--by", by), run_words):
            error = yeldro(*words, db=database.url, code=2).err
            assert told in " ".join(error.split()), (by, error)
    assert database.contents() == before


ODD = "A%b:c 'x'\"`"


def test_names_and_texts_may_hold_any_sign(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """In what is compared, in a script, and in the constraint, which is then added."""
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    backtick = database.url.startswith("mariadb")
    name = f"`{ODD.replace('`', '``')}`" if backtick else '"' + ODD.replace('"', '""') + '"'
    table = "`My T%`" if backtick else '"My T%"'
    database.script(
        f"CREATE TABLE {table} (id INTEGER PRIMARY KEY, {name} VARCHAR(60));"
        f"INSERT INTO {table} VALUES (1, '%s:a, (b'), (2, ':a, (b'), (3, '%(a)s'), (4, NULL)"
    )
    by = f"replace({name}, '%s', '')"
    words = ("My T%", "--duplicates-by", by)
    plan = yeldro("plan", *words, "--json", db=database.url).json()["removes"][0]
    assert plan["matched"] == 1
    assert bool(plan["prevention"]) != backtick  # MariaDB has no index on expressions
    shown = " ".join(yeldro("plan", *words, db=database.url).out.split())
    assert ("would keep new duplicates out (the database takes it)" in shown) != backtick
    script = yeldro("script", *words, db=database.url).out
    assert "DELETE" in script
    assert "yeldro_trial" not in script
    there_and_back(yeldro, database, *words, "--expect", "1")
    if not backtick:
        yeldro("run", *words, "--expect", "1", "--yes", "--add-constraint", db=database.url)
        with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
            database.script(f"INSERT INTO {table} VALUES (9, ':%sa, (b')")
        database.script(f"INSERT INTO {table} VALUES (9, '%:a, (b')")


def test_a_collation_that_is_said_in_an_expression_is_the_constraints_too(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made("CREATE TABLE sign (id INTEGER PRIMARY KEY, a VARCHAR(9));"
                    "INSERT INTO sign VALUES (1, 'x'), (2, 'X'), (3, NULL), (4, NULL)")  # fmt: skip
    blind = {"postgresql": 'a COLLATE "C"', "mariadb": "a COLLATE utf8mb4_bin"}
    by = blind.get(database.url.partition(":")[0], "a COLLATE NOCASE")
    words = ("sign", "--duplicates-by", by, "--json")
    plan = yeldro("plan", *words, db=database.url).json()["removes"][0]
    assert plan["matched"] == (2 if isinstance(database, SqliteFile) else 1)
    if plan["prevention"]:
        yeldro("run", *words, "--expect", str(plan["matched"]), "--yes", "--add-constraint",
               db=database.url)  # fmt: skip
        for value in ("NULL", "'x'", *(("'X'",) if isinstance(database, SqliteFile) else ())):
            with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
                database.script(f"INSERT INTO sign VALUES (9, {value})")
        database.script("INSERT INTO sign VALUES (9, 'y')")


def test_expressions_stand_in_every_way_to_say_what_is_compared(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """Commands, files, saved plans, reviews, scripts and SQL group by the same expressions."""
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    rows: list[Row] = [(1, "A@b", "1 2", 3), (2, " a@B", "12", 3), (3, "a@b", "3", 3),
                       (4, None, "4", 3), (5, None, "4", 3)]  # fmt: skip
    people(database, rows)
    by = "lower(trim(mail)), replace(phone, ' ', '')"
    words = ("contact", "--duplicates-by", by)
    shown = yeldro("duplicates", "contact", "--by", by, db=database.url).out
    assert "by lower(trim(mail)), replace(phone, ' ', '')" in shown
    again = shlex.split(shown.rpartition("Next: yeldro ")[2])
    assert re.search("This plan removes or changes 2", yeldro(*again, db=database.url).out)
    assert yeldro("plan", *words, "--json", db=database.url).json()["total"] == 2
    yeldro("plan", *words, "-o", "kept.json", db=database.url)
    yeldro("rehearse", "kept.json", db=database.url)
    yeldro("new", "c.toml", *words, db=database.url)
    assert yeldro("plan", "c.toml", "--json", db=database.url).json()["total"] == 2
    yeldro("duplicates", "contact", "--by", by, "--keep", "lowest:id", "--review", "r.csv",
           db=database.url)  # fmt: skip
    decided = yeldro("plan", *words, "--decisions", "r.csv", "--json", db=database.url)
    assert decided.json()["total"] == 2
    numbered = ("DELETE FROM contact WHERE id IN (SELECT id FROM (SELECT id, row_number() OVER"
                " (PARTITION BY lower(trim(mail)), replace(phone, ' ', '') ORDER BY id) AS n"
                " FROM contact) AS x WHERE n > 1)")  # fmt: skip
    first = ("DELETE FROM contact WHERE id NOT IN (SELECT min(id) FROM contact"
             " GROUP BY lower(trim(mail)), replace(phone, ' ', ''))")  # fmt: skip
    for statement in (numbered, first):
        (yeldro.folder / "d.sql").write_text(statement)
        found = yeldro("plan", "--sql", "d.sql", "--json", db=database.url).json()["removes"][0]
        assert found["total"] == 2
        assert not [each for each in found["warnings"] if "equal on NULL" not in each]
    there_and_back(yeldro, database, *words, "--expect", "2")


LOOSE = re.compile(r"lower\(replace\((\w+), ' ', ''\)\)")


def test_a_search_counts_as_a_model_does_and_tells_what_repeats_loosely(
    made: Callable[[str], AnyDatabase], trials: Trials
) -> None:
    """Whatever is told is counted right; what repeats loosely, or decides the rest, is told."""
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    opened, told_loosely, told_deciding = program.connect(database.url), 0, 0
    for seed in trials(3, 30):
        chance = random.Random(seed)
        rows: list[Row] = [
            (n, f"m{n}", f"p{chance.randrange(40)}", chance.randrange(40)) for n in range(40)
        ]
        for place in range(chance.randrange(3)):
            _, mail, phone, n = chance.choice(rows[:40])
            assert mail
            loose = chance.choice([mail.upper(), f" {mail}", f"{mail[0]} {mail[1:]}", mail])
            rows.append((40 + place, loose, chance.choice([phone, "other"]), n))
        if seed % 3 == 0:
            rows.append((60, *rows[0][1:]))
        people(database, rows)
        with open_database(database.url).reading() as session:
            found = search_repeats(session, "contact", EqualityRules())
        names = ("id", "mail", "phone", "n")

        def value(row: Row, written: str, names: tuple[str, ...] = names) -> Any:
            inner = LOOSE.fullmatch(written)
            if inner is None:
                return row[names.index(written)]
            return str(row[names.index(inner[1])]).replace(" ", "").lower()

        for each in found.found:
            groups: dict[tuple[Any, ...], list[Row]] = {}
            for row in rows:
                groups.setdefault(tuple(value(row, c) for c in each.columns), []).append(row)
            several = [group for group in groups.values() if len(group) > 1]
            assert each.groups == len(several), (seed, each)
            assert each.removable == sum(len(group) - 1 for group in several), (seed, each)
            others = [n for n, name in enumerate(names) if n and name not in each.columns]
            agreeing = sum(len({tuple(row[n] for n in others) for row in g}) == 1 for g in several)
            if each.agreeing is not None:
                assert each.agreeing == agreeing, (seed, each)
                told_deciding += agreeing == len(several)
        mails = {str(row[1]).replace(" ", "").lower() for row in rows}
        loosely = ("lower(replace(mail, ' ', ''))",) in [each.columns for each in found.found]
        assert loosely == (len(mails) < len({row[1] for row in rows})), seed
        told_loosely += loosely
        report = opened.duplicates("contact", "lower(replace(mail, ' ', ''))")
        assert report.removable == len(rows) - len(mails)
    assert (told_loosely and told_deciding) or trials.only_one


def test_a_constraint_compares_as_its_column_does_by_itself(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    """Also where NULL is to equal NULL, for which SQLite needs an expression around the column."""
    database = made("CREATE TABLE contact (id INTEGER PRIMARY KEY)")
    blind = "COLLATE NOCASE" if isinstance(database, SqliteFile) else ""
    database.script(
        f"CREATE TABLE sign (id INTEGER PRIMARY KEY, a VARCHAR(9) {blind});"
        "INSERT INTO sign VALUES (1, 'x'), (2, 'x'), (3, NULL), (4, NULL)"
    )
    words = ("run", "sign", "--duplicates-by", "a", "--expect", "2", "--yes", "--add-constraint")
    yeldro(*words, db=database.url)
    told_apart = database.url.startswith("postgresql")
    for value in ("'x'", "NULL", *(() if told_apart else ("'X'",))):
        with pytest.raises(Exception, match=r"(?i)unique|duplicate"):
            database.script(f"INSERT INTO sign VALUES (9, {value})")
    database.script("INSERT INTO sign VALUES (9, 'y')")

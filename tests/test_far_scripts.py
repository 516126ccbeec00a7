"""Scripts for SQL Server and Oracle, carried out by databases that take their SQL.

YELDRO_FAR_CASES sets how many random schemas are tried (60 by default).
"""

from __future__ import annotations

import os
import random
import re
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import jaydebeapi
import pytest
from conftest import Yeldro
from random_schemas import make_case
from sqlfluff.core import Linter
from standin import SYSTEMS, StandIn, Stopped
from systems import AnyDatabase, SqliteFile
from test_sql import DOWN, PIECES, TREE, WORK, carry_out

CASES = int(os.environ.get("YELDRO_FAR_CASES", "60"))
FAR = ["sqlserver", "oracle"]


@pytest.fixture
def stood_in() -> Iterator[Callable[[str, SqliteFile], StandIn]]:
    """Returns a stand-in with the data of an SQLite file."""
    made: list[StandIn] = []

    def make(system: str, database: SqliteFile) -> StandIn:
        connection = database.connect()
        made.append(StandIn(system, connection))
        connection.close()
        return made[-1]

    yield make
    for each in made:
        each.close()


def parses(script: str, dialect: str) -> None:
    """Fail if a parser of that system's SQL does not understand every line."""
    if dialect == "oracle":
        script = "\n".join(
            line for line in script.splitlines()
            if not line.startswith(("WHENEVER", "SET ", "ALTER SESSION"))
        )  # fmt: skip
    parsed = Linter(dialect={"sqlserver": "tsql"}.get(dialect, dialect)).parse_string(script)
    assert not parsed.violations, parsed.violations


def same_as_run(yeldro: Yeldro, database: SqliteFile, words: tuple[str, ...], system: str,
                stand_in: StandIn, script: str, again: bool = True) -> None:  # fmt: skip
    """Carry a script out, and compare the result with that of a run; again it must stop."""
    before = stand_in.contents()
    stand_in.run(script)
    yeldro("run", *words, "--expect", "0..", "--yes", db=database.url)
    connection = database.connect()
    after = StandIn(system, connection)
    connection.close()
    assert stand_in.contents() == after.contents() != before
    if again:
        with pytest.raises(Stopped):
            stand_in.run(re.sub("(?i)yeldro_1_", "yeldro_2_", script))
        assert stand_in.contents() == after.contents()
    after.close()


@pytest.mark.parametrize(
    ("system", "work"),
    [(system, work) for system in SYSTEMS for work in WORK
     if (system, work) != ("oracle-hsqldb", "duplicates")],
)  # fmt: skip
def test_a_script_does_there_what_a_run_does_here(
    yeldro: Yeldro, network: AnyDatabase, demo: SqliteFile, stood_in, system: str, work: str
) -> None:
    """Counted on each system, carried out on the same data."""
    words, _ = WORK[work]
    far = system.partition("-")[0]
    script = yeldro("script", *words, "--dialect", far, db=network.url).out
    same_as_run(yeldro, demo, words, system, stood_in(system, demo), script)


MORE = {
    "a circle": ("buoy", "--duplicates-by", "name", "--keep", "referenced", "--follow", "all"),
    "first rows": ("alert", "--order-by", "id DESC", "--limit", "7"),
    "matching": ("alert", "--matching", "buoy", "--where", "id < 50"),
    "every row": ("region", "--all-rows", "--follow", "all"),
    "counted": ("buoy", "--where", "id IN (SELECT buoy_id FROM alert GROUP BY buoy_id"
                " HAVING count(*) > 3) AND name IS NOT 'Eddy'", "--follow", "all"),
}  # fmt: skip


@pytest.mark.parametrize("work", MORE)
@pytest.mark.parametrize("system", FAR)
def test_other_kinds_of_cleanups_do_there_what_they_do_here(
    yeldro: Yeldro, demo: SqliteFile, stood_in, system: str, work: str
) -> None:
    script = yeldro("script", *MORE[work], "--dialect", system, db=demo.url).out
    parses(script, system)
    again = work != "first rows"  # of which there are seven again
    same_as_run(yeldro, demo, MORE[work], system, stood_in(system, demo), script, again)


def test_a_bracket_in_a_pattern_stands_for_itself_on_sql_server(yeldro: Yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(9));
        INSERT INTO mast VALUES (1, 'a[b]c'), (2, 'abc');
    """)
    words = ("script", "mast", "--where", "name LIKE 'a[b]%'", "--dialect", "sqlserver")
    assert "LIKE N'a[[]b]%'" in yeldro(*words, db=database.url).out


@pytest.mark.parametrize("work", WORK)
@pytest.mark.parametrize("far", [*FAR, "mysql"])
def test_a_parser_of_the_system_understands_a_script(
    yeldro: Yeldro, demo: SqliteFile, far: str, work: str
) -> None:
    parses(yeldro("script", *WORK[work][0], "--dialect", far, db=demo.url).out, far)


@pytest.mark.parametrize("system", SYSTEMS)
def test_a_script_follows_a_table_that_references_itself(
    yeldro: Yeldro, file_made, stood_in, system: str
) -> None:
    database = file_made(TREE)
    far = system.partition("-")[0]
    script = yeldro("script", *DOWN, "--dialect", far, db=database.url).out
    stand_in = stood_in(system, database)
    stand_in.run(script)
    assert [row[0] for row in stand_in.rows("node")] == ["1", "3", "7"]
    assert [row[0] for row in stand_in.rows("leaf")] == ["1", "4"]
    deeper = stood_in(system, database)
    name = "[node]" if far == "sqlserver" else '"NODE"'
    deeper.execute(f"INSERT INTO {name} VALUES (8, 6)")
    deeper.connection.commit()
    with pytest.raises(Stopped):
        deeper.run(script)
    assert len(deeper.rows("node")) == 8


@pytest.mark.parametrize("system", SYSTEMS)
@pytest.mark.parametrize("other", ["key", "action", "trigger", "missing"])
def test_a_script_stops_at_foreign_keys_and_triggers_that_the_plan_does_not_know(
    yeldro: Yeldro, file_made, stood_in, system: str, other: str
) -> None:
    database = file_made(TREE)
    far = system.partition("-")[0]
    script = yeldro("script", *DOWN, "--dialect", far, db=database.url).out
    changes = {
        "key": "CREATE TABLE twig (node_id INTEGER REFERENCES node (id) ON DELETE CASCADE)",
        "action": "DROP TABLE leaf; CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER,"
                  " FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE SET NULL)",
        "missing": "DROP TABLE leaf; CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER)",
    }  # fmt: skip
    database.script(changes.get(other, "SELECT 1"))
    stand_in = stood_in(system, database)
    if other == "trigger" and far == "sqlserver":
        stand_in.execute("INSERT INTO sys.triggers SELECT 'loud', object_id, 0 FROM sys.objects")
    elif other == "trigger":
        stand_in.execute("INSERT INTO ALL_TRIGGERS VALUES ('O', 'NODE', 'LOUD', 'ENABLED')")
    stand_in.connection.commit()
    with pytest.raises(Stopped) as stopped:
        stand_in.run(script)
    said = "triggers of" if other == "trigger" else "foreign keys to"
    assert said in str(stopped.value)
    assert len(stand_in.rows("node")) == 7


ODD_NAMES = """
    CREATE TABLE "order" ("select" INTEGER PRIMARY KEY, "Group" VARCHAR(9), "a b" DATE,
        "from" INTEGER REFERENCES "order" ("select"));
    CREATE TABLE "user" (number INTEGER PRIMARY KEY, "level" INTEGER NOT NULL,
        FOREIGN KEY ("level") REFERENCES "order" ("select") ON DELETE CASCADE);
    INSERT INTO "order" VALUES (1, 'x', '2020-01-31', NULL), (2, 'y', '2021-01-31', 1),
        (3, 'z', NULL, NULL);
    INSERT INTO "user" VALUES (1, 1), (2, 2), (3, 3);
"""
WHERE = [
    "\"select\" < 3 AND \"Group\" IN ('x', 'y')",
    "\"a b\" < '2020-06-01' OR \"a b\" = '2021-01-31'",
    "\"A B\" BETWEEN '2020-01-01' AND '2021-12-31'",
    "\"a b\" IS NOT NULL AND NOT \"select\" = 3",
    f"\"select\" IN ({', '.join(map(str, range(1, 3)))}, {', '.join(map(str, range(9, 2400)))})",
    "\"select\" IN (SELECT \"level\" FROM \"user\" WHERE NUMBER < 3)",
    "EXISTS (SELECT 1 FROM \"user\" u WHERE u.\"level\" = \"order\".\"select\" AND u.number < 3)",
]  # fmt: skip


@pytest.mark.parametrize("where", WHERE)
@pytest.mark.parametrize("system", SYSTEMS)
def test_reserved_names_days_and_long_lists_are_written_so_that_they_run(
    yeldro: Yeldro, file_made, stood_in, system: str, where: str
) -> None:
    database = file_made(ODD_NAMES)
    far = system.partition("-")[0]
    words = ("order", "--where", where, "--follow", "all")
    script = yeldro("script", *words, "--dialect", far, db=database.url).out
    same_as_run(yeldro, database, words, system, stood_in(system, database), script)


@pytest.mark.parametrize("system", SYSTEMS)
def test_checks_and_removes_of_nothing_are_written_too(
    yeldro: Yeldro, demo: SqliteFile, stood_in, system: str
) -> None:
    (yeldro.folder / "job.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        [[remove]]
        from = "tag"
        where = "id > 900000"
        [[after]]
        about = "notices are gone"
        query = "select count(*) from alert where level = 'notice'"
        expect = "0"
    """)
    far = system.partition("-")[0]
    script = yeldro("script", "job.toml", "--dialect", far, db=demo.url).out
    stand_in = stood_in(system, demo)
    stand_in.run(script)
    assert not [row for row in stand_in.rows("alert") if "notice" in row]
    held = stood_in(system, demo)
    before = held.contents()
    with pytest.raises(Stopped):
        held.run(
            script.replace(") = 0 THEN 1", ") = 1 THEN 1").replace("(found = 0)", "(found = 1)")
        )
    assert held.contents() == before


REFUSED = [
    ("sqlserver", "name = 'eddy'", "Eddy"),  # a collation there may pass over case
    ("sqlserver", "name COLLATE NOCASE = 'eddy'", "not known"),
    ("oracle", "name <> ''", "NULL there"),
    ("oracle", "date(born) < '2020-01-01'", "not known"),
    ("oracle", "id / 2 = 1", "differ"),
    ("sqlserver", "name <> id", "alike"),
    ("sqlserver", "born < 'soon'", "soon"),
    ("oracle", "typeof(name) = 'text'", "not known"),
    ("postgresql", "name LIKE 'EDDY'", "Eddy"),
    ("mysql", "printf('%d', id) = '1'", "not known"),
]


@pytest.mark.parametrize(("dialect", "where", "said"), REFUSED)
def test_a_condition_that_is_not_known_there_is_refused(
    yeldro: Yeldro, file_made, dialect: str, where: str, said: str
) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(9), born DATE);
        INSERT INTO mast VALUES (1, 'Eddy', '2019-05-01'), (2, 'eddy', '2021-01-01');
    """)
    words = ("script", "mast", "--where", where, "--dialect", dialect)
    told = yeldro(*words, db=database.url, code=3).err
    assert said in told
    assert "Write the condition without it" in told


def test_a_view_is_not_known_elsewhere(yeldro: Yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, height INTEGER);
        CREATE VIEW tall AS SELECT id, height AS meters FROM mast WHERE height > 9;
        INSERT INTO mast VALUES (1, 5), (2, 10), (3, 20);
    """)
    words = ("script", "tall", "--where", "meters > 15", "--dialect", "oracle")
    assert "Name its table: mast" in yeldro(*words, db=database.url, code=3).err


@pytest.mark.parametrize("far", FAR)
def test_moments_with_a_time_zone_are_not_compared_elsewhere(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], far: str
) -> None:
    database = made("CREATE TABLE mast (id INTEGER PRIMARY KEY)")
    kind = "TIMESTAMP" if database.url.startswith("mariadb") else "TIMESTAMP WITH TIME ZONE"
    database.script(
        f"DROP TABLE mast; CREATE TABLE mast (id INTEGER PRIMARY KEY, lit {kind});"
        f"INSERT INTO mast VALUES (1, '2020-01-01 00:00:00')"
    )
    words = ("script", "mast", "--where", "lit < '2021-01-01'", "--dialect", far)
    assert "lit has a time zone" in yeldro(*words, db=database.url, code=3).err


def test_groups_that_a_collation_may_bring_together_are_refused(yeldro: Yeldro, file_made) -> None:
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(9), code VARCHAR(9));
        INSERT INTO mast VALUES (1, 'Eddy', 'a'), (2, 'eddy', 'a'), (3, 'Eddy', 'c');
    """)
    for words, said in [
        (("--duplicates-by", "name"), "differ only in case"),
        (("--duplicates-by", "code", "--keep", "lowest:name"), "which row stays depends on name"),
    ]:
        for far in FAR:
            told = yeldro("script", "mast", *words, "--dialect", far, db=database.url, code=3).err
            assert said in told


@pytest.mark.parametrize("system", SYSTEMS)
def test_texts_of_every_kind_are_written_so_that_the_client_reads_them(
    yeldro: Yeldro, file_made, stood_in, system: str
) -> None:
    """Of random texts, and the same with another end, exactly the chosen ones go."""
    chance = random.Random(11)
    pieces = [*PIECES, "GO", "\nGO\n", "$(x)", "&x", "\n/\n", "-", "[", "]", "\r", "\x01"]
    texts = sorted({"".join(chance.choices(pieces, k=chance.randint(1, 4))) for _ in range(60)})
    texts = [text for text in texts if text.strip() == text and text] + ["x" * 2300]
    database = file_made("CREATE TABLE t (id INTEGER PRIMARY KEY, name VARCHAR(9))")
    connection = database.connect()
    for number, text in enumerate([*texts, *(f"{each} 2" for each in texts)]):
        connection.execute("INSERT INTO t VALUES (?, ?)", (number, text))
    connection.close()
    params = [word for n, text in enumerate(texts) for word in ("--param", f"p{n}={text}")]
    wanted = ", ".join(f":p{n}" for n in range(len(texts)))
    words = ("t", "--where", f"name IN ({wanted})", *params)
    far = system.partition("-")[0]
    script = yeldro("script", *words, "--dialect", far, db=database.url).out
    assert not re.search(r"(?m)^(GO|/)$(?=[^\n]*')", script)
    same_as_run(yeldro, database, words, system, stood_in(system, database), script)


def carried_out_by_sqlite(yeldro: Yeldro, database: SqliteFile, words: list[str],
                          text: str) -> None:  # fmt: skip
    """Carry a script out with SQLite's own program, and compare with a run."""
    copy = SqliteFile(database.path.with_suffix(".copy.db"))
    copy.path.write_bytes(database.path.read_bytes())
    script = database.path.with_suffix(".sql")
    script.write_text(text)
    assert carry_out(copy, script) == 0
    yeldro("run", *words, "--expect", "0..", "--yes", db=database.url)
    assert copy.contents() == database.contents()


@pytest.mark.slow
def test_random_cleanups_do_there_what_they_do_here(
    yeldro: Yeldro, tmp_path: Path, stood_in
) -> None:
    done = refused = 0
    for number in range(CASES):
        chance = random.Random(number)
        case = make_case(chance, chance.randint(1, 5), chance.randint(0, 8), 8, choose=True)
        case = replace(
            case.in_standard_sql(),
            tables=tuple(replace(each, options="", generated=False, computed="",
                                 key=each.key or ("k",)) for each in case.tables),
            links=tuple(replace(each, computed=False) for each in case.links),
        )  # fmt: skip
        if any(not made.key for made in case.tables):
            continue
        database = SqliteFile(tmp_path / f"{number}.db")
        try:
            case.create(database.path)
        except (AssertionError, KeyError):
            continue
        words = [case.tables[case.target].name, "--where", f"mark < {case.below}"]
        for place, choice in case.choices.items():
            link = case.links[place]
            key = f"{case.tables[link.child].name}.{','.join(link.columns)}"
            words += [f"--{choice}", key]
        system = chance.choice([*SYSTEMS, "sqlite"])
        far = system.partition("-")[0]
        asked = yeldro("script", *words, "--dialect", far, db=database.url, code=None)
        if asked.code:
            refused += 1
            assert asked.code == 3, asked.err
            continue
        if system == "sqlite":
            carried_out_by_sqlite(yeldro, database, words, asked.out)
            continue
        try:
            stand_in = stood_in(system, database)
        except jaydebeapi.Error:
            continue  # such as two rows with NULL in a unique column, which SQL Server refuses
        same_as_run(yeldro, database, tuple(words), system, stand_in, asked.out)
        done += 1
    assert done > CASES // 6
    assert refused

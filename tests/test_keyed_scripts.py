"""Scripts for a database out of reach name every row by its key, and remove those rows or none."""

from __future__ import annotations

import random
import re
from collections.abc import Callable, Iterator
from dataclasses import replace
from pathlib import Path

import jaydebeapi
import pymssql
import pytest
import sqlglot
from conftest import Yeldro, need
from copied import CopyOnSqlServer
from random_schemas import random_case
from sqlfluff.core import Linter
from sqlglot import exp
from standin import StandIn, Stopped
from systems import AnyDatabase, SqliteFile
from test_sql import DOWN, LIVE, PIECES, TREE, carry_out
from trials import Trials

SYSTEMS: dict[str, type[CopyOnSqlServer | StandIn]] = {
    "sqlserver": CopyOnSqlServer,
    "oracle": StandIn,
}
WORK = {
    "ripple": ("buoy", "--where", "retired_on < '2022-01-01'", "--follow", "all"),
    "detach": ("sensor", "--where", "buoy_id < 20", "--follow", "all", "--detach",
               "buoy.main_sensor_id"),
    "repoint": ("reading", "--duplicates-by", "sensor_id,taken_at", "--keep", "fullest",
                "--repoint"),
    "fill": ("reading", "--duplicates-by", "sensor_id,taken_at", "--keep", "lowest:id",
             "--fill", "quality", "--fill-first", "--follow", "all"),
    "first rows": ("alert", "--order-by", "id DESC", "--limit", "7"),
    "every row": ("region", "--all-rows", "--follow", "all"),
}  # fmt: skip


@pytest.fixture
def stood_in() -> Iterator[Callable[[str, SqliteFile], CopyOnSqlServer | StandIn]]:
    """Returns a stand-in with the data of an SQLite file."""
    made: list[CopyOnSqlServer | StandIn] = []

    def make(system: str, database: SqliteFile) -> CopyOnSqlServer | StandIn:
        need("java" if system == "oracle" else system)
        connection = database.connect()
        made.append(SYSTEMS[system](connection))
        connection.close()
        return made[-1]

    yield make
    for each in made:
        each.close()


def same_as_run(
    yeldro: Yeldro,
    database: SqliteFile,
    words: tuple[str, ...],
    stand_in: CopyOnSqlServer | StandIn,
    script: str,
) -> None:
    """Carry a script out, and compare the result with that of a run; again it must stop."""
    before = stand_in.contents()
    stand_in.run(script)
    yeldro("run", *words, "--expect", "0..", "--yes", db=database.url)
    connection = database.connect()
    after = SYSTEMS[stand_in.system](connection)
    connection.close()
    assert stand_in.contents() == after.contents() != before
    with pytest.raises(Stopped):
        stand_in.run(script)
    assert stand_in.contents() == after.contents()
    after.close()


@pytest.mark.parametrize("work", WORK)
def test_a_script_by_keys_does_what_a_run_does_and_nothing_when_run_again(
    yeldro: Yeldro, network: AnyDatabase, demo: SqliteFile, work: str
) -> None:
    """Counted on SQLite, and carried out on the same rows by each system's own program."""
    words, script = WORK[work], yeldro.folder / "out.sql"
    system = LIVE[network.url[0]]
    text = yeldro("script", *words, "--dialect", system, db=demo.url).out
    script.write_text(text)
    assert "retired_on" not in text.partition("\n")[2]  # the condition stands in the title alone
    yeldro("run", *words, "--expect", "0..", "--yes", db=network.url)
    after = network.contents()
    yeldro("restore", "last", "--yes")
    before = network.contents()
    assert before != after
    assert carry_out(network, script) == 0
    assert network.contents() == after
    assert carry_out(network, script) != 0
    assert network.contents() == after


# Every work on one system in turn, and the one with the most kinds of steps on each.
THERE = [(work, system) for place, work in enumerate(WORK)
         for number, system in enumerate(SYSTEMS)
         if work == "ripple" or place % len(SYSTEMS) == number]  # fmt: skip


@pytest.mark.parametrize(("work", "system"), THERE)
def test_a_script_does_there_what_a_run_does_here(
    yeldro: Yeldro, demo: SqliteFile, stood_in, work: str, system: str
) -> None:
    words = WORK[work]
    script = yeldro("script", *words, "--dialect", system, db=demo.url).out
    assert script.isascii()
    same_as_run(yeldro, demo, words, stood_in(system, demo), script)


@pytest.mark.parametrize("far", [*SYSTEMS, "mysql"])
def test_a_parser_of_the_system_understands_a_script(
    yeldro: Yeldro, demo: SqliteFile, far: str
) -> None:
    script = yeldro("script", *WORK["detach"], "--dialect", far, db=demo.url).out
    if far == "oracle":
        script = "\n".join(
            line for line in script.splitlines()
            if not line.startswith(("WHENEVER", "SET ", "ALTER SESSION", "VARIABLE", "EXECUTE"))
        )  # fmt: skip
    script = script.replace(":yeldro_passed", "yeldro_passed")
    parsed = Linter(dialect={"sqlserver": "tsql"}.get(far, far)).parse_string(script)
    assert not parsed.violations, parsed.violations


def statements_for_access(script: str) -> Iterator[exp.Expr]:
    """Yield the statements that a script for Access builds up and runs."""
    built = ""
    for line in script.splitlines():
        if not line.startswith("sql = "):
            assert len(line) < 1000
            continue
        assert line.isascii()
        pieces = re.findall(r'"((?:[^"]|"")*)"|ChrW\((\d+)\)', line)
        text = "".join(chr(int(code)) if code else part.replace('""', '"') for part, code in pieces)
        if not line.startswith("sql = sql & "):
            if built:
                yield as_access_has_it(built)
            built = ""
        built += text
    yield as_access_has_it(built)


def as_access_has_it(text: str) -> exp.Expr:
    """Return the tree of a statement of Access: its days become calls, which a parser knows."""
    assert text.count(" AND ") <= 99
    text = re.sub(r"#([\d :-]+)#", r"day('\1')", text)
    tree = sqlglot.parse_one(text, read="tsql")
    assert isinstance(tree, exp.Delete | exp.Update | exp.Select), text
    return tree


@pytest.mark.parametrize("work", WORK)
def test_a_script_for_access_names_the_rows_of_a_run(
    yeldro: Yeldro, demo: SqliteFile, work: str
) -> None:
    words = WORK[work]
    script = yeldro("script", *words, "--dialect", "access", db=demo.url).out
    plan = yeldro("plan", *words, "--json", db=demo.url).one()
    changed: dict[str, int] = {}
    for tree in statements_for_access(script):
        if not isinstance(tree, exp.Delete):
            continue
        table = tree.find(exp.Table).name
        where = tree.args["where"].this
        rows = len(where.expressions) if isinstance(where, exp.In) else len(list(where.flatten()))
        if isinstance(where, exp.And):
            rows = 1
        changed[table] = changed.get(table, 0) + rows
    counted: dict[str, int] = {}
    for step in (step for step in plan["steps"] if step["action"] == "remove"):
        counted[step["table"]] = counted.get(step["table"], 0) + step["rows"]
    assert changed == counted
    assert "' Not checked: whether other relations of these tables would take rows" in script
    assert script.rstrip().endswith("space.CommitTrans\nbase.Close")


@pytest.mark.parametrize("system", SYSTEMS)
def test_a_script_follows_a_table_that_references_itself(
    yeldro: Yeldro, file_made, stood_in, system: str
) -> None:
    database = file_made(TREE)
    script = yeldro("script", *DOWN, "--dialect", system, db=database.url).out
    stand_in = stood_in(system, database)
    stand_in.run(script)
    assert [row[0] for row in stand_in.rows("node")] == ["1", "3", "7"]
    assert [row[0] for row in stand_in.rows("leaf")] == ["1", "4"]
    deeper = stood_in(system, database)
    name = "[node]" if system == "sqlserver" else '"NODE"'
    deeper.change(f"INSERT INTO {name} VALUES (8, 6)")
    with pytest.raises(Stopped, match="other rows reference"):
        deeper.run(script)
    assert len(deeper.rows("node")) == 8


def test_rows_that_reference_themselves_or_one_another(yeldro: Yeldro, made) -> None:
    """A row may reference itself; rows that do so in a circle cannot go one after the other."""
    database = made("""
        CREATE TABLE node (id INTEGER PRIMARY KEY, up INTEGER NOT NULL,
            FOREIGN KEY (up) REFERENCES node (id));
        INSERT INTO node VALUES (1, 1); INSERT INTO node VALUES (2, 1);
        INSERT INTO node VALUES (3, 2); INSERT INTO node VALUES (4, 4);
    """)
    words = ("script", "node", "--where", "id < 4", "--dialect", LIVE[database.url[0]])
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro(*words, db=database.url).out)
    assert carry_out(database, script) == 0
    assert database.rows("SELECT id FROM node") == [(4,)]
    database.script("INSERT INTO node VALUES (1, 4); INSERT INTO node VALUES (2, 1);"
                    "UPDATE node SET up = 2 WHERE id = 1")  # fmt: skip
    told = yeldro(*words, db=database.url, code=3).err
    assert "circle" in told or "cycle" in told


@pytest.mark.parametrize("system", SYSTEMS)
@pytest.mark.parametrize("other", ["key", "trigger", "missing", "action"])
def test_a_script_stops_at_foreign_keys_and_triggers_that_the_plan_does_not_know(
    yeldro: Yeldro, file_made, stood_in, system: str, other: str
) -> None:
    """Another action of a known key changes nothing, as nothing is left that it could act on."""
    database = file_made(TREE)
    script = yeldro("script", *DOWN, "--dialect", system, db=database.url).out
    leaf = "DROP TABLE leaf; CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER"
    changes = {
        "key": "CREATE TABLE twig (node_id INTEGER REFERENCES node (id) ON DELETE CASCADE)",
        "action": f"{leaf}, FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE SET NULL);"
                  "INSERT INTO leaf VALUES (1, 1), (2, 2), (3, 6), (4, 7)",
        "missing": f"{leaf})",
    }  # fmt: skip
    database.script(changes.get(other, "SELECT 1"))
    stand_in = stood_in(system, database)
    if other == "trigger" and system == "sqlserver":
        stand_in.change("CREATE TRIGGER loud ON node AFTER DELETE AS DELETE FROM leaf WHERE id = 9")
    elif other == "trigger":
        stand_in.change("INSERT INTO ALL_TRIGGERS VALUES ('O', 'NODE', 'LOUD', 'ENABLED')")
    if other == "action":
        stand_in.run(script)
        assert len(stand_in.rows("node")) == 3
        return
    with pytest.raises(Stopped) as stopped:
        stand_in.run(script)
    assert ("triggers of" if other == "trigger" else "foreign keys to") in str(stopped.value)
    assert len(stand_in.rows("node")) == 7


def test_what_cannot_be_named_is_refused_before_anything_is_written(yeldro: Yeldro, made) -> None:
    database = made("""
        CREATE TABLE heap (n INTEGER);
        CREATE TABLE depth (id DOUBLE PRECISION NOT NULL PRIMARY KEY);
        CREATE TABLE mast (id INTEGER PRIMARY KEY, name VARCHAR(9));
        INSERT INTO heap VALUES (1); INSERT INTO depth VALUES (1.5);
        INSERT INTO mast VALUES (1, 'x'), (2, 'x'), (3, 'y');
    """)

    def told(*words: str, code: int = 3) -> str:
        return yeldro("script", *words, db=database.url, code=code).err

    for dialect in ("sqlserver", LIVE[database.url[0]]):
        assert "has no key" in told("heap", "--all-rows", "--dialect", dialect)
        assert "depth.id" in told("depth", "--all-rows", "--dialect", dialect)
        few = told("mast", "--all-rows", "--most-rows", "2", "--dialect", dialect)
        assert "would name 3 rows, and 2 are the limit" in few
        assert "--most-rows 3" in few
        assert "No row matches" in told("mast", "--where", "id > 9", "--dialect", dialect)
    assert "‹" not in (alone := told("mast", "--all-rows", "--most-rows", "2", code=2))
    assert "--dialect NAME" in alone
    assert "no dialect 'orcle'" in told("mast", "--all-rows", "--dialect", "orcle", code=2)
    whole = yeldro("script", "mast", "--all-rows", "--most-rows", "3", "--dialect", "oracle",
                   db=database.url).out  # fmt: skip
    assert '"ID" IN (1, 2, 3)' in whole


def test_tables_whose_names_differ_by_case_alone_are_not_taken_for_each_other(
    yeldro: Yeldro, made
) -> None:
    database = made("CREATE TABLE mast (id INTEGER PRIMARY KEY)")
    if isinstance(database, SqliteFile):
        with pytest.raises(Exception, match="already exists"):
            database.script('CREATE TABLE "Mast" (id INTEGER PRIMARY KEY)')
        return
    name = '"Mast"' if database.url[0] == "p" else "`Mast`"
    database.script(f"CREATE TABLE {name} (id INTEGER PRIMARY KEY); INSERT INTO mast VALUES (1);"
                    f"INSERT INTO {name} VALUES (1)")  # fmt: skip
    words = ("script", "mast", "--all-rows", "--dialect", "oracle")
    if database.url[0] == "p":  # where such a name was declared in quotes
        assert 'DELETE FROM "MAST" WHERE' in yeldro(*words, db=database.url).out
        other = ("script", '"Mast"', *words[2:])
        assert 'DELETE FROM "Mast" WHERE' in yeldro(*other, db=database.url).out
        return
    told = yeldro(*words, db=database.url, code=3).err
    assert "cannot tell mast and Mast apart" in told


def test_a_script_by_keys_says_which_checks_it_leaves_out(yeldro: Yeldro, demo) -> None:
    (yeldro.folder / "job.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        [[after]]
        about = "notices are gone"
        query = "select count(*) from alert where level = 'notice'"
        expect = "0"
    """)
    script = yeldro("script", "job.toml", "--dialect", "sqlserver", db=demo.url).out
    assert "-- Not in it: notices are gone" in script
    assert "select count" not in script


NAMES = """
    CREATE TABLE "order" ("select" VARCHAR(2400) NOT NULL PRIMARY KEY, "Group" DATE, "a b" INTEGER);
    CREATE TABLE "user" (number INTEGER PRIMARY KEY, "from" VARCHAR(2400),
        FOREIGN KEY ("from") REFERENCES "order" ("select") ON DELETE SET NULL);
"""


@pytest.mark.parametrize("system", [*SYSTEMS, "sqlite"])
def test_texts_of_every_kind_are_written_so_that_the_client_reads_them(
    yeldro: Yeldro, file_made, stood_in, system: str, tmp_path: Path
) -> None:
    """Of random texts as keys, and the same with another end, exactly the chosen ones go."""
    chance = random.Random(11)
    pieces = [*PIECES, "GO", "\nGO\n", "$(x)", "&x", "\n/\n", "-", "[", "]", "\r", "\x01"]
    texts = sorted({"".join(chance.choices(pieces, k=chance.randint(1, 4))) for _ in range(60)})
    texts = [text for text in texts if text.strip() == text and text]
    texts += ["x" * (300 if system == "sqlserver" else 2300)]  # an index there takes 450
    database = file_made(NAMES)
    connection = database.connect()
    for number, text in enumerate([*texts, *(f"{each} 2" for each in texts)]):
        connection.execute("INSERT INTO \"order\" VALUES (?, '2020-01-31', ?)",
                           (text, int(number < len(texts))))  # fmt: skip
        connection.execute('INSERT INTO "user" VALUES (?, ?)', (number, text))
    connection.close()
    words = ("order", "--where", '"a b" = 1', "--detach", "user")
    text = yeldro("script", *words, "--dialect", system, db=database.url).out
    if system == "sqlite":
        copy = SqliteFile(tmp_path / "copy.db")
        copy.path.write_bytes(database.path.read_bytes())
        (tmp_path / "out.sql").write_text(text)
        assert carry_out(copy, tmp_path / "out.sql") == 0
        yeldro("run", *words, "--expect", "0..", "--yes", db=database.url)
        assert copy.contents() == database.contents()
        return
    assert not re.search(r"(?m)^(GO|/)$(?=[^\n]*')", text)
    same_as_run(yeldro, database, words, stood_in(system, database), text)


def test_days_and_bytes_are_keys_too(yeldro: Yeldro, made) -> None:
    kind = {"/": "BLOB", "p": "BYTEA", "m": "VARBINARY(9)"}
    database = made("CREATE TABLE x (id INTEGER PRIMARY KEY)")
    value = "'\\x00ff'" if database.url[0] == "p" else "x'00ff'"
    database.script(f"""
        DROP TABLE x; CREATE TABLE x (d DATE NOT NULL, m TIMESTAMP NOT NULL,
            b {kind[database.url[0]]} NOT NULL, PRIMARY KEY (d, m, b));
        INSERT INTO x VALUES ('2020-01-31', '2020-01-31 12:30:00', {value}),
            ('2021-01-31', '2020-01-31 12:30:00', {value});
    """)
    own = ("script", "x", "--where", "d < '2021-01-01'")
    script = yeldro.folder / "out.sql"
    text = yeldro(*own, "--dialect", LIVE[database.url[0]], db=database.url).out
    script.write_text(text)
    far = yeldro(*own, "--dialect", "oracle", db=database.url).out
    assert "DATE '2020-01-31'" in far
    assert "TIMESTAMP '2020-01-31 12:30:00'" in far
    assert "HEXTORAW('00ff')" in far
    assert carry_out(database, script) == 0
    assert database.value("SELECT count(*) FROM x") == 1


def test_random_cleanups_do_there_what_they_do_here(
    yeldro: Yeldro, tmp_path: Path, stood_in, trials: Trials
) -> None:
    done = refused = 0
    for number in trials(8, 200):
        chance = random.Random(number)
        case = random_case(number, choose=True).in_standard_sql()
        case = replace(
            case,
            tables=tuple(replace(each, options="", generated=False, computed="")
                         for each in case.tables),
            links=tuple(replace(each, computed=False) for each in case.links),
        )  # fmt: skip
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
        asked = yeldro("script", *words, "--dialect", system, db=database.url, code=None)
        if asked.code:
            refused += 1
            assert asked.code == 3, asked.err
            continue
        done += 1
        if system == "sqlite":
            copy = SqliteFile(tmp_path / "copy.db")
            copy.path.write_bytes(database.path.read_bytes())
            (tmp_path / "out.sql").write_text(asked.out)
            assert carry_out(copy, tmp_path / "out.sql") == 0
            yeldro("run", *words, "--expect", "0..", "--yes", db=database.url)
            assert copy.contents() == database.contents()
            continue
        try:
            stand_in = stood_in(system, database)
        except (jaydebeapi.Error, pymssql.Error):
            continue  # such as two rows with NULL in a unique column, which SQL Server refuses
        same_as_run(yeldro, database, tuple(words), stand_in, asked.out)
    assert (done and refused) or trials.only_one

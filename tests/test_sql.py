"""SQL in, SQL out: statements become cleanups, and scripts do what a run does or nothing."""

from __future__ import annotations

import os
import random
import re
import subprocess
from pathlib import Path
from urllib.parse import urlsplit

import pytest
from conftest import Yeldro, need
from systems import AnyDatabase, SqliteFile, mariadb_url
from test_look import GONE, GONE_SQL

RETIRED = "SELECT id FROM buoy WHERE retired_on IS NOT NULL"
OLD = f"buoy_id IN ({RETIRED})"
READ = [
    ("spm", "DELETE FROM alert WHERE level = 'notice'", "level = 'notice'"),
    ("spm", "DELETE FROM alert AS a WHERE a.level = 'notice' AND EXISTS (SELECT 1 FROM buoy AS b"
            " WHERE b.id = a.buoy_id AND b.retired_on IS NOT NULL)", f"level = 'notice' AND {OLD}"),
    ("spm", "BEGIN; WITH old AS (SELECT id FROM buoy WHERE retired_on IS NOT NULL)"
            " DELETE FROM alert WHERE buoy_id IN (SELECT id FROM old); COMMIT;", OLD),
    ("p", "DELETE FROM alert a USING buoy b, region r WHERE b.id = a.buoy_id"
          " AND r.id >= b.region_id AND b.retired_on IS NOT NULL", OLD),
    ("p", "DELETE FROM ONLY alert WHERE level = 'notice'", "level = 'notice'"),
    ("p", "DELETE FROM public.alert WHERE alert.level ~ '^not'", "level = 'notice'"),
    ("m", "DELETE a FROM alert a JOIN buoy b ON b.id = a.buoy_id WHERE b.retired_on IS NOT NULL",
     OLD),
    ("m", "DELETE FROM a USING alert a JOIN buoy b ON b.id = a.buoy_id"
          " WHERE b.retired_on IS NOT NULL", OLD),
    ("m", "DELETE a FROM buoy b INNER JOIN alert a ON b.id = a.buoy_id"
          " WHERE b.retired_on IS NOT NULL", OLD),
    ("m", "DELETE a FROM alert a LEFT JOIN buoy b ON b.id = a.buoy_id AND b.retired_on IS NULL"
          " WHERE b.id IS NULL", OLD),
    ("m", "DELETE LOW_PRIORITY QUICK FROM alert WHERE level RLIKE '^not'", "level = 'notice'"),
    ("m", "DELETE alert.* FROM alert WHERE level = 'notice'", "level = 'notice'"),
    ("m", "DELETE a .* FROM alert AS a WHERE a.level = 'notice'", "level = 'notice'"),
    ("sm", "DELETE FROM alert ORDER BY id LIMIT 5",
     "id IN (SELECT id FROM (SELECT id FROM alert ORDER BY id LIMIT 5) AS f)"),
    ("pm", "TRUNCATE TABLE alert", "1 = 1"),
    ("s", "DELETE FROM main.alert WHERE alert.level GLOB 'not*'", "level = 'notice'"),
]  # fmt: skip


@pytest.mark.parametrize("statement", [statement for _, statement, _ in READ])
def test_a_statement_picks_the_rows_it_would_delete(
    yeldro: Yeldro, network: AnyDatabase, statement: str
) -> None:
    """In the language of each system, and by what that system itself makes of the condition."""
    systems, same = next((each[0], each[2]) for each in READ if each[1] == statement)
    (yeldro.folder / "in.sql").write_text(f"-- {statement}\n{statement}\n")
    asked = ("plan", "--sql", "in.sql", "--json")
    if network.url[0].replace("/", "s") not in systems:
        assert yeldro(*asked, db=network.url, code=None).code in (0, 2)
        return
    rows = network.value(f"SELECT count(*) FROM alert WHERE {same}")
    assert rows
    found = yeldro(*asked, db=network.url).json()
    assert [(each["table"], each["matched"]) for each in found["removes"]] == [("alert", rows)]


NUMBERED = "row_number() OVER (PARTITION BY sensor_id, taken_at ORDER BY id DESC)"
TWICE = [
    f"DELETE FROM reading WHERE id IN (SELECT id FROM (SELECT id, {NUMBERED} AS n"
    " FROM reading) AS f WHERE n > 1)",
    f"WITH f AS (SELECT id, {NUMBERED} AS n FROM reading)"
    " DELETE FROM reading WHERE id IN (SELECT id FROM f WHERE n > 1)",
    "DELETE FROM reading WHERE id NOT IN (SELECT max(id) FROM reading"
    " GROUP BY sensor_id, taken_at)",
    f"WITH f AS (SELECT *, {NUMBERED} AS n FROM reading) DELETE FROM f WHERE n >= 2",
    f"DELETE FROM reading WHERE id IN (SELECT id FROM (SELECT id FROM (SELECT id,"
    f" {NUMBERED} AS n FROM reading) AS f WHERE n > 1) AS g)",
]  # fmt: skip


@pytest.mark.parametrize("statement", TWICE)
def test_numbered_rows_above_one_are_duplicates_with_their_order(
    yeldro: Yeldro, network: AnyDatabase, statement: str
) -> None:
    groups = network.rows(
        "SELECT max(id) FROM reading GROUP BY sensor_id, taken_at HAVING count(*) > 1"
    )
    (yeldro.folder / "in.sql").write_text(statement)
    words = ("--expect", "total=0..", "--yes", "--json")
    done = yeldro("run", "--sql", "in.sql", *words, db=network.url).json()
    assert done["removes"][0]["prevention"]  # only known for duplicates
    stay = ", ".join(str(row[0]) for row in groups)
    assert network.value(f"SELECT count(*) FROM reading WHERE id IN ({stay})") == len(groups)
    assert not network.rows("SELECT 1 FROM reading GROUP BY sensor_id, taken_at"
                            " HAVING count(*) > 1")  # fmt: skip


REFUSED = [
    ("DELETE FROM alert", 3, "no condition"),
    ("DELETE FROM alert WHERE id = 1;\nUPDATE buoy SET name = 'x'", 2, "Line 2, column 1"),
    ("DELETE FROM alert WHERE id = 1 /*! OR 1 = 1 */", 2, "some servers execute"),
    ("DELETE FROM alert WHERE id > 1 NOT IN (1, 0)", 2, "put brackets around"),
    ("DELETE FROM alert WHERE +id = '1'", 2, "changes how SQLite compares"),
    ("DELETE FROM alert WHERE id = 1 RETURNING id", 2, "RETURNING"),
    ("DELETE FROM alert LIMIT 3", 2, "such as ORDER BY id, and LIMIT"),
    ("DELETE FROM\n  alrt WHERE id = 1", 2, "Did you mean alert"),
    ("\nDELETE FROM alert WHERE idd = 1", 2, "Line 2"),
    ("DELETE FROM alert WHERE id IN (1, 2", 2, "Line 1"),
    ("DELETE FROM alert WHERE load_extension('x') = id", 2, "side effects"),
    ("SELECT 1", 2, "only DELETE and TRUNCATE"),
    ("TRUNCATE alert CASCADE", 2, "does more"),
    ("-- DELETE FROM alert WHERE id = 1", 2, "no DELETE"),
    ("DELETE FROM alert WHERE id = :x", 2, ":x"),
    ("DELETE FROM alert WHERE id = 1 -- ;\n; DROP TABLE buoy", 2, "DROP"),
]


@pytest.mark.parametrize(("text", "code", "said"), REFUSED)
def test_what_is_not_understood_is_refused_with_its_place(yeldro, demo, text, code, said) -> None:
    before = demo.contents()
    (yeldro.folder / "in.sql").write_text(text)
    words = ("run", "--sql", "in.sql", "--expect", "total=0..", "--yes")
    refused = yeldro(*words, db=demo.url, code=code)
    assert refused.err.startswith("Nothing was changed.")
    assert said in refused.err
    assert demo.contents() == before


MARIADB_ALONE = [
    ("DELETE FROM alert WHERE id = 0x1f", "a number in some places and text in others"),
    ("DELETE FROM alert WHERE id = 1 = 1", "put brackets around"),
    ("DELETE FROM alert WHERE id = 1 /*M! OR 1 */", "some servers execute"),
    ("DELETE IGNORE FROM alert WHERE id = 1", "passes over errors"),
]


@pytest.mark.parametrize("made", ["mariadb"], indirect=True)
def test_what_mariadb_reads_otherwise_is_refused(yeldro: Yeldro, made) -> None:
    database = made("CREATE TABLE alert (id INTEGER PRIMARY KEY)")
    for statement, said in MARIADB_ALONE:
        (yeldro.folder / "in.sql").write_text(statement)
        assert said in yeldro("plan", "--sql", "in.sql", db=database.url, code=2).err


def carry_out(database: AnyDatabase, script: Path) -> int:
    """Run a script with the system's own command-line program; its exit code."""
    if isinstance(database, SqliteFile):
        need("sqlite3")
        words, environment = ["sqlite3", str(database.path)], {}
    elif database.url.startswith("postgresql"):
        words, environment = ["psql", "-qX", "-d", database.url], {}
    else:
        url = urlsplit(mariadb_url())
        words = ["mariadb", f"--host={url.hostname}", f"--port={url.port or 3306}",
                 f"--user={url.username or 'root'}", database.url.rpartition("/")[2]]  # fmt: skip
        environment = {"MYSQL_PWD": url.password or ""}
    with script.open() as text:
        done = subprocess.run(words, stdin=text, env=os.environ | environment, check=False,
                              capture_output=True)  # fmt: skip
    print(done.stderr.decode())  # shown where a test fails
    return done.returncode


WORK = {
    "ripple": (("buoy", *GONE, "--follow", "visit"), f"DELETE FROM buoy WHERE {GONE_SQL}"),
    "duplicates": (("reading", "--duplicates-by", "sensor_id,taken_at", "--keep", "fullest",
                    "--repoint"), "reading"),
    "odd values": (("alert", "--where", "level <> :odd AND level <> '50%' AND id < 20", "--param",
                    "odd=a'b\\:c%s -- \u2603"), "alert"),
}  # fmt: skip


UNCHECKED = {  # what a session may begin with, and what would take a script's checks away
    "/": "PRAGMA ignore_check_constraints = ON;\n",
    "p": "SET standard_conforming_strings = off; SET client_encoding = 'latin1';\n",
    "m": "SET SESSION check_constraint_checks = 0, max_sort_length = 64;\n",
}


@pytest.mark.parametrize("work", WORK)
def test_a_script_does_what_a_run_does_and_stops_at_another_count(
    yeldro: Yeldro, network: AnyDatabase, work: str
) -> None:
    words, _ = WORK[work]
    script = yeldro.folder / "out.sql"
    before = network.contents()
    script.write_text(yeldro("script", *words, db=network.url).out)
    assert network.contents() == before
    done = yeldro("run", *words, "--expect", "0..", "--yes", "--json", db=network.url).one()
    after = network.contents()
    yeldro("restore", "last", "--yes")
    assert network.contents() == before
    script.write_text(UNCHECKED[network.url[0]] + script.read_text())
    assert carry_out(network, script) == 0
    assert network.contents() == after
    assert carry_out(network, script) != 0  # every count is 0 now
    assert network.contents() == after
    assert f"{done['steps'][-1]['rows']:,} row" in script.read_text()


LIVE = {"/": "sqlite", "p": "postgresql", "m": "mariadb"}
TREE = """
    CREATE TABLE node (id INTEGER PRIMARY KEY, up INTEGER, FOREIGN KEY (up) REFERENCES node (id));
    CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER,
        FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE CASCADE);
    INSERT INTO node VALUES (1, NULL), (2, 1), (3, 1), (4, 2), (5, 2), (6, 4), (7, 3);
    INSERT INTO leaf VALUES (1, 1), (2, 2), (3, 6), (4, 7);
"""
DOWN = ("node", "--where", "id = 2", "--follow", "all")


def test_a_script_follows_a_table_that_references_itself(yeldro: Yeldro, made) -> None:
    database = made(TREE)
    script = yeldro.folder / "out.sql"
    for words in (("script", *DOWN), ("script", *DOWN, "--dialect", LIVE[database.url[0]])):
        script.write_text(yeldro(*words, db=database.url).out)
        before = database.contents()
        assert carry_out(database, script) == 0
        assert database.rows("SELECT id FROM node ORDER BY id") == [(1,), (3,), (7,)]
        assert database.rows("SELECT id FROM leaf ORDER BY id") == [(1,), (4,)]
        assert carry_out(database, script) != 0
        assert database.value("SELECT count(*) FROM node") == 3
        database.script(f"DROP TABLE leaf; DROP TABLE node; {TREE}")
        assert database.contents() == before


@pytest.mark.parametrize(
    "words",
    [("--order-by", "id", "--limit", "5"), ("--duplicates-by", "level", "--keep", "lowest:id")],
)
def test_a_script_with_a_limit_takes_the_rows_it_was_made_for(
    yeldro: Yeldro, network: AnyDatabase, words: tuple[str, ...]
) -> None:
    """As many other rows are refused: when it is run twice, and where a row has another key."""
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", "alert", *words, db=network.url).out)
    network.script("UPDATE alert SET id = -1 WHERE id = 3")
    other = network.contents()
    assert carry_out(network, script) != 0
    assert network.contents() == other
    network.script("UPDATE alert SET id = 3 WHERE id = -1")
    assert carry_out(network, script) == 0
    gone = network.contents()
    assert carry_out(network, script) != 0
    assert network.contents() == gone


def test_a_client_that_goes_on_after_an_error_commits_no_wrong_count(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", "alert", "--where", "id < 9", db=network.url).out)
    script.write_text(script.read_text().replace("id < 9", "id < 8"))
    before = network.contents()
    forced = {"/": ["sqlite3", str(getattr(network, "path", ""))], "p": ["psql", "-qX", "-v",
              "ON_ERROR_STOP=0", "-d", network.url]}  # fmt: skip
    text = script.read_text()
    if network.url.startswith("mariadb"):
        url = urlsplit(mariadb_url())
        words = ["mariadb", "--force", f"--host={url.hostname}", f"--port={url.port or 3306}",
                 f"--user={url.username or 'root'}", network.url.rpartition("/")[2]]  # fmt: skip
    else:
        words = forced[network.url[0]]
        text = text.replace(".bail on\n", "").replace("\\set ON_ERROR_STOP on\n", "")
    secret = {"MYSQL_PWD": urlsplit(network.url).password or ""}
    subprocess.run(
        words, input=text, text=True, check=False, capture_output=True, env=os.environ | secret
    )
    assert network.contents() == before


def test_what_no_script_can_hold_is_refused(yeldro: Yeldro, demo: SqliteFile) -> None:
    def told(*words: str, db: str = demo.url) -> str:
        return yeldro("script", *words, db=db, code=3).err

    assert "would do nothing, and check nothing" in told("alert", "--where", "id < 0")
    same = ("buoy", "--duplicates-by", "name", "--ignore-case", "--follow", "all")
    assert "a function of Yeldro's own" in told(*same)
    first = ("raw_upload", "--order-by", "serial", "--limit", "2")
    assert "no key by which a script could tell" in told(*first)


SCRIPTS = Path(__file__).with_name("scripts")
KINDS = {
    "ripple": ("buoy", "--where", "retired_on < '2020-01-01'", "--follow", "visit"),
    "duplicates": ("sensor", "--duplicates-by", "buoy_id,kind", "--keep", "lowest:id"),
    "cascade": ("visit", "--where", "visit_no = 1"),
}


@pytest.mark.parametrize("kind", KINDS)
@pytest.mark.parametrize("system", ["own", "sqlite", "postgresql", "mariadb", "mysql", "sqlserver",
                                    "oracle", "access"])  # fmt: skip
def test_a_script_is_as_it_was_reviewed(yeldro: Yeldro, file_made, system: str, kind: str) -> None:
    database = file_made((SCRIPTS / "network.sql").read_text())
    words = ("script", *KINDS[kind], *(() if system == "own" else ("--dialect", system)))
    reviewed = SCRIPTS / f"{system}-{kind}.sql"
    found = yeldro(*words, db=database.url).out
    made = r"(?m)^(--|') Made .*"
    assert re.search(made, found)
    found = re.sub(made, r"\1 Made on a day, counted on buoys.db.", found)
    if os.environ.get("YELDRO_WRITE_SCRIPTS"):  # then to be read line by line
        reviewed.write_text(found)
    assert found == reviewed.read_text()


PIECES = ["line", "\n", "\n  ", "  ", "\t", "'", '"', "`", "\\", "%", "%%", ":x", "$yeldro$", "--",
          ";", "\u00e5", "\u2603", "\U0001f6df", "yeldro_keys_1", "/", "{", "/*"]  # fmt: skip


def test_no_literal_and_no_name_is_touched_by_the_layout_of_a_script(yeldro: Yeldro, made) -> None:
    """Of random texts, and the same with other spaces, exactly the chosen ones go."""
    chance = random.Random(7)
    texts = ["".join(chance.choices(PIECES, k=chance.randint(1, 4))) for _ in range(60)]
    texts = sorted({text for text in texts if text.strip() and text == text.rstrip()})
    others = {text.replace("\n", "\n  ") for text in texts} | {text + "x" for text in texts}
    kind = {"/": "TEXT", "p": "TEXT", "m": "VARCHAR(99) CHARACTER SET utf8mb4 COLLATE utf8mb4_bin"}
    database = made("CREATE TABLE t (id INTEGER PRIMARY KEY)")
    quote = "`{}`" if database.url.startswith("mariadb") else '"{}"'
    column = quote.format("a name\n of two lines, yeldro_keys_1 'x'")
    backslash = "\\\\" if database.url.startswith("mariadb") else "\\"

    def escaped(text: str) -> str:
        return "'" + text.replace("\\", backslash).replace("'", "''") + "'"

    rows = [f"({n}, {escaped(text)})" for n, text in enumerate(sorted({*texts, *others}))]
    database.script(
        f"DROP TABLE t; CREATE TABLE t (id INTEGER PRIMARY KEY, {column} {kind[database.url[0]]});"
        f"INSERT INTO t VALUES {', '.join(rows)}"
    )
    bound = {f"p{n}": text for n, text in enumerate(texts[::2])}
    wanted = [*(f":{name}" for name in bound), *map(escaped, texts[1::2])]
    params = [word for name, text in bound.items() for word in ("--param", f"{name}={text}")]
    words = ("t", "--where", f"{column} IN ({', '.join(wanted)})", *params)
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", *words, db=database.url).out)
    yeldro("run", *words, "--expect", str(len(texts)), "--yes", db=database.url)
    after = database.contents()
    assert not {row[0] for row in database.rows(f"SELECT {column} FROM t")} & {*texts}
    yeldro("restore", "last", "--yes")
    assert carry_out(database, script) == 0
    assert database.contents() == after


def test_a_check_whose_answer_is_null_does_not_hold_in_a_script(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    (yeldro.folder / "job.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        [[after]]
        query = "select max(id) from alert where id < 0"
        expect = "0.."
    """)
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", "job.toml", db=network.url).out)
    before = network.contents()
    assert carry_out(network, script) != 0
    assert network.contents() == before


def test_a_script_moves_keys_where_the_system_does_not_check_every_statement(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    words = ("buoy", "--duplicates-by", "name", "--repoint", "--follow", "visit",
             "--follow", "buoy_tag")  # fmt: skip
    before = network.contents()
    told = yeldro("script", *words, "--dialect", "oracle", db=network.url, code=3).err
    assert "would change (buoy_id)" in told
    if network.url.startswith("postgresql"):
        assert "Use 'yeldro run'" in yeldro("script", *words, db=network.url, code=3).err
        return
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", *words, db=network.url).out)
    yeldro("run", *words, "--expect", "104", "--yes", db=network.url)
    after = network.contents()
    yeldro("restore", "last", "--yes")
    assert network.contents() == before
    assert carry_out(network, script) == 0
    assert network.contents() == after


def test_a_check_in_a_script_stops_it(yeldro: Yeldro, network: AnyDatabase) -> None:
    (yeldro.folder / "job.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        [[after]]
        about = "it's never 100% so"
        query = "select count(*) from alert where level = 'notice'"
        expect = "1..2"
    """)
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", "job.toml", db=network.url).out)
    before = network.contents()
    assert carry_out(network, script) != 0
    assert network.contents() == before


@pytest.mark.parametrize("change", ["key", "action", "trigger"])
def test_a_script_stops_at_foreign_keys_and_triggers_that_the_plan_does_not_know(
    yeldro: Yeldro, made, change: str
) -> None:
    database = made(TREE)
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", *DOWN, db=database.url).out)
    loud = {
        "/": "CREATE TRIGGER loud AFTER DELETE ON node BEGIN DELETE FROM leaf; END",
        "m": "CREATE TRIGGER loud AFTER DELETE ON node FOR EACH ROW DELETE FROM leaf",
        "p": "CREATE RULE loud AS ON DELETE TO node DO ALSO DELETE FROM leaf",
    }
    again = "DROP TABLE leaf; CREATE TABLE leaf (id INTEGER PRIMARY KEY, node_id INTEGER"
    changes = {
        "key": "CREATE TABLE twig (id INTEGER PRIMARY KEY, node_id INTEGER,"
               " FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE CASCADE)",
        "action": f"{again}, FOREIGN KEY (node_id) REFERENCES node (id) ON DELETE SET NULL)",
        "trigger": loud[database.url[0]],
    }  # fmt: skip
    database.script(changes[change])
    before = database.contents()
    assert carry_out(database, script) != 0
    assert database.contents() == before
    if change == "trigger":
        assert "loud would fire" in yeldro("script", *DOWN, code=3, db=database.url).err
        yeldro("script", *DOWN, "--allow-trigger", "loud", db=database.url)


def test_a_script_for_sqlite_tells_what_it_found_and_what_was_expected(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    words = ("script", "visit", "--where", "visit_no = 1")
    script = yeldro(*words, db=demo.url).out
    parts = int(re.search(r"step 1: remove part_used, (\d+) rows", script)[1])
    demo.script("DELETE FROM part_used WHERE rowid = (SELECT min(rowid) FROM part_used"
                " WHERE visit_no = 1)")  # fmt: skip
    done = subprocess.run(
        ["sqlite3", demo.url], input=script, capture_output=True, text=True, check=False
    )
    assert done.returncode != 0
    wanted = f"{parts - 1} rows: step 1: remove part_used, and {parts} rows were expected"
    assert done.stdout.strip() == wanted
    assert demo.value("SELECT count(*) FROM part_used WHERE visit_no = 1") == parts - 1

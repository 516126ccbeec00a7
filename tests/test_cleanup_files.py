"""Cleanup files, the project file, checks and saved plans: what a file says is what is done."""

from __future__ import annotations

import json
import re
import textwrap
from pathlib import Path

import pexpect
import pytest
from conftest import PROGRAM, Yeldro, there_and_back
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile
from test_look import GONE

from yeldro.core.execution.key_sketch import KeySketch
from yeldro.formats import fields
from yeldro.formats.toml import lines_in

FILE = """
title = "Retired buoys, and what was sent twice"

[param.cutoff]
type = "date"
about = "Buoys retired before this day"

[[remove]]
from = "buoy"
where = "retired_on < :cutoff"
missing_in = ["deployment"]
follow = ["visit"]
expect = "1..50"
expect_in = { reading = "..200000" }

[[remove]]
from = "reading"
duplicates_by = ["sensor_id", "taken_at"]
keep = ["fullest", "lowest:id"]
expect = "1.."

[[after]]
about = "no buoy without a region is left"
query = "select count(*) from buoy where region_id is null and 'a:b' <> ''"
expect = "0"
"""
CUTOFF = ("--param", "cutoff=2022-01-01")


def written(yeldro: Yeldro, text: str = FILE, name: str = "job.toml") -> str:
    (yeldro.folder / name).write_text(text)
    return name


def test_removes_run_in_order_each_on_what_those_before_it_left(yeldro, network) -> None:
    name = written(yeldro)
    plan = yeldro("plan", name, *CUTOFF, "--json", db=network.url).json()
    assert not plan["exact"]
    assert plan["removes"][1]["follows"] == ["alert", "reading"]
    rehearsed = yeldro("rehearse", name, *CUTOFF, "--json", db=network.url).json()
    assert rehearsed["removes"][0]["total"] == plan["removes"][0]["total"]
    assert rehearsed["removes"][1]["matched"] < plan["removes"][1]["matched"]
    assert rehearsed["after"][0]["holds"]
    assert [step["n"] for each in rehearsed["removes"] for step in each["steps"]] == [
        *range(1, sum(len(each["steps"]) for each in rehearsed["removes"]) + 1)
    ]
    done = there_and_back(yeldro, network, name, *CUTOFF)
    assert done["total"] == rehearsed["total"]
    receipt = yeldro("receipt", "show", "--json").json()
    assert receipt["table"] == "buoy, reading"
    assert receipt["total"] == done["total"]
    twice = network.rows(
        "SELECT sensor_id, taken_at FROM reading GROUP BY 1, 2 HAVING count(*) > 1"
    )
    assert twice  # all is back


def test_a_failing_check_rolls_everything_back(yeldro, network) -> None:
    name = written(yeldro, FILE.replace('expect = "0"', 'expect = "1..5"'))
    before = network.contents()
    failed = yeldro("run", name, *CUTOFF, "--yes", db=network.url, code=4)
    assert "no buoy without a region is left: expected 1 to 5, found 0" in failed.err
    assert "rolled back" in failed.err
    assert network.contents() == before
    assert not list(yeldro.receipts.glob("*"))


def test_a_value_is_bound_and_held_against_its_type(yeldro, demo) -> None:
    name = written(yeldro)
    for value in ("20", "2022-13-01", "2022-01-01' OR '1' = '1"):
        refused = yeldro("plan", name, "--param", f"cutoff={value}", db=demo.url, code=2)
        assert "is a date" in refused.err
    assert "needs a value for cutoff" in yeldro("plan", name, db=demo.url, code=2).err
    extra = yeldro("plan", name, *CUTOFF, "--param", "cutof=1", db=demo.url, code=2)
    assert "Did you mean cutoff" in extra.err
    assert "says which rows" in yeldro("plan", name, "--where", "id = 1", db=demo.url, code=2).err


def test_every_type_of_parameter_finds_its_rows(yeldro, made) -> None:
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, label VARCHAR(20), height NUMERIC(6,2),
                           raised DATE, seen TIMESTAMP, lit SMALLINT);
        INSERT INTO mast VALUES (1, 'a''b', 2.5, '2020-01-31', '2020-01-31 12:00:00', 1);
        INSERT INTO mast VALUES (2, '12', 12, '2021-01-31', '2021-01-31 12:00:00', 0);
    """)
    cases = {
        "text": ("label", "a'b"), "integer": ("id", "1"), "number": ("height", "2.5"),
        "date": ("raised", "2020-01-31"), "datetime": ("seen", "2020-01-31T12:00:00"),
    }  # fmt: skip
    for kind, (column, value) in cases.items():
        name = written(yeldro, f"""
            [param.wanted]
            type = "{kind}"
            [[remove]]
            from = "mast"
            where = "{column} = :wanted"
            expect = 1
        """)  # fmt: skip
        found = yeldro("plan", name, "--param", f"wanted={value}", "--json", db=database.url)
        assert found.json()["removes"][0]["matched"] == 1, kind


def test_at_a_terminal_missing_values_and_the_count_are_asked_for(yeldro, demo) -> None:
    name = written(yeldro)
    total = yeldro("rehearse", name, *CUTOFF, "--json", db=demo.url).json()["total"]
    child = pexpect.spawn(
        str(PROGRAM), ["run", name], env=yeldro.environment | {"YELDRO_DB": demo.url},
        cwd=str(yeldro.folder), encoding="utf-8", timeout=60, dimensions=(60, 160),
    )  # fmt: skip
    child.expect(r"cutoff \(date, Buoys retired before this day\)")
    child.sendline("last spring")
    child.expect("The parameter cutoff is a date, and 'last spring' is not. Type it again.")
    child.sendline("2022-01-01")
    child.expect("Type the number of rows")
    child.sendline(str(total))
    child.expect("Committed")
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0


MISTAKES = [
    ('title = "x"', "", "has no 'remove'"),
    ("[[remove]]\nfrom = 'a'", "line 2", "nothing says which rows"),
    ("[[remove]]\nform = 'a'", "line 3", "Did you mean from"),
    ("[[remove]]\nfrom = 'a'\nwhere = 3", "line 4", "must be text"),
    ("[[remove]]\nfrom = 'a'\nall_rows = 'yes'", "line 4", "true or false"),
    ("[[remove]]\nfrom = 'a'\nwhere = 'b = :c'", "line 4", "there is no [param.c]"),
    ("[param.c]\ntype = 'dat'\n[[remove]]\nfrom = 'a'\nall_rows = true", "line 3", "Did you mean"),
    ("[param.c]\ntype = 'date'\n[[remove]]\nfrom = 'a'\nall_rows = true", "line 2", "nothing uses"),
    ("[[remove]]\nfrom = 'a'\nall_rows = true\nexpect = '9..1'", "line 5", "Did you mean 1..9"),
    ("[[remove]]\nfrom = 'a'\nduplicates_by = ['b']\nkeep = [\n 'x',\n]", "line 5", "not a rule"),
    ("format = 2\n[[remove]]\nnew_key = 1", "line 2", "newer Yeldro"),
    ("[[remove]\nfrom = 'a'", "line 2", "not TOML"),
    ("remove = [1]", "line 2", "an array of tables"),
    ("[[remove]]\nfrom = 'a'\nall_rows = true\n[options]\nreciepts = 'x'", "line 6", "receipts"),
]


@pytest.mark.parametrize(("text", "line", "said"), MISTAKES)
def test_a_mistake_in_a_file_is_told_with_its_line(yeldro, demo, text, line, said) -> None:
    name = written(yeldro, f"\n{text}\n")
    refused = yeldro("plan", name, db=demo.url, code=2)
    assert refused.err.startswith("Nothing was changed. job.toml")
    assert line in refused.err
    assert said in refused.err


def test_a_file_written_from_the_last_preview_plans_the_same(yeldro, demo) -> None:
    words = [*GONE, "--follow", "visit"]
    yeldro.environment["XDG_STATE_HOME"] = str(yeldro.folder / "state")
    seen = yeldro("preview", "buoy", *words, "--json", db=demo.url).one()
    yeldro("new", "kept.toml", "--from-last", "--expect", str(seen["matched"]), db=demo.url)
    again = yeldro("new", "kept.toml", "--from-last", db=demo.url, code=3)
    assert "left as it is" in again.err
    found = yeldro("plan", "kept.toml", *CUTOFF, "--json", db=demo.url).json()
    assert found["removes"][0]["matched"] == seen["matched"]
    assert found["total"] == yeldro("plan", "buoy", *words, "--json", db=demo.url).json()["total"]
    yeldro("check", "kept.toml", *CUTOFF, db=demo.url)
    (yeldro.folder / "other.db").write_bytes(demo.path.read_bytes())
    told = yeldro("new", "other.toml", "--from-last", db="other.db", code=2).err
    assert "The last preview was of" in told
    assert not (yeldro.folder / "other.toml").exists()


def test_a_file_asks_for_the_values_that_its_condition_leaves_open(yeldro, network) -> None:
    words = ("alert", "--where", "level = :level AND raised_at < :before AND id > :first")
    yeldro("new", "open.toml", *words, db=network.url)
    text = (yeldro.folder / "open.toml").read_text()
    types = dict(re.findall(r"\[param\.(\w+)\]\ntype = \"(\w+)\"", text))
    assert types == {"level": "text", "before": "datetime", "first": "number"}
    given = ("level=notice", "before=2024-03-01", "first=0")
    params = [word for each in given for word in ("--param", each)]
    found = yeldro("plan", "open.toml", *params, "--json", db=network.url).json()
    wanted = "level = 'notice' AND raised_at < '2024-03-01' AND id > 0"
    assert found["total"] == network.value(f"SELECT count(*) FROM alert WHERE {wanted}")


def test_what_is_written_is_read_back_whatever_it_holds(yeldro, demo) -> None:
    odd = 'name = \'""" # ]\\n\x7f\' OR name = :wanted'
    words = ["buoy", "--where", odd, "--param", "wanted=a\nb", "--keep", "lowest:id",
             "--duplicates-by", "region_id", "--ignore-case"]  # fmt: skip
    yeldro("new", "odd.toml", *words, db=demo.url)
    planned = yeldro("plan", *words, "--json", db=demo.url).one()
    found = yeldro("plan", "odd.toml", "--param", "wanted=a\nb", "--json", db=demo.url).json()
    assert found["removes"][0]["matched"] == planned["matched"]


def test_the_shipped_schema_and_the_documents_know_every_key() -> None:
    shipped = Path(fields.__file__).with_name("cleanup.schema.json")
    assert json.loads(shipped.read_text()) == fields.json_schema()
    described = (Path(__file__).parents[1] / "docs" / "cleanup-files.md").read_text()
    listed = (fields.TOP, fields.PARAM, fields.REMOVE, fields.AFTER,
              fields.OPTIONS)  # fmt: skip
    for key in (key for keys in listed for key in keys):
        assert re.search(rf"`{key.name}`|\[{key.name}|\[\[{key.name}", described), key.name


LINE = st.sampled_from(
    [
        "a = 1",
        'b = """x\n]\n"""',
        "c = [\n 1, # ]\n 2]",
        "d = 'x # y'",
        "# [[e]]",
        "",
        "f = {a = 1}",
    ]
)


@given(st.lists(LINE, max_size=6))
def test_the_line_of_a_key_is_found_whatever_stands_before_it(lines: list[str]) -> None:
    text = "\n".join([*lines, "[[last]]", "key = 1", "[[last]]", "key = 2"])
    found = lines_in(text)
    rows = text.split("\n")
    assert rows[found["last", 1, "key"] - 1] == "key = 2"
    assert rows[found["last", 0, "key"] - 1] == "key = 1"


def test_check_only_looks_and_tells_what_does_not_hold(yeldro, network) -> None:
    name = written(yeldro)
    before = network.contents()
    found = yeldro("check", name, *CUTOFF, "--json", db=network.url).json()
    assert (found["holds"], found["when"], len(found["checks"])) == (True, "before", 3)
    found = yeldro("check", name, *CUTOFF, "--after", "--json", db=network.url).json()
    assert (found["holds"], found["when"], len(found["checks"])) == (True, "after", 1)
    buoys = network.value("SELECT count(*) FROM buoy")
    wrong = yeldro("check", "buoy", "--all-rows", "--expect", str(buoys - 1), "--json",
                   db=network.url, code=4).json()  # fmt: skip
    assert wrong["checks"][0]["found"] == buoys
    assert (
        "Nothing is expected" in yeldro("check", "buoy", "--all-rows", db=network.url, code=2).err
    )
    assert network.contents() == before


def test_a_check_before_a_run_and_one_after_it_tell_what_a_pipeline_asks(yeldro, network) -> None:
    """The later remove finds fewer rows when the earlier one is done, and is counted so."""
    both = network.value("SELECT count(*) FROM alert WHERE level IN ('notice', 'warning')")
    notices = network.value("SELECT count(*) FROM alert WHERE level = 'notice'")
    text = f"""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        expect = "{notices}"
        [[remove]]
        from = "alert"
        where = "level in ('notice', 'warning')"
        expect = "{both - notices}"
        [[after]]
        query = "select count(*) from alert where level = 'notice'"
        expect = "0"
    """
    (yeldro.folder / "job.toml").write_text(textwrap.dedent(text))
    before = network.contents()
    yeldro("check", "job.toml", db=network.url)
    assert "fails" in yeldro("check", "job.toml", "--after", db=network.url, code=4).out
    assert network.contents() == before
    yeldro("run", "job.toml", "--yes", db=network.url)
    yeldro("check", "job.toml", "--after", db=network.url)
    assert "fails" in yeldro("check", "job.toml", db=network.url, code=4).out
    told = yeldro(
        "check", "alert", "--all-rows", "--expect", "1", "--after", db=network.url, code=2
    )
    assert "Nothing must hold after a run" in told.err


PROJECT = """
db = "here"
receipts = "kept"
protect = ["technician", "no_such_table"]
most_rows = 50

[database.here]
url = "buoys.db"
"""


@pytest.mark.parametrize(
    ("name", "holds"),
    [("buoy", True), ("BUOY", True), ('"buoy"', True), ("bouy", False), ("public.bouy", False),
     ("seen", False), ("", False)],
)  # fmt: skip
def test_a_protected_name_protects_or_is_said_to_be_none(
    yeldro: Yeldro, network: AnyDatabase, name: str, holds: bool
) -> None:
    network.script("CREATE VIEW seen AS SELECT * FROM buoy")
    (yeldro.folder / "yeldro.toml").write_text(f"protect = ['{name}']")
    words = ("buoy", "--where", "id = 6", "--follow", "all")
    for command in (("plan",), ("run", "--expect", "1", "--yes")):
        done = yeldro(*command[:1], *words, *command[1:], db=network.url, code=None)
        if holds:
            assert command[0] == "plan" or (done.code, "is protected" in done.err) == (3, True)
        else:
            assert done.code == 0
            assert f"protects {name}, and there is no such table" in done.out


def test_the_project_file_names_protects_and_limits(yeldro, demo) -> None:
    (yeldro.folder / "yeldro.toml").write_text(PROJECT)
    below = yeldro.folder / "a" / "b"
    below.mkdir(parents=True)
    del yeldro.environment["YELDRO_RECEIPTS"]
    inside = Yeldro(below)
    inside.environment = yeldro.environment
    notices = demo.value("SELECT count(*) FROM alert WHERE level = 'notice'")
    words = ("alert", "--where", "level = 'notice'", "--expect", str(notices), "--yes")
    assert "allows 50 in one run" in inside("run", *words, code=3).err
    inside("run", *words, "--allow-more")
    assert demo.value("SELECT count(*) FROM alert WHERE level = 'notice'") == 0
    assert len(list((yeldro.folder / "kept").iterdir())) == 1
    guarded = inside("plan", "technician", "--where", "id = 1", "--follow", "all", code=3)
    assert "technician is protected" in guarded.err
    assert "no_such_table" in inside("plan", "tag", "--where", "id = 1", "--follow", "all").out
    said = {e["name"]: e for e in inside("survey", "--config", "--json").json()}
    assert said["most rows in one run"]["value"] == "50"
    assert said["database"]["said_in"].endswith("yeldro.toml")
    (yeldro.folder / "yeldro.toml").write_text(PROJECT.replace("most_rows", "most_row"))
    assert "line 5" in inside("survey", code=2).err


def test_a_saved_plan_runs_exactly_so_or_tells_what_changed(yeldro, network) -> None:
    words = ("buoy", "--where", "retired_on < '2020-01-01'", "--follow", "all")
    saved = yeldro.folder / "plan.json"
    plan = yeldro("plan", *words, "-o", "plan.json", "--json", db=network.url).json()
    assert saved.stat().st_mode & 0o777 == 0o600
    assert "left as it is" in yeldro("plan", *words, "-o", "plan.json", db=network.url, code=3).err
    first, *_, last = (row[0] for row in network.rows(
        "SELECT id FROM buoy WHERE retired_on < '2020-01-01' ORDER BY id"))  # fmt: skip
    swapped = network.value("SELECT min(id) FROM buoy WHERE retired_on IS NULL")
    date = network.value(f"SELECT retired_on FROM buoy WHERE id = {last}")
    before = network.contents()
    network.script(f"UPDATE buoy SET retired_on = NULL WHERE id = {last};"
                   f"UPDATE buoy SET retired_on = '2019-01-01' WHERE id = {swapped};")  # fmt: skip
    refused = yeldro("run", "plan.json", "--yes", db=network.url, code=3)
    assert re.search(r"1 new \(such as id \d+\), 1 gone \(such as id \d+\)", refused.err)
    network.script(f"UPDATE buoy SET retired_on = NULL WHERE id = {swapped};"
                   f"UPDATE buoy SET retired_on = '{date}' WHERE id = {last};")  # fmt: skip
    assert network.contents() == before
    assert "one transaction" in yeldro("run", "plan.json", "--yes", "--batch", "1", db=network.url,
                                    code=2).err  # fmt: skip
    done = yeldro("run", "plan.json", "--yes", "--json", db=network.url).json()
    assert done["total"] == plan["total"]
    assert network.value(f"SELECT count(*) FROM buoy WHERE id = {first}") == 0
    gone = yeldro("run", "plan.json", "--yes", db=network.url, code=3)
    assert "has changed since plan.json was made" in gone.err


def test_a_saved_plan_of_another_database_or_changed_by_hand_is_refused(yeldro, demo) -> None:
    words = ("alert", "--where", "level = :level", "--param", "level=notice")
    yeldro("plan", *words, "-o", "plan.json", db=demo.url)
    other = yeldro.folder / "other.db"
    other.write_bytes(demo.path.read_bytes())
    assert "was made for" in yeldro("run", "plan.json", "--yes", db=str(other), code=3).err
    saved = yeldro.folder / "plan.json"
    text = saved.read_text()
    for changed in (text.replace("notice", "alarm", 1), text[:-30], "[]", "{}", "\x00",
                    text.replace('"yeldro_plan": 3', '"yeldro_plan": 4'),
                    text.replace('"yeldro_plan": 3', '"yeldro_plan": 1')):  # fmt: skip
        saved.write_text(changed)
        assert "plan.json" in yeldro("run", "plan.json", "--yes", db=demo.url, code=2).err
    dependent = written(yeldro)
    refused = yeldro("plan", dependent, *CUTOFF, "-o", "two.json", db=demo.url, code=3)
    assert "rehearse" in refused.err
    yeldro("rehearse", dependent, *CUTOFF, "-o", "two.json", db=demo.url)
    yeldro("run", "two.json", "--yes", db=demo.url)


KEYS = st.sets(st.text(max_size=8), max_size=40)


@given(KEYS, KEYS, st.integers(0, 3000))
def test_the_keys_that_differ_come_back_from_two_prints(a, b, common: int) -> None:
    shared = {f"common {n}" for n in range(common)}
    prints = []
    for keys in (a | shared, b | shared):
        made = KeySketch()
        for key in sorted(keys, key=hash):
            made.add(key.encode())
        prints.append(KeySketch.read(json.loads(json.dumps(made.document()))))
    found = prints[1].since(prints[0])
    assert found.whole
    assert (set(found.new), set(found.gone)) == (b - a - shared, a - b - shared)


def test_links_changed_and_then_removed_come_back(yeldro, made) -> None:
    """A later remove of one file takes rows that an earlier one changed."""
    database = made("""
        CREATE TABLE port (id INTEGER PRIMARY KEY, code VARCHAR(9), name VARCHAR(9));
        CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER,
                           FOREIGN KEY (port_id) REFERENCES port (id));
        INSERT INTO port VALUES (1, 'a', 'x'), (2, 'a', 'y'), (3, 'b', 'x');
        INSERT INTO ship VALUES (1, 1), (2, 2), (3, 3);
    """)
    twice = written(yeldro, """
        [[remove]]
        from = "port"
        duplicates_by = ["code"]
        keep = ["highest:id"]
        repoint = true
        expect = 1
        [[remove]]
        from = "port"
        duplicates_by = ["name"]
        keep = ["highest:id"]
        repoint = true
        expect = "0.."
        [[remove]]
        from = "port"
        where = "id = 2"
        detach = ["ship"]
        expect = 1
        [[remove]]
        from = "ship"
        where = "id = 2"
        expect = 1
    """)  # fmt: skip
    there_and_back(yeldro, database, twice)


def test_what_blocks_a_file_is_told_with_an_option_that_works(yeldro, network) -> None:
    name = written(yeldro, FILE.replace('follow = ["visit"]', ""))
    blocked = yeldro("plan", name, *CUTOFF, db=network.url, code=3)
    assert "Add --follow visit.buoy_id" in blocked.err
    done = yeldro("plan", name, *CUTOFF, "--follow", "visit.buoy_id", "--json", db=network.url)
    with_it = yeldro("plan", written(yeldro), *CUTOFF, "--json", db=network.url)
    assert done.one()["total"] == with_it.one()["total"]


def test_a_file_of_many_kinds_of_nonsense_is_never_a_fault(yeldro, demo) -> None:
    """Cut short, or with a character changed: refused or done, never a fault in Yeldro."""
    whole = FILE.encode()
    places = range(1, len(whole), len(whole) // 12)
    for place in places:
        for text in (whole[:place], whole[:place] + b"\xff" + whole[place + 1 :]):
            (yeldro.folder / "job.toml").write_bytes(text)
            done = yeldro("check", "job.toml", *CUTOFF, db=demo.url, code=None)
            assert done.code in (0, 2, 3, 4), done


def test_a_file_runs_where_it_says_and_what_is_not_used_is_said(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    """Its path starts at its own folder; the terminal's default does not count."""
    folder = yeldro.folder / "night"
    folder.mkdir()
    own = SqliteFile(folder / "own.db")
    own.path.write_bytes(demo.path.read_bytes())
    (folder / "old.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "id < 3"
        expect = 2
        [options]
        db = "own.db"
    """)
    said = yeldro("run", "night/old.toml", "--yes", db=demo.url).err
    assert f"The database is sqlite:///{own.path}; YELDRO_DB names " in said
    assert own.value("SELECT count(*) FROM alert WHERE id < 3") == 0
    assert demo.value("SELECT count(*) FROM alert WHERE id < 3") == 2
    said = yeldro("run", "night/old.toml", "--yes", "--db", demo.url).err
    assert "night/old.toml names sqlite:///" in said
    assert demo.value("SELECT count(*) FROM alert WHERE id < 3") == 0
    assert "not used" not in yeldro("plan", "night/old.toml", db=own.url, code=4).err

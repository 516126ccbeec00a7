"""Values of parameters are read by the type of the column that they are compared with."""

from __future__ import annotations

import calendar
import re
from collections.abc import Callable
from datetime import date, timedelta

import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile

from yeldro.core.selection.conditions.parameters import relative_day

TYPES = {
    "sqlite": ("BOOLEAN", "DATETIME"),
    "postgresql": ("boolean", "timestamp"),
    "mariadb": ("boolean", "datetime"),
}
READ = [  # a condition, a value as it is typed, and how many of the five rows it matches
    ("afloat = :v", "true", 3),
    ("afloat = :v", "No", 2),
    ("afloat = :v", "0", 2),
    ("mass = :v", "007", 1),
    ("depth < :v", "25e-1", 1),
    ("depth = :v", "2.50", 1),
    ("name = :v", "12", 1),
    ("name = :v", "'12'", 1),
    ("name = :v", "", 1),
    ("name in (:v, 'Eddy')", "12", 2),
    ("set_out < :v", "2020-01-03", 2),
    ("set_out between '2020-01-01' and :v", "2020-01-03", 3),
    ("set_out < :v", "today-1d", 5),
    ("set_out > :v", "today", 0),
    ("seen < :v", "2020-01-03", 2),
    ("seen <= :v", "2020-01-03 12:00:00", 3),
    ("seen > :v", "today+1y", 0),
    ("name > :v", "today-90d", 2),  # the day, as text: 'Eddy' and 'Gyre' come after every digit
    ("not (:v = mass)", "1", 4),
    ("lower(name) = :v", "12", 1),  # and not '12abc', as where MariaDB compares it with a number
    ("trim(name) in ('Eddy', :v)", "12", 2),
    ("seen > :v and set_out > :v", "2020-01-03", 2),
]
REFUSED = [  # a condition, a value, and what the message names
    ("afloat = :v", "maybe", "afloat"),
    ("mass = :v", "many", "mass"),
    ("mass = :v", "0x1F", "mass"),
    ("depth < :v", "", "--param-null v"),
    ("set_out < :v", "20200103", "set_out"),
    ("set_out < :v", "2020-13-01", "set_out"),
    ("set_out < :v", "01/02/2020", "set_out"),
    ("set_out < :v", "today-99999y", "set_out"),
    ("seen < :v", "yesterday", "seen"),
    ("name < :v", "today", "today-0d"),
    ("name = :v or mass = :v", "12", "several kinds"),
]


@pytest.fixture
def buoys(made: Callable[[str], AnyDatabase], request: pytest.FixtureRequest) -> AnyDatabase:
    boolean, moment = TYPES[request.node.callspec.params["made"]]
    rows = [
        ("true", 7, "1.00", "'2020-01-01'", "'2020-01-01 12:00:00'", "'12'"),
        ("true", 1, "2.50", "'2020-01-02'", "'2020-01-02 12:00:00'", "'Eddy'"),
        ("true", 2, "3.00", "'2020-01-03'", "'2020-01-03 12:00:00'", "'Gyre'"),
        ("false", 3, "4.00", "'2020-01-04'", "'2020-01-04 12:00:00'", "''"),
        ("false", 4, "5.00", "'2020-01-05'", "'2020-01-05 12:00:00'", "'12abc'"),
    ]
    filled = "".join(
        f"INSERT INTO buoy VALUES ({n}, {', '.join(map(str, row))});" for n, row in enumerate(rows)
    )
    columns = f"afloat {boolean}, mass INTEGER, depth DECIMAL(8, 2), set_out DATE, seen {moment}"
    return made(
        f"CREATE TABLE buoy (id INTEGER PRIMARY KEY, {columns}, name VARCHAR(20)); {filled}"
    )


def test_a_value_is_read_by_its_columns_type(yeldro: Yeldro, buoys: AnyDatabase) -> None:
    for number, (where, value, rows) in enumerate(READ):
        words = ["buoy", "--where", where, "--param", f"v={value}"]
        (found,) = yeldro("preview", *words, "--json", db=buoys.url).json()["removes"]
        assert found["matched"] == rows, (where, value)
        if number % 3 == 2:
            continue
        if number % 3:
            script = yeldro("script", *words, db=buoys.url, code=0 if rows else 3).out
            assert bool(rows) == bool(script)
            assert ":v" not in "".join(
                line for line in script.splitlines() if not line.startswith("--")
            )
            continue
        plan = f"{number}.json"
        yeldro("plan", *words, "-o", plan, db=buoys.url)
        assert yeldro("rehearse", plan, "--json", db=buoys.url).json()["total"] == rows


def test_a_value_that_cannot_be_of_its_columns_type_is_refused(
    yeldro: Yeldro, buoys: AnyDatabase
) -> None:
    for where, value, named in REFUSED:
        words = ("preview", "buoy", "--where", where, "--param", f"v={value}")
        told = yeldro(*words, db=buoys.url, code=2).err
        assert named in told
        assert repr(value) in told or "several kinds" in told
        assert "single quotes" in told or "for the word" in told


def test_null_is_told_apart_from_empty_text(yeldro: Yeldro, buoys: AnyDatabase) -> None:
    buoys.script("UPDATE buoy SET name = NULL WHERE id = 4;")
    same = {"SQLite": "is", "PostgreSQL": "is not distinct from", "MariaDB": "<=>"}
    system = yeldro("survey", "--json", db=buoys.url).json()
    assert system["tables"]
    where = next(
        text for name, text in same.items() if name.lower() in type(buoys).__name__.lower()
    )
    words = ("preview", "buoy", "--where", f"name {where} :v", "--json")
    empty = yeldro(*words, "--param", "v=", db=buoys.url).json()["removes"][0]["rows"]
    null = yeldro(*words, "--param-null", "v", db=buoys.url).json()["removes"][0]["rows"]
    assert [row["id"] for row in empty] == [3]
    assert [row["id"] for row in null] == [4]
    told = yeldro(*words, "--param", "v=", "--param-null", "v", db=buoys.url, code=2).json()
    assert "twice" in told["error"]["why"]


def test_a_relative_day_is_told_with_its_date(yeldro: Yeldro, buoys: AnyDatabase) -> None:
    days = {date.today() - timedelta(days=90)}
    words = ("run", "buoy", "--where", "set_out < :cutoff", "--param", "cutoff=today-90d")
    yeldro(*words, "--expect", "5", "--yes", db=buoys.url)
    days.add(date.today() - timedelta(days=90))  # midnight may have passed
    title = yeldro("receipt", "show", "--json").json()["title"]
    assert "cutoff=today-90d" in title
    assert any(f"(cutoff = {day})" in title for day in days)


def test_a_file_may_have_a_relative_day_as_its_default(yeldro: Yeldro, demo: SqliteFile) -> None:
    (yeldro.folder / "old.toml").write_text(
        '[param.cutoff]\ntype = "date"\ndefault = "today-2w"\n'
        '[[remove]]\nfrom = "alert"\nwhere = "raised_at < :cutoff"\n'
    )
    by_default = yeldro("plan", "old.toml", "--json", db=demo.url).json()["total"]
    assert by_default == demo.value("SELECT count(*) FROM alert")
    words = ("plan", "old.toml", "--param", "cutoff=today-900y", "--json")
    assert yeldro(*words, db=demo.url).json()["total"] == 0


@given(st.dates(), st.integers(-5000, 5000), st.sampled_from("dwmy"))
def test_days_are_counted_as_the_calendar_does(today: date, number: int, unit: str) -> None:
    text = f"today{number:+}{unit}"
    try:
        day = relative_day(text, today)
    except ValueError:
        far = {"d": 1, "w": 7, "m": 28, "y": 365}[unit] * number + today.toordinal()
        assert far < 366 * 12 or far > date.max.toordinal() - 366 * 12 * 20
        return
    assert day is not None
    if unit in "dw":
        assert (day - today).days == number * (7 if unit == "w" else 1)
    else:
        months = (day.year - today.year) * 12 + day.month - today.month
        assert months == number * (12 if unit == "y" else 1)
        last = calendar.monthrange(day.year, day.month)[1]
        assert day.day == min(today.day, last)


def test_names_with_commas_and_dots_stand_in_double_quotes(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], request: pytest.FixtureRequest
) -> None:
    mark = "`" if request.node.callspec.params["made"] == "mariadb" else '"'

    def q(name: str) -> str:
        return f"{mark}{name}{mark}"

    database = made(
        f"CREATE TABLE {q('log.old')} ({q('a,b')} INTEGER PRIMARY KEY);"
        f"CREATE TABLE part ({q('c.d')} INTEGER PRIMARY KEY, {q('x=y,z')} INTEGER, n INTEGER,"
        f" FOREIGN KEY (n) REFERENCES {q('log.old')} ({q('a,b')}));"
        f"INSERT INTO {q('log.old')} VALUES (1), (2);"
        "INSERT INTO part VALUES (1, 5, 1), (2, 5, 1), (3, 6, 2);"
    )
    words = ("duplicates", "part", "--by", '"x=y,z",n', "--keep", 'highest:"c.d"', "--json")
    (group,) = yeldro(*words, db=database.url).json()["sample"]
    assert group["kept"]["c.d"] == 2
    shown = yeldro("preview", "part", "--all-rows", "--show", '"x=y,z","c.d"', "--json",
                   db=database.url).json()["removes"][0]["rows"]  # fmt: skip
    assert list(shown[0]) == ["x=y,z", "c.d"]
    words = ("plan", "part", "--matching", '"log.old":"x=y,z"="a,b"', "--json")
    assert yeldro(*words, db=database.url).json()["total"] == 0
    words = ("plan", '"log.old"', "--all-rows", "--follow", '"part"', "--json")
    assert yeldro(*words, db=database.url).json()["total"] == 5


def test_what_became_of_a_default_and_of_a_relative_day_is_in_every_record(
    yeldro: Yeldro, network: AnyDatabase
) -> None:
    """The receipt, its page and the JSON say the day itself, the whole order, and the time zone."""
    file = yeldro.folder / "old.toml"
    file.write_text("""
        [param.cut]
        type = "date"
        default = "today-1d"
        [[remove]]
        from = "alert"
        where = "raised_at < :cut"
        order_by = "raised_at"
        limit = 3
        [[remove]]
        from = "reading"
        where = "taken_at < :cut and id = 4"
        follow = ["all"]
    """)
    day = str(date.today() - timedelta(days=1))
    done = yeldro("run", str(file), "--expect", "total=3..9", "--yes", "--json",
                  db=network.url).json()  # fmt: skip
    shown = yeldro("receipt", "show", "--json").json()["asked"]
    assert [each["asked"] for each in done["removes"]] == shown
    first = {each["field"]: each["value"] for each in shown[0]}
    assert first["where"] == "raised_at < :cut"
    assert first["order_by"] == "raised_at, id"
    assert first["parameter"] == day
    assert first["time_zone"]
    said = yeldro("receipt", "show", "--report", "page.html").out
    assert re.search(rf"1 :cut +{day}\n", said)
    assert re.search(r"2 follow +all\n", said)
    assert day in (yeldro.folder / "page.html").read_text()

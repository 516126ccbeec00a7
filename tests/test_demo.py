"""The demo, the README's commands, and how quickly help comes."""

from __future__ import annotations

import re
import shlex
import sqlite3
from pathlib import Path

import pytest
from conftest import Yeldro
from systems import SqliteFile

README = Path(__file__).parents[1] / "README.md"


def test_the_demo_walks_through_the_whole_job_and_ends_where_it_began(yeldro: Yeldro) -> None:
    yeldro("demo", "untouched", "--only-data")
    out = yeldro("demo", "walked").out
    typed = re.findall(r"^\$ yeldro (\w+)", out, re.MULTILINE)
    assert {"survey", "preview", "plan", "run", "duplicates", "receipt", "restore"} == set(typed)
    assert out.count("(exit code 3)") == 1
    assert out.count("(exit code 4)") == 1
    assert "Traceback" not in out
    dumps = []
    for folder in ("untouched", "walked"):
        connection = sqlite3.connect(yeldro.folder / folder / "buoys.db")
        dumps.append(sorted(connection.iterdump()))
        connection.close()
    assert dumps[0] == dumps[1]
    assert len(dumps[0]) > 20_000


@pytest.mark.parametrize("made", ["postgresql", "mariadb"], indirect=True)
def test_a_demo_made_after_one_on_a_server_has_every_foreign_key(yeldro: Yeldro, made) -> None:
    words = ("--only-data", "--readings", "9")
    yeldro("demo", "--db", made("SELECT 1;").url, *words)
    yeldro("demo", "after", *words)
    connection = sqlite3.connect(yeldro.folder / "after" / "buoys.db")
    keys = connection.execute("SELECT \"from\" FROM pragma_foreign_key_list('buoy')").fetchall()
    connection.close()
    assert ("main_sensor_id",) in keys


def test_the_demo_is_the_same_every_time(yeldro: Yeldro) -> None:
    """Its tables too: their foreign keys have an order in what people see."""
    made = []
    for n in range(8):
        yeldro("demo", f"made{n}", "--only-data", "--readings", "100")
        made.append(sorted(SqliteFile(yeldro.folder / f"made{n}" / "buoys.db").contents()))
    assert made == made[:1] * 8


def test_the_demo_has_the_same_counts_on_every_system(yeldro: Yeldro, made) -> None:
    database = made("SELECT 1;")
    if database.url.endswith("made.db"):
        Path(database.url).unlink(missing_ok=True)
    out = yeldro("demo", "walked", "--db", database.url).out
    assert re.findall(r"Committed: ([\d,]+) rows", out) == ["1,381", "884", "884", "1,381"]
    assert "Traceback" not in out
    assert database.value("SELECT count(*) FROM reading") == 18_000
    if database.url.endswith("made.db"):
        return
    full = yeldro("demo", "again", "--db", database.url, "--only-data", code=3)
    assert "is not empty" in full.err


def test_every_command_the_demo_prints_can_be_typed(yeldro: Yeldro) -> None:
    out = yeldro("demo", "walked").out
    codes = {"3": 3, "4": 4}
    for line, after in re.findall(r"^\$ yeldro (.*)\n((?:(?!\$ ).*\n)*)", out, re.MULTILINE):
        words = shlex.split(line)
        if words[0] in ("survey", "preview", "plan", "duplicates"):
            found = re.search(r"\(exit code (\d)\)", after)
            code = codes[found[1]] if found else 0
            typed = yeldro(*words, db="walked/buoys.db", code=code)
            assert typed.out.splitlines()[0].split()[0] == words[0]


def test_the_demo_never_overwrites_a_file(yeldro: Yeldro) -> None:
    yeldro("demo", "here", "--only-data", "--readings", "10")
    before = (yeldro.folder / "here" / "buoys.db").read_bytes()
    assert "already" in yeldro("demo", "here", code=3).err
    assert (yeldro.folder / "here" / "buoys.db").read_bytes() == before


def test_the_readmes_commands_work_on_the_demo(tmp_path: Path) -> None:
    """Each finds something to do, and the third undoes the second."""
    yeldro = Yeldro(tmp_path)
    typed = [
        shlex.split(line.partition("&&")[0], comments=True)
        for line in re.findall(r"(?m)^yeldro (.*)$", README.read_text().replace("\\\n", " "))
    ]
    assert [words[0] for words in typed[:4]] == ["demo", "plan", "run", "restore"]
    assert len(typed) > 14
    yeldro.environment["XDG_STATE_HOME"] = str(yeldro.folder)
    yeldro("demo", ".", *typed[0][2:])
    before = SqliteFile(tmp_path / "buoys.db").contents()
    for place, words in enumerate(typed[1:], 1):
        asked = words[0] in ("run", "restore") and "--yes" not in words
        done = yeldro(*words,
                      *(["--yes"] if asked else []), db="buoys.db")  # fmt: skip
        assert not re.search("no row matches|nothing to do|^0 of ", done.out, re.I), words
        if place == 3:
            assert SqliteFile(tmp_path / "buoys.db").contents() == before


def test_every_command_is_named_and_has_its_help(tmp_path: Path) -> None:
    yeldro = Yeldro(tmp_path, installed=True)
    text = yeldro("--help").out
    for command in ("survey", "preview", "plan", "run", "restore", "demo"):
        assert command in text
        assert "Usage: yeldro " + command in yeldro(command, "--help").out

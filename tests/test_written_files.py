"""A file that is asked for is there whole, or not at all, and never in place of another."""

from __future__ import annotations

import json
import math
import shlex
from pathlib import Path

import pytest
from conftest import Yeldro
from systems import SqliteFile

SMALL = "alert --where 'id <= 40'"
WRITERS = {  # command lines that write a file, each with a name in place of FILE
    "plan.json": f"plan {SMALL} -o FILE",
    "rehearsed.json": f"rehearse {SMALL} -o FILE",
    "plan.html": f"plan {SMALL} --report FILE",
    "receipt.html": "receipt show last --report FILE",
    "map.svg": "survey --map FILE",
    "map.png": "survey --map FILE",
    "map.html": f"plan {SMALL} --map FILE",
    "map.mmd": f"plan {SMALL} --map FILE",
    "new.toml": f"new FILE {SMALL}",
    "review.csv": "duplicates reading --by sensor_id,taken_at --review FILE",
    "review.xlsx": "duplicates reading --by sensor_id,taken_at --review FILE",
    "rows.csv": "receipt export last --to FOLDER",
    "rows.jsonl": "receipt export last --to FOLDER --lines",
}


@pytest.fixture
def used(yeldro: Yeldro, demo: SqliteFile) -> Yeldro:
    """The program in a folder with a receipt."""
    yeldro.environment["YELDRO_DB"] = demo.url
    yeldro("run", "alert", "--where", "id > 90", "--follow", "all", "--expect", "1..900", "--yes")
    return yeldro


@pytest.mark.parametrize("name", WRITERS)
def test_nothing_is_left_of_a_file_that_the_disk_has_no_room_for(
    used: Yeldro, demo: SqliteFile, name: str
) -> None:
    folder = used.folder / "out"
    line = WRITERS[name].replace("FILE", f"out/{name}").replace("FOLDER", "out/rows")
    words = shlex.split(line)
    folder.mkdir()
    used(*words)
    whole = {each: each.read_bytes() for each in folder.rglob("*") if each.is_file()}
    assert whole
    again = used(*words, code=3).err
    assert "exists already" in again
    assert {each: each.read_bytes() for each in whole} == whole
    for each in whole:
        assert each.stat().st_mode & 0o777 == 0o600
        each.unlink()
    before = demo.contents()
    size = max(map(len, whole.values()))
    done = used.on_a_disk(size - 1, *words)
    code, said = done.code, done.err
    assert code == 5, said
    if line.startswith("rehearse"):  # the database's own journal has no room either
        assert "rolled back" in said or "could not be written: File too large" in said
    else:
        assert said.startswith("Nothing was changed."), said
        assert "could not be written: " in said
    assert not [each for each in folder.rglob("*") if each.is_file()]
    assert demo.contents() == before


def test_a_lost_note_of_the_last_preview_stops_nothing(used: Yeldro) -> None:
    used.environment["XDG_STATE_HOME"] = str(used.folder)
    used("preview", *shlex.split(SMALL))
    done = used.on_a_disk(0, "preview", "buoy", "--all-rows")
    assert done.code == 0, done
    used("new", "old.toml", "--from-last")
    assert 'from = "alert"' in (used.folder / "old.toml").read_text()


def test_exported_lines_are_json_that_parsers_take(yeldro: Yeldro, file_made) -> None:
    """JSON has no infinity, and no bytes (RFC 8259)."""
    database = file_made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, up REAL, raw BLOB);
        INSERT INTO mast VALUES (1, 9e999, x'00ff'), (2, -9e999, NULL), (3, 1.5, NULL);
    """)
    yeldro("run", "mast", "--all-rows", "--expect", "3", "--yes", db=database.url)
    yeldro("receipt", "export", "last", "--to", "out", "--lines")

    def refuse(word: str) -> float:
        raise ValueError(word)

    (written,) = Path(yeldro.folder / "out").iterdir()
    lines = written.read_text().splitlines()
    rows = [json.loads(line, parse_constant=refuse) for line in lines]
    assert [row["up"] for row in rows] == ["inf", "-inf", 1.5]
    assert [math.isinf(float(row["up"])) for row in rows] == [True, True, False]
    assert rows[0]["raw"] == "x'00ff'"

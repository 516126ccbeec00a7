"""Output that cannot be written denies no commit, and is no fault of the program."""

from __future__ import annotations

import shlex
import subprocess
from itertools import cycle
from pathlib import Path

import pytest
from conftest import PROGRAM, Yeldro
from systems import SqliteFile

READING = [
    "plan alert --all-rows", "preview reading --all-rows --rows 500 --json", "--help",
]  # fmt: skip
WAYS = {  # how standard output or standard error ends, and the exit code of what succeeds
    "> /dev/full": 5,
    ">&-": 5,
    "| head -1": 0,
    "| true": 0,
    "2> /dev/full": 0,
    "2>&-": 0,
    "< /dev/null > /dev/null 2>&1": 0,
}


def ended(yeldro: Yeldro, line: str, way: str) -> tuple[int, str]:
    """The exit code of the program in a shell, and what stands on standard error."""
    script = f"{shlex.quote(str(PROGRAM))} {line} {way}; exit ${{PIPESTATUS[0]}}"
    done = subprocess.run(
        ["bash", "-c", script], env=yeldro.environment, cwd=yeldro.folder, capture_output=True,
        text=True, timeout=120, check=False,
    )  # fmt: skip
    return done.returncode, done.stderr


@pytest.mark.parametrize("way", WAYS)
def test_what_only_looks_ends_quietly_or_says_that_its_output_is_lost(
    yeldro: Yeldro, demo: SqliteFile, way: str
) -> None:
    yeldro.environment["YELDRO_DB"] = demo.url
    for line in READING:
        code, said = ended(yeldro, line, way)
        assert code == WAYS[way], (line, said)
        assert "Traceback" not in said
        assert "Exception ignored" not in said
        if code:
            assert "Standard output could not be written" in said, line
    code, said = ended(yeldro, "plan alert --where nosuch=1", way)
    assert code == 2, said


@pytest.mark.parametrize(("way", "more"), list(zip(WAYS, cycle(["", " --json"]), strict=False)))
def test_a_commit_is_never_denied_by_what_becomes_of_the_output(
    yeldro: Yeldro, demo: SqliteFile, way: str, more: str
) -> None:
    yeldro.environment["YELDRO_DB"] = demo.url
    alerts = demo.value("SELECT count(*) FROM alert")
    for line, left in (("run alert --where 'id <= 3' --expect 3 --yes", alerts - 3),
                       ("restore last --yes", alerts)):  # fmt: skip
        code, said = ended(yeldro, line + more, way)
        assert code in (0, WAYS[way]), said
        assert demo.value("SELECT count(*) FROM alert") == left
        assert "Traceback" not in said
        assert "rolled back" not in said
        if code:
            assert said.startswith("Committed: "), said
    assert {each["outcome"] for each in yeldro("receipt", "list", "--json").json()} == {"committed"}
    assert len(list(Path(yeldro.receipts).iterdir())) == 2


ENCODINGS = ["ascii", "cp1252"]
LOOKS = [
    ("survey", "--map", "-"),
    ("preview", "buoy", "--where", "id = 6"),
    ("plan", "buoy", "--where", "id = 6", "--follow", "all", "--why", "visit:6,1", "--map", "-"),
    ("duplicates", "reading", "--by", "sensor_id,taken_at"),
    ("rehearse", "alert", "--all-rows"),
    ("receipt", "list"),
]


@pytest.mark.parametrize("encoding", ENCODINGS)
def test_what_an_encoding_lacks_stops_nothing_and_denies_no_commit(
    tmp_path: Path, demo: SqliteFile, encoding: str
) -> None:
    """Arrows and lines are written in other signs; rows and statements never are."""
    yeldro = Yeldro(tmp_path, installed=True)
    yeldro.environment |= {"PYTHONIOENCODING": "utf-8:strict", "YELDRO_DB": demo.url}
    demo.script("UPDATE buoy SET name = 'Ekofisk → 北 \U0001f6df' WHERE id = 6")
    ran = ("run", "buoy", "--where", "id = 6", "--follow", "all", "--expect", "1..", "--yes")

    def said(*words: str) -> tuple[int, str, str]:
        done = subprocess.run([PROGRAM, *words], capture_output=True, check=False, cwd=tmp_path,
                              env=yeldro.environment | {"PYTHONIOENCODING": encoding})  # fmt: skip
        texts = (each.decode(encoding, "replace") for each in (done.stdout, done.stderr))
        return done.returncode, *texts

    for words in LOOKS:
        code, out, err = said(*words)
        assert (code, "Traceback" in err) == (0, False), (words, err)
        assert out
    exact = ("preview", "buoy", "--where", "id = 6", "--csv"), ("script", "buoy", "--where", "id=7",
             "--follow", "all")  # fmt: skip
    for words in exact:
        code, out, err = said(*words)
        assert code == (0 if encoding == "utf-8" else 2), (words, out, err)
        assert "Traceback" not in err
        assert "→" in out or "The output is incomplete" in err
    code, out, err = said(*ran)
    assert (code, "Committed" in out, "Traceback" in err) == (0, True, False), err
    code, out, err = said("restore", "last", "--yes")
    assert (code, "Committed" in out) == (0, True), err
    assert demo.value("SELECT name FROM buoy WHERE id = 6") == "Ekofisk → 北 \U0001f6df"


def test_a_current_folder_that_is_gone_is_said(tmp_path: Path, demo: SqliteFile) -> None:
    script = f"mkdir gone; cd gone; rmdir ../gone; {shlex.quote(str(PROGRAM))} survey"
    environment = Yeldro(tmp_path).environment | {"YELDRO_DB": demo.url}
    done = subprocess.run(["bash", "-c", script], capture_output=True, text=True, check=False,
                          cwd=tmp_path, env=environment)  # fmt: skip
    assert done.returncode == 2
    assert "The current folder is not there any more." in done.stderr
    assert "Traceback" not in done.stderr

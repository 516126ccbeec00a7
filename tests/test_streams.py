"""Output that cannot be written denies no commit, and is no fault of the program."""

from __future__ import annotations

import shlex
import subprocess
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


@pytest.mark.parametrize("way", WAYS)
@pytest.mark.parametrize("more", ["", " --json"])
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

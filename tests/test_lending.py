"""The first hour on the schema of another trade: every command, and a file for every night."""

from __future__ import annotations

import re
from collections.abc import Callable

import lending
import pytest
from conftest import Yeldro, there_and_back
from systems import AnyDatabase

Make = Callable[[str], AnyDatabase]
PEOPLE = ("member", "--duplicates-by", "name,born", "--null-distinct", "--keep", "lowest:id",
          "--repoint", "--follow", "reservation")  # fmt: skip


@pytest.fixture
def library(made: Make) -> AnyDatabase:
    return made(lending.script())


def test_the_nightly_file_runs_is_restored_and_runs_again(
    yeldro: Yeldro, library: AnyDatabase
) -> None:
    """The second night finds nothing to do, and the third what was restored meanwhile."""
    (yeldro.folder / "night.toml").write_text(lending.NIGHT)
    before = library.contents()
    words = ("night.toml", "--expect", "total=0..", "--yes", "--json")
    rehearsed = yeldro("rehearse", "night.toml", "--json", db=library.url).json()
    assert library.contents() == before
    first = yeldro("run", *words, db=library.url).json()
    after = library.contents()
    assert (first["total"], first["outcome"]) == (rehearsed["total"], "committed")
    assert len(first["removes"]) == 3
    assert yeldro("run", *words, db=library.url).json()["outcome"] == "nothing_to_do"
    yeldro("restore", first["receipt"], "--yes")
    assert library.contents() == before
    again = yeldro("run", *words, db=library.url).json()
    assert again["total"] == first["total"]
    assert library.contents() == after
    yeldro("check", "night.toml", "--after", db=library.url)


def test_a_page_about_several_removes_has_the_numbers_of_the_run(
    yeldro: Yeldro, library: AnyDatabase
) -> None:
    """Not those of plans that were made before each other."""
    (yeldro.folder / "night.toml").write_text(lending.NIGHT)
    words = ("night.toml", "--expect", "total=0..", "--yes", "--json", "--report", "night.html")
    done = yeldro("run", *words, db=library.url).json()
    page = (yeldro.folder / "night.html").read_text()
    assert f"Committed: {done['total']:,} rows gone or changed." in page
    assert f"{done['total']:,} rows went or changed." in page
    gone = done["ledger"].get("loan", {}).get("removed", 0)
    if gone:  # systems that count by table
        assert f"{gone:,} of " in page
    for remove in done["removes"]:
        for step in remove["steps"]:
            assert step["affected"] == step["rows"]
            stored = f"Step {step['n']}, {step['action']} {step['table']}: stored rows"
            assert stored in page
    assert "A row counts in each step that changes it." in page


def test_rows_that_several_removes_met_are_said_to_count_in_each(
    yeldro: Yeldro, library: AnyDatabase
) -> None:
    (yeldro.folder / "night.toml").write_text(lending.NIGHT)
    words = ("night.toml", "--expect", "total=0..", "--yes")
    told = " ".join(yeldro("run", *words, db=library.url).out.split())
    assert "A row counts in each step that changes it." in told
    loans = re.findall(r"(repoint|remove) +loan +(\d+)", told)
    assert len(loans) == 2


def test_people_entered_twice_are_merged_and_come_back(
    yeldro: Yeldro, library: AnyDatabase
) -> None:
    document = there_and_back(yeldro, library, *PEOPLE, "--fill", "email", "--expect", "1..")
    assert {step["action"] for step in document["steps"]} >= {"remove", "repoint"}


@pytest.mark.parametrize(
    "words",
    [
        ("survey",),
        ("survey", "loan"),
        ("preview", "loan", "--where", "due < '2018-01-01'"),
        ("preview", "overdue", "--all-rows"),
        ("duplicates", "member"),
        ("duplicates", "scan_log", "--by", "serial,scanned_at"),
        ("orphans",),
        ("plan", *PEOPLE),
        ("plan", "loan", "--where", "due < '2018-01-01'", "--detach", "fine", "--why", "loan:1"),
        ("plan", "member", "--missing-in", "loan", "--rows", "reservation"),
        ("rehearse", "scan_log", "--duplicates-by", "serial,scanned_at"),
        ("rehearse", "repair", "--all-rows"),
        ("script", "loan", "--where", "due < '2018-01-01'", "--detach", "fine"),
        ("plan", "instrument", "--where", "serial LIKE 'VLN%'", "--map", "-"),
        ("check", "fine", "--where", "paid = 1", "--expect", "0.."),
    ],
    ids=" ".join,
)
def test_every_command_works_on_it(
    yeldro: Yeldro, library: AnyDatabase, words: tuple[str, ...]
) -> None:
    before = library.contents()
    found = yeldro(*words, db=library.url, code=None)
    assert found.code in (0, 3), found
    assert found.out.strip()
    assert (found.code == 3) == ("Blocked" in found.out), found
    assert "Traceback" not in found.err
    assert library.contents() == before

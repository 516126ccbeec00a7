"""Programs read documents and errors: one shape for every way of asking, a code for each cause."""

from __future__ import annotations

import json
import re
import subprocess
from pathlib import Path

import pytest
from conftest import PROGRAM, Yeldro
from schemas import FOLDER
from systems import AnyDatabase

from yeldro.core.model.messages import errors

DOCUMENT = FOLDER.parent / "json.md"
OLD = ("--where", "retired_on < '2022-01-01'")


def test_a_table_a_file_a_saved_plan_and_sql_print_the_same_shape(yeldro: Yeldro, demo) -> None:
    alerts = ("alert", "--where", "level = 'notice'")
    count = demo.value("SELECT count(*) FROM alert WHERE level = 'notice'")
    yeldro("new", "job.toml", *alerts, db=demo.url)
    yeldro("plan", *alerts, "-o", "job.json", db=demo.url)
    (yeldro.folder / "job.sql").write_text("DELETE FROM alert WHERE level = 'notice';")
    ways = (alerts, ("job.toml",), ("job.json",), ("--sql", "job.sql"))
    for command in ("plan", "preview", "rehearse"):
        found = [yeldro(command, *way, "--json", db=demo.url).json() for way in ways]
        assert all(each["removes"] == found[0]["removes"] for each in found), command
        assert {each["total"] for each in found} == {count}
        assert len({tuple(each) for each in found}) == 1
    for way in ways[1:]:
        words = ("run", *way, "--yes", "--expect", f"total={count}", "--json")
        if way == ("job.json",):
            words = ("run", *way, "--yes", "--json")
        done = yeldro(*words, db=demo.url).json()
        assert done["outcome"] == "committed"
        assert done["total"] == done["removes"][0]["steps"][0]["affected"] == count
        yeldro("restore", "last", "--yes")


def test_checks_that_nobody_has_made_yet_have_no_answer(yeldro: Yeldro, demo) -> None:
    (yeldro.folder / "job.toml").write_text("""
        [[remove]]
        from = "alert"
        where = "level = 'notice'"
        [[after]]
        about = "no notice is left"
        query = "select count(*) from alert where level = 'notice'"
        expect = 0
    """)
    (open_,) = yeldro("plan", "job.toml", "--json", db=demo.url).json()["after"]
    assert (open_["found"], open_["holds"]) == (None, None)
    (made,) = yeldro("rehearse", "job.toml", "--json", db=demo.url).json()["after"]
    assert (made["found"], made["holds"]) == (0, True)


@pytest.mark.parametrize(
    ("words", "exit_code", "code", "evidence"),
    [
        (
            ("plan", "bouy", "--all-rows"),
            2,
            "unknown_name",
            {"name": "bouy", "nearest": ["buoy"]},
        ),
        (("plan", "alert", "--all-rows", "--follow", "nothing"), 2, "unknown_name", None),
        (("plan", "alert", "--where", "lvel = 1"), 2, "unknown_name", None),
        (("plan", "alert", "--al-rows"), 2, "usage_error", {}),
        (("plna",), 2, "usage_error", {}),
        (("plan", "alert"), 3, "no_selection", {}),
        (("run", "alert", "--all-rows", "--expect", "3", "--yes"), 4, "count_mismatch", None),
        (("rehearse", "buoy", *OLD), 3, "blocked_by_foreign_key", None),
        (("receipt", "show", "none"), 2, "unknown_name", {"name": "none", "nearest": []}),
        (("survey", "--db", "none.db"), 5, "out_of_reach", {}),
    ],
)
def test_an_error_is_a_document_too(
    yeldro: Yeldro, demo, words: tuple[str, ...], exit_code: int, code: str, evidence
) -> None:
    told = yeldro(*words, "--json", db=demo.url, code=exit_code)
    error = told.json()["error"]
    assert error["code"] == code
    assert error["data"] == "Nothing was changed."
    assert " ".join(filter(None, (error["data"], error["why"], error["next"]))) in told.err
    known = error["evidence"].pop("known", [])
    assert (code == "unknown_name") >= bool(known)
    assert evidence is None or error["evidence"] == evidence
    silent = yeldro(*words, db=demo.url, code=exit_code)
    assert silent.err == told.err
    assert "{" not in silent.out


def test_a_plan_that_is_refused_stands_in_one_document_with_the_reason(
    yeldro: Yeldro, demo
) -> None:
    found = yeldro("plan", "buoy", *OLD, "--json", db=demo.url, code=3).json()
    assert found["error"]["code"] == "blocked_by_foreign_key"
    blocked = [{name: each[name] for name in ("foreign_key", "table", "rows", "remedies")}
               for each in found["removes"][0]["blocked"]]  # fmt: skip
    assert found["error"]["evidence"]["blocked"] == blocked
    found = yeldro("plan", "alert", "--all-rows", "--expect", "1", "--json", db=demo.url, code=4)
    (difference,) = found.json()["error"]["evidence"]["differences"]
    assert difference["found"] == found.json()["removes"][0]["matched"]


def test_a_cause_is_told_apart_on_every_system(yeldro: Yeldro, network: AnyDatabase) -> None:
    def code_of(*words: str, code: int) -> str:
        found = yeldro(*words, "--json", db=network.url, code=code).json()
        return str(found["error"]["code"])

    first = network.value("SELECT min(id) FROM alert")
    one = ("alert", "--where", f"id = {first}")
    yeldro("plan", *one, "-o", "plan.json", db=network.url)
    yeldro("run", *one, "--expect", "1", "--yes", db=network.url)
    assert code_of("run", "plan.json", "--yes", code=3) == "plan_changed"
    network.script(
        "INSERT INTO alert (id, buoy_id, level, raised_at) SELECT "
        f"{first}, min(id), 'x', '2020-01-01' FROM buoy"
    )
    assert code_of("restore", "last", "--yes", code=3) == "key_taken"
    network.script(f"DELETE FROM alert WHERE id = {first}")
    yeldro("restore", "last", "--yes", db=network.url)
    (yeldro.folder / "yeldro.toml").write_text('protect = ["alert"]\n')
    assert code_of("run", *one, "--expect", "1", "--yes", code=3) == "limit_reached"


def test_every_cause_is_in_the_documentation() -> None:
    def below(kind: type) -> set[type]:
        return {kind}.union(*(below(each) for each in kind.__subclasses__()))

    codes = {kind.code for kind in below(errors.YeldroError)} - {"yeldro_error"}
    table = DOCUMENT.read_text("utf-8").split("## Errors")[1].split("\n## ")[0]
    assert codes == set(re.findall(r"^\| `(\w+)` \|", table, re.M))


def test_every_schema_is_named_in_the_documentation() -> None:
    names = {path.name for path in FOLDER.glob("*.schema.json")}
    assert names == set(re.findall(r"\(json/([\w.]+)\)", DOCUMENT.read_text("utf-8")))
    for path in FOLDER.glob("*.schema.json"):
        assert json.loads(path.read_text("utf-8"))["$schema"].endswith("2020-12/schema"), Path(path)


def test_a_reader_that_leaves_early_is_no_fault(yeldro: Yeldro, demo) -> None:
    words = [PROGRAM, "preview", "reading", "--all-rows", "--rows", "2000", "--json"]
    with subprocess.Popen(
        words, env=yeldro.environment | {"YELDRO_DB": demo.url}, cwd=yeldro.folder,
        stdout=subprocess.PIPE, stderr=subprocess.PIPE,
    ) as program:  # fmt: skip
        assert program.stdout is not None
        assert program.stderr is not None
        assert program.stdout.read(10)
        program.stdout.close()
        assert program.stderr.read() == b""
        assert program.wait() == 0

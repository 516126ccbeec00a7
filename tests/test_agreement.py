"""What was agreed to is what is done: the rows, the values that they are given, and the reasons."""

from __future__ import annotations

from collections.abc import Callable

import pexpect
import pytest
from conftest import PROGRAM, Yeldro
from systems import AnyDatabase

PORTS = """
    CREATE TABLE port (id INTEGER PRIMARY KEY, name VARCHAR(9), note VARCHAR(400));
    CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER DEFAULT 9,
                       FOREIGN KEY (port_id) REFERENCES port (id) ON DELETE {action});
    INSERT INTO port VALUES (1, 'a', NULL), (2, 'b', NULL), (3, 'a', 'x'), (4, 'b', 'y'),
                            (9, 'z', NULL);
    INSERT INTO ship VALUES (1, 3), (2, 4), (3, 1);
"""
MERGE = ("port", "--duplicates-by", "name", "--keep", "lowest:id", "--repoint")
FILL = (*MERGE[:5], "--fill", "note", "--detach", "all")
# What is asked for, what happens between the agreement and the run, and what is then said.
DRIFT = {
    "other links": (
        MERGE,
        "UPDATE port SET name = 'b' WHERE id = 3; UPDATE port SET name = 'a' WHERE id = 4",
        "id 1 would get port_id 2, and port_id 1 was agreed to",
    ),
    "another value": (
        FILL,
        "UPDATE port SET note = 'new' WHERE id = 3",
        "id 1 would get note new, and note x was agreed to",
    ),
    "a long value": (
        FILL,
        f"UPDATE port SET note = '{'long' * 99}' WHERE id = 3",
        "and note x was agreed to",
    ),
    "other rows": (
        ("port", "--where", "name = 'a'", "--detach", "all"),
        "UPDATE port SET name = 'b' WHERE id = 3; UPDATE port SET name = 'a' WHERE id = 4",
        "1 new (such as id 4), 1 gone (such as id 3)",
    ),
}


@pytest.mark.parametrize("kind", DRIFT)
def test_a_saved_plan_is_carried_out_as_it_was_agreed_to_or_refused(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], kind: str
) -> None:
    words, between, said = DRIFT[kind]
    database = made(PORTS.format(action="SET NULL"))
    yeldro("plan", *words, "-o", "plan.json", db=database.url)
    database.script(between)
    before = database.contents()
    assert said in yeldro("run", "plan.json", "--yes", db=database.url, code=3).err
    assert database.contents() == before


def test_another_action_of_a_foreign_key_is_another_plan(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PORTS.format(action="SET NULL"))
    yeldro("plan", "port", "--where", "id = 1", "-o", "plan.json", db=database.url)
    database.script(f"DROP TABLE ship; DROP TABLE port; {PORTS.format(action='CASCADE')}")
    refused = yeldro("run", "plan.json", "--yes", db=database.url, code=3).err
    assert "there was detach ship (ship.port_id" in refused
    assert "there is now remove ship (ship.port_id" in refused


@pytest.mark.parametrize("kind", [*DRIFT, "other rows, in batches"])
def test_the_prompt_agrees_to_rows_and_values(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], kind: str
) -> None:
    plain, _, cut = kind.partition(", in ")
    words, between, why = DRIFT[plain]
    words = (*words, *(["--batch", "1"] if cut else []))
    database = made(PORTS.format(action="SET NULL"))
    child = pexpect.spawn(
        str(PROGRAM), ["run", *words, "--expect", "total=1.."], encoding="utf-8", timeout=60,
        env=yeldro.environment | {"YELDRO_DB": database.url}, dimensions=(60, 160),
    )  # fmt: skip
    child.expect(r"(\d+)\x1b\[0m rows? in all")
    total = child.match.group(1)
    child.expect("in all, or q: ")
    database.script(between)
    before = database.contents()
    child.sendline(total)
    child.expect(pexpect.EOF)
    child.close()
    said = " ".join(child.before.split())
    assert "The database has changed since the plan was shown" in said, said
    assert why in said, said
    assert child.exitstatus == 3
    assert database.contents() == before


@pytest.mark.parametrize("made", ["postgresql"], indirect=True)
def test_a_connection_that_is_ended_while_a_person_thinks_is_made_anew(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase]
) -> None:
    database = made(PORTS.format(action="SET NULL"))
    child = pexpect.spawn(
        str(PROGRAM), ["run", "port", "--where", "id = 2"], encoding="utf-8", timeout=60,
        env=yeldro.environment | {"YELDRO_DB": database.url}, dimensions=(60, 160),
    )  # fmt: skip
    child.expect(r"(\d+)\x1b\[0m rows? in all")
    total = child.match.group(1)
    child.expect("in all, or q: ")
    ended = database.value("SELECT count(pg_terminate_backend(pid)) FROM pg_stat_activity"
                           " WHERE application_name = 'yeldro'"
                           " AND datname = current_database()")  # fmt: skip
    assert ended == 1
    child.sendline(total)
    child.expect(pexpect.EOF)
    child.close()
    assert child.exitstatus == 0, child.before
    assert database.value("SELECT count(*) FROM port") == 4

"""Yeldro in a program: the documented examples run, and the count is the key there too."""

from __future__ import annotations

import os
import re
import subprocess
import sys
from pathlib import Path

import pytest
from conftest import Yeldro
from systems import AnyDatabase

import yeldro as public

DOCUMENT = Path(__file__).parents[1] / "docs" / "python.md"


def test_the_documented_examples_run(yeldro: Yeldro) -> None:
    yeldro("demo", "--only-data", "--readings", "1000")
    parts = re.findall(r"```python\n(.*?)```", DOCUMENT.read_text(), re.DOTALL)
    assert len(parts) >= 5
    done = subprocess.run(
        [sys.executable, "-c", "\n".join(parts)], cwd=yeldro.folder, env=os.environ,
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    assert "committed 218" in done.stdout
    assert done.stdout.index("all gone") < done.stdout.index("all back")
    assert "The number of rows that must go is not given." in done.stdout
    assert done.stdout.splitlines()[-1].startswith("rolled_back")


def test_every_public_name_is_there_and_no_other() -> None:
    assert all(getattr(public, name) is not None for name in public.__all__)
    with pytest.raises(AttributeError):
        public.no_such_name  # noqa: B018


def test_a_plan_agreed_to_is_held_against_the_database(
    network: AnyDatabase, tmp_path: Path
) -> None:
    database = public.connect(network.url)
    notices = public.cleanup("alert", where="level = :level", parameters={"level": "notice"})
    plan = database.plan(notices)
    network.script(
        "DELETE FROM alert WHERE level = 'notice' AND id = "
        f"{network.value('SELECT min(id) FROM alert WHERE level = ' + repr('notice'))}"
    )
    before = network.contents()
    with pytest.raises(public.Refused, match="has changed since"):
        database.run(notices, receipts=tmp_path, agreed=plan)
    noted = database.plan(notices, with_rows=True)
    ids = [network.value(f"SELECT max(id) FROM alert WHERE level {how} 'notice'")
           for how in ("=", "<>")]  # fmt: skip
    network.script(f"UPDATE alert SET level = 'storm' WHERE id = {ids[0]};"
                   f"UPDATE alert SET level = 'notice' WHERE id = {ids[1]}")  # fmt: skip
    with pytest.raises(public.Refused, match=r"1 new .*, 1 gone"):
        database.run(notices, receipts=tmp_path, agreed=noted)
    before = network.contents()
    wrong = public.cleanup("alert", where="level = 'notice'", expect=plan.total)
    with pytest.raises(public.CountMismatch) as mismatch:
        database.run(wrong, receipts=tmp_path)
    assert mismatch.value.evidence["differences"]
    assert network.contents() == before
    done = database.run(notices, receipts=tmp_path, agreed=database.plan(notices))
    assert done.tally.total == plan.total - 1
    assert done.receipt is not None
    assert database.restore(done.receipt).total == plan.total - 1
    assert network.contents() == before


def test_a_file_with_values_of_its_types_is_a_job(network: AnyDatabase, tmp_path: Path) -> None:
    file = tmp_path / "job.toml"
    file.write_text("""
        [param.most]
        type = "integer"
        [[remove]]
        from = "alert"
        where = "id <= :most"
        expect = 3
    """)
    database = public.connect(network.url)
    assert all(each.holds for each in database.check(public.load(file, most="3")))
    assert database.rehearse(public.load(file, most=3)).tally.total == 3
    with pytest.raises(public.UsageError, match="whole number"):
        public.load(file, most="three")


def test_messages_name_the_fields_of_a_program_and_all_known_names(network: AnyDatabase) -> None:
    connection = public.connect(network.url)
    with pytest.raises(public.UsageError, match="Add parameters day=VALUE") as caught:
        connection.plan(public.cleanup("buoy", where="retired_on < :day"))
    assert "‹" not in str(caught.value)
    with pytest.raises(public.UnknownName, match="follow nosuch names no table") as unknown:
        connection.plan(public.cleanup("buoy", where="id = 7", follow="nosuch"))
    assert {"alert", "buoy", "visit.buoy_id"} <= {*unknown.value.evidence["known"]}

"""One table of fields: options, programs, files, saved plans and the schema say the same."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import click
import pytest
from conftest import Yeldro
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase

import yeldro as public
from yeldro import api
from yeldro.cli.declared import files, inspect, remove
from yeldro.core.planning.job import Job
from yeldro.formats.cleanup_file import read_cleanup_file
from yeldro.formats.cleanup_values import cleanup_from, values_of
from yeldro.formats.cleanup_writer import written
from yeldro.formats.fields import CLEANUP, Field

NAME = st.text(st.characters(exclude_categories=["Cs", "Cc"]), min_size=1, max_size=8).filter(
    lambda text: text == text.strip() and not set(text) & set(",:=")
)
EMPTYING = {"truncate", "keep_survivors", "by_partition"}  # of which one at a time
RULE = st.sampled_from(["fullest", "referenced"]) | NAME.map("lowest:{}".format)
RELATED = NAME | st.tuples(NAME, NAME, NAME).map("{0[0]}:{0[1]}={0[2]}".format)


def _values(field: Field) -> st.SearchStrategy[Any]:
    if field.name == "where":
        return st.sampled_from(["", "id > 1", "name = 'a\\n\"b\"'"])
    if field.name in ("matching", "missing_in"):
        return st.lists(RELATED, max_size=2)
    if field.name == "keep":
        return st.lists(RULE, max_size=2)
    kinds: dict[str, st.SearchStrategy[Any]] = {
        "texts": st.lists(NAME, max_size=2),
        "columns": st.lists(NAME, max_size=2),
        "compared": st.lists(NAME, max_size=2),
        "flag": st.booleans(),
        "count": st.integers(1, 10**6),
        "text": NAME,
    }
    return kinds[field.kind]


@st.composite
def values(draw: st.DrawFn) -> dict[str, Any]:
    names = draw(st.sets(st.sampled_from(sorted(CLEANUP))))
    names -= EMPTYING - {draw(st.sampled_from(sorted(EMPTYING)))}
    found = {name: draw(_values(CLEANUP[name])) for name in sorted(names)}
    if not found.get("fill"):  # nothing says how, unless it is said what
        found = {name: value for name, value in found.items() if not name.startswith("fill_")}
    return found


@given(values())
def test_what_a_cleanup_says_is_read_back_from_its_values_and_from_a_file(
    tmp_path_factory: pytest.TempPathFactory, given_: dict[str, Any]
) -> None:
    cleanup = cleanup_from("buoy", given_ | {"all_rows": True})
    assert cleanup_from("buoy", json.loads(json.dumps(values_of(cleanup)))) == cleanup
    assert public.cleanup("buoy", **given_ | {"all_rows": True}) == cleanup
    path = tmp_path_factory.mktemp("written") / "job.toml"
    path.write_text(written(Job("t", (cleanup,))), encoding="utf-8")
    assert read_cleanup_file(path).job.cleanups == (cleanup,)


def test_every_field_is_an_option_and_an_argument() -> None:
    def fields_of(command: click.Command) -> set[str]:
        return {option.name for option in command.params if option.name in CLEANUP}

    assert fields_of(remove.run) == set(CLEANUP)
    acceptances = {"allow_trigger", "no_way_back", "add_constraint", *EMPTYING}
    for command in (inspect.preview, remove.plan, remove.check):
        assert fields_of(command) == set(CLEANUP) - acceptances
    assert fields_of(files.script) == set(CLEANUP) - acceptances | {"allow_trigger", "no_way_back"}
    known = {**api.EqualityFields.__annotations__, **api.CleanupFields.__annotations__}
    assert set(known) == set(CLEANUP)
    for option in remove.run.params:
        if option.name in CLEANUP:
            assert isinstance(option, click.Option)
            assert option.opts == [CLEANUP[option.name].option]
            assert option.help is not None
            assert option.help.startswith(CLEANUP[option.name].about)


@pytest.mark.parametrize(
    ("wrong", "told"),
    [
        ({"wher": "id = 1"}, "Did you mean where"),
        ({"where": 1}, "must be text"),
        ({"limit": "5"}, "whole number"),
        ({"limit": True}, "whole number"),
        ({"all_rows": "yes"}, "true or false"),
        ({"follow": 3}, "a list of texts"),
        ({"follow": ["visit", 3]}, "a list of texts"),
    ],
)
def test_a_field_that_is_unknown_or_of_another_kind_is_refused(
    wrong: dict[str, Any], told: str
) -> None:
    with pytest.raises(public.UsageError, match=told) as refused:
        public.cleanup("buoy", **wrong)
    assert isinstance(refused.value, public.UnknownName) is ("wher" in wrong)


FLAT = "CREATE TABLE spar (id INTEGER PRIMARY KEY); INSERT INTO spar VALUES (1), (2);"


def test_a_file_and_a_saved_plan_can_truncate(yeldro: Yeldro, made: Any, tmp_path: Path) -> None:
    database: AnyDatabase = made(FLAT)
    system = database.url.partition(":")[0]
    file = tmp_path / "job.toml"
    one = '[[remove]]\nfrom = "spar"\nall_rows = true\ntruncate = true\nexpect = 2\n'
    if system == "mariadb":
        one += 'no_way_back = ["spar"]\n'
    file.write_text(one)
    if system not in ("postgresql", "mariadb", "mssql"):
        assert "TRUNCATE" in yeldro("plan", "job.toml", db=database.url, code=3).err
        return
    assert yeldro("plan", "job.toml", "--json", db=database.url).one()["matched"] == 2
    assert "drop --truncate" in yeldro("script", "job.toml", db=database.url, code=3).err.lower()
    batches = ("run", "job.toml", "--batch", "1", "--yes")
    assert "--truncate" in yeldro(*batches, db=database.url, code=2).err
    file.write_text(one + '[[remove]]\nfrom = "spar"\nall_rows = true\n')
    for command in ("plan", "rehearse"):
        assert "--truncate goes alone" in yeldro(command, "job.toml", db=database.url, code=2).err
    file.write_text(one)
    yeldro("plan", "job.toml", "-o", "plan.json", db=database.url)
    before = database.contents()
    done = yeldro("run", "plan.json", "--yes", "--json", db=database.url).one()
    assert done["steps"][0]["affected"] == 2
    assert database.value("SELECT count(*) FROM spar") == 0
    yeldro("restore", "last", "--yes")
    assert database.contents() == before

"""Cycles, depth, strange names: orders that hold on a database that checks every statement."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from itertools import pairwise
from pathlib import Path

import pytest
from hypothesis import given
from hypothesis import strategies as st
from systems import SqliteFile, unchecked
from undoing import back_and_forth

from yeldro.core.database.facts import NOTHING, USUAL, Mode, TableLocks
from yeldro.core.execution.run import run
from yeldro.core.model.messages.errors import Refused
from yeldro.core.model.tables.graph import components, cycle_through
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.planning.job import Job
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.selection.asked import Selection
from yeldro.engines.sqlite.catalogue import SqliteCatalogue
from yeldro.engines.sqlite.database import SqliteDatabase
from yeldro.engines.sqlite.session import SqliteSession

graphs = st.dictionaries(st.integers(0, 9), st.sets(st.integers(0, 9)), max_size=10).map(
    lambda graph: {node: graph.get(node, set()) for node in range(10)}
)


@given(graphs)
def test_components_hold_what_reaches_one_another_and_come_before_what_they_lead_to(graph) -> None:
    reached = {node: {node} for node in graph}
    for _ in graph:
        for node in graph:
            reached[node] |= {far for near in graph[node] for far in reached[near]}
    found = components(graph)
    assert sorted(node for part in found for node in part) == sorted(graph)
    place = {node: number for number, part in enumerate(found) for node in part}
    for node in graph:
        assert all(place[node] <= place[other] for other in graph[node])
        for other in graph:
            together = other in reached[node] and node in reached[other]
            assert together == (place[node] == place[other])
    for part in found:
        cycle = cycle_through(graph, part)
        assert all(after in graph[before] for before, after in pairwise(cycle))
        assert bool(cycle) == (len(part) > 1 or part[0] in graph[part[0]])


class Checking(SqliteDatabase):
    """An SQLite file whose own checks stay on: every statement must leave no row hanging."""

    @contextmanager
    def writing(
        self, lock_wait: float, locks: TableLocks = NOTHING, mode: Mode = USUAL
    ) -> Iterator[SqliteSession]:
        assert (locks, mode) == (NOTHING, USUAL)
        with self._session("rw", lock_wait, Mode(checked_by_system=True)) as session:
            session.connection.exec_driver_sql("PRAGMA foreign_keys = ON")
            session.connection.exec_driver_sql("BEGIN IMMEDIATE")
            yield session


def cycle(folder: Path, a_null: str, b_null: str, rows: str) -> SqliteFile:
    database = SqliteFile(folder / "cycle.db")
    database.script(f"""
        CREATE TABLE port (id INTEGER PRIMARY KEY, ship_id INTEGER {a_null} REFERENCES ship);
        CREATE TABLE ship (id INTEGER PRIMARY KEY, port_id INTEGER {b_null} REFERENCES port);
        {rows}
    """)
    return database


def remove_all(database: SqliteFile, folder: Path) -> list[str]:
    """Remove every port and what depends on it; what each step did, in words."""
    before = database.contents()
    job = Job.of(Cleanup(Selection("port", all_rows=True), Choices(follow=("all",))))
    checking = Checking(database.path)
    result = run(checking, job, ReceiptOptions(folder / "receipts"), 1)
    assert database.value("SELECT count(*) FROM port") == 0
    assert result.receipt is not None
    back_and_forth(SqliteDatabase(database.path), result.receipt, database.contents)
    assert database.contents() == before
    return [f"{step.action} {step.table} {step.because}" for step in result.plans[0].steps]


def test_rows_that_form_no_cycle_themselves_go_in_waves(tmp_path) -> None:
    database = cycle(tmp_path, "", "NOT NULL", """
        INSERT INTO port VALUES (1, NULL), (2, 1), (3, 2);
        INSERT INTO ship VALUES (1, 1), (2, 2);""")  # fmt: skip
    steps = remove_all(database, tmp_path)
    assert len(steps) == 5
    assert [int(step.rpartition("wave ")[2]) for step in steps] == [1, 2, 2, 3, 3]


def test_a_link_that_accepts_null_is_set_to_null_first(tmp_path) -> None:
    database = cycle(tmp_path, "NOT NULL", "", """
        INSERT INTO port VALUES (1, 1), (2, 1);
        INSERT INTO ship VALUES (1, 1), (2, NULL), (3, 2);""")  # fmt: skip
    steps = remove_all(database, tmp_path)
    assert steps[0].startswith("detach ship ship.port_id → port.id; breaks a cycle")
    assert sorted(step.split()[0] for step in steps) == ["detach", "remove", "remove"]


def test_deferrable_keys_of_a_cycle_are_checked_at_the_commit(tmp_path, monkeypatch) -> None:
    """SQLite's catalogue does not tell which keys are deferrable; all of these can be."""
    declared = SqliteCatalogue._foreign_keys
    monkeypatch.setattr(
        SqliteCatalogue,
        "_foreign_keys",
        lambda self, name: tuple(replace(key, deferrable=True) for key in declared(self, name)),
    )
    monkeypatch.setattr(
        SqliteSession,
        "defer_checks",
        lambda self, _: self.connection.exec_driver_sql("PRAGMA defer_foreign_keys = ON"),
    )
    database = cycle(tmp_path, "NOT NULL", "NOT NULL", """
        INSERT INTO port VALUES (1, 1); INSERT INTO ship VALUES (1, 1);""")  # fmt: skip
    steps = remove_all(database, tmp_path)
    assert len(steps) == 2
    assert all("checked at the commit" in step for step in steps)


def test_a_cycle_without_a_way_is_refused_and_spelled_out(tmp_path) -> None:
    database = cycle(tmp_path, "NOT NULL", "NOT NULL", """
        INSERT INTO port VALUES (1, 1); INSERT INTO ship VALUES (1, 1);""")  # fmt: skip
    before = database.contents()
    with pytest.raises(Refused) as refused:
        remove_all(database, tmp_path)
    assert "port.ship_id → ship.port_id → port.id" in str(refused.value) or (
        "ship.port_id → port.ship_id → ship.id" in str(refused.value)
    )
    assert database.contents() == before


def test_the_same_cycle_is_no_obstacle_where_checks_come_when_all_is_done(yeldro, tmp_path) -> None:
    database = cycle(tmp_path, "NOT NULL", "NOT NULL", """
        INSERT INTO port VALUES (1, 1); INSERT INTO ship VALUES (1, 1);""")  # fmt: skip
    before = database.contents()
    yeldro("run", "port", "--all-rows", "--follow", "all", "--expect", "total=2", "--yes",
           db=database.url)  # fmt: skip
    assert database.value("SELECT count(*) FROM ship") == 0
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_ten_thousand_levels_take_few_statements_and_come_back(yeldro, made) -> None:
    rows = ", ".join(f"({n}, {n - 1 or 'NULL'})" for n in range(1, 10_001))
    database = made(f"""
        CREATE TABLE chain (id INTEGER PRIMARY KEY, held_by INTEGER
            REFERENCES chain (id) ON DELETE CASCADE);
        CREATE INDEX chain_held_by ON chain (held_by);
        INSERT INTO chain VALUES {rows};
    """)
    before = database.contents()
    found = yeldro("run", "chain", "--where", "id = 2", "--expect", "total=9999", "--yes", "--json",
                   db=database.url).one()  # fmt: skip
    assert (found["matched"], len(found["steps"])) == (1, 1)
    assert database.rows("SELECT id FROM chain") == [(1,)]
    yeldro("restore", "last", "--yes")
    assert database.contents() == before


def test_a_view_that_shows_one_tables_key_names_its_rows(yeldro, network) -> None:
    network.script("""
        CREATE VIEW retired AS SELECT b.id AS buoy_no, b.name, r.name AS region
            FROM buoy AS b JOIN region AS r ON r.id = b.region_id WHERE b.retired_on IS NOT NULL;
        CREATE VIEW danger AS SELECT * FROM alert WHERE level = 'danger';
        CREATE VIEW pairs AS SELECT b.id, r.id AS region_id FROM buoy AS b, region AS r;
        CREATE VIEW sizes AS SELECT region_id, count(*) AS n FROM buoy GROUP BY region_id;
    """)
    where = ("--where", "region = 'Grey Bank'")
    expected = network.value("SELECT count(*) FROM retired WHERE region = 'Grey Bank'")
    found = yeldro("preview", "retired", *where, "--json", db=network.url).one()
    assert (found["table"], found["matched"]) == ("buoy", expected)
    assert expected > 0
    latest = network.rows("SELECT id FROM danger ORDER BY raised_at DESC, id DESC LIMIT 3")
    yeldro("run", "danger", "--order-by", "raised_at DESC, id DESC", "--limit", "3", "--expect",
           "3", "--yes", db=network.url)  # fmt: skip
    assert not network.rows(f"SELECT id FROM alert WHERE id IN {tuple(row[0] for row in latest)}")
    assert (
        "several tables" in yeldro("plan", "pairs", "--where", "id = 1", db=network.url, code=3).err
    )
    assert "groups" in yeldro("plan", "sizes", "--where", "n = 1", db=network.url, code=3).err


SOFT = {
    "sqlite": "CREATE TRIGGER soft INSTEAD OF DELETE ON here BEGIN"
    " UPDATE mast SET gone = 1 WHERE id = old.id; END",
    "postgresql": "CREATE RULE soft AS ON DELETE TO here DO INSTEAD"
    " UPDATE mast SET gone = 1 WHERE id = old.id",
}


@pytest.mark.parametrize("made", ["sqlite", "postgresql"], indirect=True)
def test_a_view_on_which_a_deletion_is_something_else_is_refused(yeldro, made) -> None:
    """Marking a row is not removing it."""
    database = made(
        "CREATE TABLE mast (id INTEGER PRIMARY KEY, gone INTEGER);"
        "INSERT INTO mast VALUES (1, 0), (2, 0);"
        "CREATE VIEW here AS SELECT id FROM mast WHERE gone = 0;"
    )
    database.script(SOFT["postgresql" if database.url.startswith("postgresql") else "sqlite"])
    (yeldro.folder / "cleanup.sql").write_text("DELETE FROM here WHERE id = 1")
    for words in (("here", "--where", "id = 1"), ("--sql", "cleanup.sql")):
        for command in ("preview", "plan", "script"):
            assert "runs soft" in yeldro(command, *words, db=database.url, code=3).err


def test_orphans_are_listed_removed_like_any_rows_and_restored_as_orphans(yeldro, network) -> None:
    assert all(each["rows"] == 0 for each in yeldro("orphans", "--json", db=network.url).json())
    network.script(f"""
        {unchecked(network)}
        INSERT INTO visit VALUES (999, 1, 77, '2020-01-01'), (1, 99, 77, '2020-01-01');
        INSERT INTO part_used VALUES (999, 1, 'seal ring', 1);
    """)
    before = network.contents()
    found = {
        each["foreign_key"]: each
        for each in yeldro("orphans", "visit", "--json", db=network.url).json()
    }
    assert found["visit.buoy_id → buoy.id"]["rows"] == 1
    assert found["visit.technician_id → technician.id"]["rows"] == 2
    assert "--orphans visit.technician_id" in yeldro("orphans", db=network.url).out
    done = yeldro("run", "visit", "--orphans", "technician_id", "--expect", "2", "--expect",
                  "total=3", "--yes", "--json", db=network.url).one()  # fmt: skip
    assert [step["table"] for step in done["steps"]] == ["part_used", "visit"]
    assert all(each["rows"] == 0 for each in yeldro("orphans", "--json", db=network.url).json())
    if network.url.startswith("postgresql"):
        told = yeldro("restore", "last", "--yes", code=3).err
        assert "had none before" in told
    else:
        yeldro("restore", "last", "--yes")
        assert network.contents() == before
    assert (
        "no foreign key" in yeldro("plan", "visit", "--orphans", "part", db=network.url, code=2).err
    )


def test_a_key_without_an_index_and_a_trigger_are_warned_of(yeldro, file_made) -> None:
    rows = ", ".join(f"({n}, {n % 5})" for n in range(2000))
    database = file_made(f"""
        CREATE TABLE mast (id INTEGER PRIMARY KEY);
        CREATE TABLE lamp (id INTEGER PRIMARY KEY,
            mast_id INTEGER REFERENCES mast ON DELETE CASCADE);
        INSERT INTO mast VALUES (0), (1), (2), (3), (4);
        INSERT INTO lamp VALUES {rows};
        CREATE TRIGGER dark AFTER DELETE ON lamp BEGIN SELECT 1; END;
    """)
    warnings = yeldro("plan", "mast", "--where", "id = 1", "--json", db=database.url).one()[
        "warnings"
    ]
    assert any("2,000 rows are read" in each and "CREATE INDEX" in each for each in warnings)
    assert any("trigger dark" in each for each in warnings)
    statement = next(each for each in warnings if "CREATE INDEX" in each)
    database.script(statement[statement.index("CREATE INDEX") : statement.index(" helps")])
    again = yeldro("plan", "mast", "--where", "id = 1", "--json", db=database.url).one()["warnings"]
    assert not any("No index" in each for each in again)

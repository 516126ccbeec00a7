"""The program as its users start it, and databases for it to work on."""

from __future__ import annotations

import json
import os
import shutil
import signal
import subprocess
import sys
import tempfile
import uuid
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import loaded
import pytest
from schemas import check_document
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
    mariadb_answers,
    postgresql_answers,
)
from undoing import back_and_forth

from yeldro.engines import open_database

_LONGEST = 120  # seconds
PROGRAM = Path(sys.executable).with_name("yeldro")


@dataclass
class Finished:
    """How one command ended."""

    code: int
    out: str
    err: str
    words: tuple[str, ...] = ()

    def json(self) -> Any:
        document = json.loads(self.out)
        check_document(self.words, document)
        return document

    def one(self) -> Any:
        """Return the document, with the values of a single cleanup beside those of the whole."""
        document = self.json()
        return document | (document["removes"][0] if len(document["removes"]) == 1 else {})


class Yeldro:
    """Starts the program in a folder of its own, with its own receipts.

    Args:
        installed: the installed program itself; else the same entry point, loaded once for all.
    """

    def __init__(self, folder: Path, *, installed: bool = False) -> None:
        self.folder = folder
        self.installed = installed
        self.receipts = folder / "receipts"
        self.environment = {
            name: value for name, value in os.environ.items() if not name.startswith("YELDRO")
        } | {"YELDRO_RECEIPTS": str(self.receipts), "COLUMNS": "200"}

    def __call__(self, *words: str, db: str | None = None, code: int | None = 0) -> Finished:
        """Run one command line; fail the test if it leaves with another code than `code`."""
        environment = self.environment | ({"YELDRO_DB": db} if db else {})
        if self.installed:
            done = subprocess.run(
                [PROGRAM, *words],
                env=environment,
                cwd=self.folder,
                capture_output=True,
                text=True,
                stdin=subprocess.DEVNULL,
                check=False,
                timeout=_LONGEST,
            )
            found = Finished(done.returncode, done.stdout, done.stderr, words)
        else:
            ended = loaded.run(words, environment, self.folder, _LONGEST)
            found = Finished(*ended, words)
        assert code is None or found.code == code, found
        return found


def there_and_back(yeldro: Yeldro, database: AnyDatabase, *words: str) -> Any:
    """Run, see that something is gone, restore, and see that all is as it was."""
    before = database.contents()
    done = yeldro("run", *words, "--yes", "--json", db=database.url).one()
    assert done["outcome"] == "committed"
    assert database.contents() != before
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all gone"
    back_and_forth(open_database(database.url), Path(done["receipt"]), database.contents)
    assert database.contents() == before
    assert yeldro("receipt", "check", done["receipt"], "--json").json()["verdict"] == "all back"
    return done


@pytest.fixture
def server_folder() -> Iterator[Path]:
    """A short path that the servers' user may write to."""
    path = Path(tempfile.mkdtemp(prefix="yeldro"))
    path.chmod(0o777)
    yield path
    shutil.rmtree(path)


@pytest.fixture
def yeldro(tmp_path: Path) -> Yeldro:
    return Yeldro(tmp_path)


@pytest.fixture(scope="session")
def _demo_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    Yeldro(folder)("demo", "made", "--only-data", "--readings", "2000")
    return folder / "made" / "buoys.db"


@pytest.fixture
def demo(_demo_file: Path, tmp_path: Path) -> SqliteFile:
    """The sea-buoy network with 2,000 readings."""
    path = tmp_path / "buoys.db"
    path.write_bytes(_demo_file.read_bytes())
    return SqliteFile(path)


if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # as where the tests run in the background
    signal.signal(signal.SIGINT, signal.default_int_handler)

SYSTEMS = ["sqlite", "postgresql", "mariadb"]
BROWSER = bool(shutil.which("chromium") and shutil.which("chromedriver"))
ANSWERS = {"sqlite": True, "postgresql": postgresql_answers(), "mariadb": mariadb_answers(),
           "chromium": BROWSER}  # fmt: skip


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Say loudly which systems were not tested; with CI set their tests fail instead."""
    for system, answers in ANSWERS.items():
        if not answers:
            terminalreporter.write_line(f"NOT TESTED: {system}, which does not answer", red=True)


def need(system: str) -> None:
    """Skips the test where a developer has no such server; with CI set it fails instead."""
    if not ANSWERS[system] and not os.environ.get("CI"):
        pytest.skip(f"{system} does not answer")


@pytest.fixture(scope="session")
def _postgresql_template(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    name = f"yeldro_template_{uuid.uuid4().hex[:8]}"
    database = PostgresqlServerDatabase(name)
    yeldro = Yeldro(tmp_path_factory.mktemp("template"))
    yeldro("demo", "--db", database.url, "--only-data", "--readings", "2000")
    yield name
    database.drop()


@pytest.fixture(params=SYSTEMS)
def network(request: pytest.FixtureRequest) -> Iterator[AnyDatabase]:
    """The sea-buoy network with 2,000 readings, on every system in turn."""
    if request.param == "sqlite":
        yield request.getfixturevalue("demo")
        return
    need(request.param)
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    database: PostgresqlServerDatabase | MariadbServerDatabase
    if request.param == "postgresql":
        template = request.getfixturevalue("_postgresql_template")
        database = PostgresqlServerDatabase(name, template)
    else:
        database = MariadbServerDatabase(name)
        database.script(request.getfixturevalue("_mariadb_script"))
    yield database
    database.drop()


@pytest.fixture(scope="session")
def _mariadb_script(tmp_path_factory: pytest.TempPathFactory) -> str:
    """The demo as the server's own dump program writes it."""
    database = MariadbServerDatabase(f"yeldro_template_{uuid.uuid4().hex[:8]}")
    Yeldro(tmp_path_factory.mktemp("template"))(
        "demo", "--db", database.url, "--only-data", "--readings", "2000"
    )
    script = database.dump()
    database.drop()
    return script


@pytest.fixture(params=SYSTEMS)
def made(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Callable[[str], AnyDatabase]]:
    """Makes a database from a script, on every system in turn."""
    need(request.param)
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    if request.param == "sqlite":
        yield lambda script: _filled(SqliteFile(tmp_path / "made.db"), script)
        return
    kind = PostgresqlServerDatabase if request.param == "postgresql" else MariadbServerDatabase
    database = kind(name)
    yield lambda script: _filled(database, script)
    database.drop()


@pytest.fixture
def file_made(tmp_path: Path) -> Callable[[str], SqliteFile]:
    """Makes an SQLite file from a script."""

    def make(script: str) -> SqliteFile:
        database = SqliteFile(tmp_path / "made.db")
        database.script(script)
        return database

    return make


def _filled(database: AnyDatabase, script: str) -> AnyDatabase:
    database.script(script)
    return database

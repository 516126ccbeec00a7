"""The program as its users start it, and databases for it to work on."""

from __future__ import annotations

import json
import os
import resource
import shutil
import signal
import subprocess
import sys
import uuid
import zlib
from collections.abc import Callable, Generator, Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import hypothesis
import loaded
import pytest
from browser import Browser
from composed import check_all
from elsewhere import NOT_ON_SQLSERVER
from schemas import check_document
from servers import MISSING, Servers, folder_in_memory, is_there, url_of, why_silent
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
    SqlServerDatabase,
)
from trials import THOROUGH, Trials, choose_seed
from undoing import back_and_forth

from yeldro.core.changes.change_set import Acceptances
from yeldro.engines import open_database

_LONGEST = 120  # seconds
MADE = ("demo", "--only-data", "--readings", "2000")
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
        installed: the installed program itself; else the same entry point, in this process.
    """

    def __init__(self, folder: Path, *, installed: bool = False) -> None:
        self.folder = folder
        self.installed = installed
        self.receipts = folder / "receipts"
        self.environment = {
            name: value
            for name, value in os.environ.items()
            if not name.startswith("YELDRO") or name.startswith("YELDRO_TEST")
        } | {"YELDRO_RECEIPTS": str(self.receipts), "COLUMNS": "200"}

    def __call__(self, *words: str, db: str | None = None, code: int | None = 0) -> Finished:
        """Run one command line; fail the test if it leaves with another code than `code`."""
        environment = self.environment | ({"YELDRO_DB": db} if db else {})
        if self.installed:
            found = self._started(words, environment)
        else:
            ended = loaded.run(words, environment, self.folder, _LONGEST)
            found = Finished(*ended, words)
        assert code is None or found.code == code, found
        return found

    def on_a_disk(self, room: int, *words: str, db: str | None = None) -> Finished:
        """Run the installed program where no file can grow beyond `room` bytes."""

        def limit() -> None:
            signal.signal(signal.SIGXFSZ, signal.SIG_IGN)
            resource.setrlimit(resource.RLIMIT_FSIZE, (room, room))

        return self._started(words, self.environment | ({"YELDRO_DB": db} if db else {}), limit)

    def _started(
        self,
        words: tuple[str, ...],
        environment: Mapping[str, str],
        first: Callable[[], None] | None = None,
    ) -> Finished:
        done = subprocess.run(
            [PROGRAM, *words],
            env=environment,
            cwd=self.folder,
            capture_output=True,
            text=True,
            stdin=subprocess.DEVNULL,
            check=False,
            timeout=_LONGEST,
            preexec_fn=first,
        )
        return Finished(done.returncode, done.stdout, done.stderr, words)


def there_and_back(yeldro: Yeldro, database: AnyDatabase, *words: str) -> Any:
    """Run, see that something is gone, restore, and see that all is as it was."""

    def restore(receipt: str) -> None:
        yeldro("restore", receipt, "--yes", db=database.url)

    return _there_and_back(yeldro, database, words, restore)


def there_and_forth(yeldro: Yeldro, database: AnyDatabase, *words: str) -> Any:
    """The same, but the restore is undone by its own receipt, and that undone too."""

    def restore(receipt: str) -> None:
        accepted = Acceptances(no_way_back=words[-1:] if "--no-way-back" in words else ())
        back_and_forth(open_database(database.url), Path(receipt), database.contents, accepted)

    return _there_and_back(yeldro, database, words, restore)


def _there_and_back(
    yeldro: Yeldro, database: AnyDatabase, words: Sequence[str], restore: Callable[[str], None]
) -> Any:
    before = database.contents()
    done = yeldro("run", *words, "--yes", "--json", db=database.url).one()
    assert done["outcome"] == "committed"
    assert database.contents() != before
    assert yeldro("receipt", "check", "--json").json()["verdict"] == "all gone"
    restore(done["receipt"])
    assert database.contents() == before
    assert yeldro("receipt", "check", done["receipt"], "--json").json()["verdict"] == "all back"
    return done


@pytest.fixture
def server_folder() -> Iterator[Path]:
    """A short path that the servers' user may write to."""
    folder = folder_in_memory()
    yield folder
    shutil.rmtree(folder)


@pytest.fixture
def yeldro(tmp_path: Path) -> Yeldro:
    return Yeldro(tmp_path)


@pytest.fixture(scope="session")
def _demo_file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("demo")
    Yeldro(folder)(*MADE, "made")
    return folder / "made" / "buoys.db"


@pytest.fixture
def demo(_demo_file: Path, tmp_path: Path) -> SqliteFile:
    """The sea-buoy network with 2,000 readings."""
    path = tmp_path / "buoys.db"
    path.write_bytes(_demo_file.read_bytes())
    return SqliteFile(path)


if signal.getsignal(signal.SIGINT) is signal.SIG_IGN:  # as where the tests run in the background
    signal.signal(signal.SIGINT, signal.default_int_handler)

hypothesis.settings.register_profile(
    "tests",
    max_examples=100 if THOROUGH else 15,
    derandomize=not THOROUGH,
    deadline=None,
    database=None,
    suppress_health_check=list(hypothesis.HealthCheck),
)
hypothesis.settings.load_profile("tests")
SYSTEMS = ["sqlite", "postgresql", "mariadb"]
ALL_SYSTEMS = [*SYSTEMS, "sqlserver"]
TURNS = [*SYSTEMS * 3, "sqlserver"]  # its stand-in takes the longest
_REST = "YELDRO_TEST_REST"  # what a whole run leaves out, and all examples on PostgreSQL
_WHOLE = "YELDRO_TEST_WHOLE"  # set if all files are run, and nothing is picked


def pytest_xdist_auto_num_workers() -> int:
    """Return one more than there are cores: tests wait for servers, browsers, shells and disks."""
    return len(os.sched_getaffinity(0)) + 1


def pytest_configure(config: pytest.Config) -> None:
    """Start the servers, once for all processes of the tests."""
    check_all()
    if hasattr(config, "workerinput") or config.option.collectonly:
        return
    os.environ.pop("PYTHONDONTWRITEBYTECODE", None)  # else the program is compiled at each start
    choose_seed()
    if config.args_source is pytest.Config.ArgsSource.TESTPATHS and not config.option.keyword:
        os.environ[_WHOLE] = "1"  # which the processes of the tests see
    servers = Servers()
    config.add_cleanup(servers.stop)


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Keep the tests of random cases alone in a thorough run, and share its time among them."""
    there = [item for item in items if _is_tried(item)]
    config.hook.pytest_deselected(items=[item for item in items if item not in there])
    items[:] = there
    tried = [item for item in items if "trials" in getattr(item, "fixturenames", ())]
    for item in tried:
        workers = int(os.environ.get("PYTEST_XDIST_WORKER_COUNT", "1"))
        item.stash[_SHARE] = min(workers / len(tried), 1)
    kept = list(_in_turn(items)) if os.environ.get(_WHOLE) else list(items)
    if THOROUGH:
        kept = [item for item in items if item in tried or hasattr(item.obj, "hypothesis")]
    elif os.environ.get(_REST):
        kept = [item for item in items if item not in kept or "postgresql" in item.nodeid]
    config.hook.pytest_deselected(items=[item for item in items if item not in kept])
    items[:] = kept


def _is_tried(item: pytest.Item) -> bool:
    """False for what is left out on SQL Server, by its reason."""
    given = getattr(item, "callspec", None)
    on_sqlserver = given is not None and "sqlserver" in given.params.values()
    return not on_sqlserver or getattr(item, "originalname", "") not in NOT_ON_SQLSERVER


def _in_turn(items: Sequence[pytest.Item]) -> Iterator[pytest.Item]:
    """Leave a test that several systems could be asked for to one of them, each in its turn.

    A run of some files or of one system leaves nothing out.
    """
    names = {item.nodeid for item in items}
    there = [each for each in TURNS if is_there(each)]
    for item in items:
        own = next((each for each in ALL_SYSTEMS if each in item.nodeid), None)
        others = [each for each in there if item.nodeid.replace(str(own), each) in names]
        example = item.nodeid.replace(str(own), "system")
        in_turn = others[zlib.crc32(example.encode()) % len(others)] if own and others else own
        if own == in_turn:
            yield item


_SHARE = pytest.StashKey[float]()
_TRIALS = pytest.StashKey[Trials]()


@pytest.fixture
def trials(request: pytest.FixtureRequest) -> Trials:
    """The numbers of the random cases that a test tries."""
    return request.node.stash.setdefault(_TRIALS, Trials(request.node.stash[_SHARE]))


@pytest.hookimpl(wrapper=True)
def pytest_runtest_makereport(
    item: pytest.Item,
) -> Generator[None, pytest.TestReport, pytest.TestReport]:
    """Name the random case at which a test failed."""
    report = yield
    tried = item.stash.get(_TRIALS, None)
    if report.failed and tried and tried.case is not None:
        report.sections.append(("random case", f"YELDRO_CASE={tried.case} tries it again"))
    return report


def pytest_terminal_summary(terminalreporter: pytest.TerminalReporter) -> None:
    """Say loudly what was not tested; with CI set its tests fail instead."""
    if THOROUGH:
        terminalreporter.write_line(f"YELDRO_SEED={choose_seed()} tries the same cases again")
    for system in (system for system in MISSING if not is_there(system)):
        terminalreporter.write_line(f"NOT TESTED: {system}. {MISSING[system]}", red=True)


def need(system: str) -> None:
    """Skip the test where a developer has no such server; with CI set it fails instead."""
    if not is_there(system):
        (pytest.fail if os.environ.get("CI") else pytest.skip)(MISSING[system])
    if url_of(system) and (why := why_silent(system)):
        pytest.fail(f"{system} does not answer: {why}")


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    need("chromium")
    started = Browser()
    yield started
    started.driver.quit()


@pytest.fixture(scope="session")
def _postgresql_template(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    name = f"yeldro_template_{uuid.uuid4().hex[:8]}"
    database = PostgresqlServerDatabase(name)
    Yeldro(tmp_path_factory.mktemp("template"))(*MADE, "--db", database.url)
    yield name
    database.drop()


@pytest.fixture(params=ALL_SYSTEMS)
def network(request: pytest.FixtureRequest) -> Iterator[AnyDatabase]:
    """The sea-buoy network with 2,000 readings, on every system in turn."""
    if request.param == "sqlite":
        yield request.getfixturevalue("demo")
        return
    need(request.param)
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    database: PostgresqlServerDatabase | MariadbServerDatabase | SqlServerDatabase
    if request.param == "postgresql":
        template = request.getfixturevalue("_postgresql_template")
        database = PostgresqlServerDatabase(name, template)
    elif request.param == "sqlserver":
        template = request.getfixturevalue("_sqlserver_template")
        database = SqlServerDatabase(name, template)
        if template is None:
            request.getfixturevalue("yeldro")(*MADE, "--db", database.url)
    else:
        database = MariadbServerDatabase(name)
        database.script(request.getfixturevalue("_mariadb_script"))
    yield database
    database.drop()


@pytest.fixture(scope="session")
def _sqlserver_template(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str | None]:
    """A database to be copied, by a statement that the stand-in has and a server here has not."""
    database = SqlServerDatabase(f"yeldro_template_{uuid.uuid4().hex[:8]}")
    if "stand-in" in database.value("SELECT @@VERSION AS version"):
        Yeldro(tmp_path_factory.mktemp("template"))(*MADE, "--db", database.url)
        yield database.name
    else:
        yield None
    database.drop()


@pytest.fixture(scope="session")
def _mariadb_script(tmp_path_factory: pytest.TempPathFactory) -> str:
    """The demo as the server's own dump program writes it."""
    database = MariadbServerDatabase(f"yeldro_template_{uuid.uuid4().hex[:8]}")
    Yeldro(tmp_path_factory.mktemp("template"))(*MADE, "--db", database.url)
    script = database.dump()
    database.drop()
    return script


@pytest.fixture(params=ALL_SYSTEMS)
def made(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Callable[[str], AnyDatabase]]:
    """Makes a database from a script, on every system in turn."""
    need(request.param)
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    if request.param == "sqlite":
        yield lambda script: _filled(SqliteFile(tmp_path / "made.db"), script)
        return
    database = _KINDS[request.param](name)
    yield lambda script: _filled(database, script)
    database.drop()


_KINDS = {
    "postgresql": PostgresqlServerDatabase,
    "mariadb": MariadbServerDatabase,
    "sqlserver": SqlServerDatabase,
}


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

"""The demo command: makes the demo database and walks through the whole job on it."""

from __future__ import annotations

import contextlib
import os
import sys
from collections.abc import Iterable, Iterator, Sequence
from pathlib import Path
from typing import TYPE_CHECKING

import click

from yeldro.cli.declared.help import HOW, WHERE, command, option
from yeldro.core.model.messages.errors import Refused, UsageError
from yeldro.core.model.messages.machine import ON_WINDOWS
from yeldro.core.model.messages.names import as_typed

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database

_RETIRED = ["buoy", "--where", "retired_on < :cutoff", "--param", "cutoff=2022-01-01"]
_GONE = [*_RETIRED, "--missing-in", "deployment"]
_TWICE = ["reading", "--duplicates-by", "sensor_id,taken_at", "--keep", "fullest",
          "--keep", "lowest:id"]  # fmt: skip


@command(
    "demo",
    "demo seas --readings 1000 --only-data",
)
@click.argument("folder", required=False, default="yeldro-demo", type=click.Path(path_type=Path))
@option(
    HOW,
    "--readings",
    type=click.IntRange(min=0),
    default=18_000,
    show_default=True,
    metavar="N",
    help="How many readings the demo holds.",
)
@option(HOW, "--only-data", is_flag=True, help="Make the database and stop.")
@option(
    WHERE,
    "--db",
    metavar="URL",
    help="An empty database to load the demo into; without it, a file buoys.db in FOLDER.",
)
@option(
    WHERE,
    "--standin",
    metavar="SYSTEM",
    type=click.Choice(["sqlserver"]),
    help="Start what stands in for a system that is not here, and use that: sqlserver.",
)
def demo(folder: Path, readings: int, only_data: bool, db: str | None, standin: str | None) -> None:
    """Make the demo database in FOLDER and walk through the whole job on it.

    A made-up network of sea buoys: about 20,000 rows, the same every time. Every command is
    printed before its output, so that you can type it yourself.
    """
    if standin and db:
        raise UsageError("--standin and --db name two databases.", "Give one of them.")
    if standin:
        with _started(standin) as url:
            _demonstrate(folder, readings, url, only_data=only_data)
            click.echo(
                f"\nThat was a stand-in: python -m yeldro.standins {standin} starts another."
            )
        return
    _demonstrate(folder, readings, db, only_data=only_data)
    if not only_data:
        shown = db or "buoys.db"
        said = f"export YELDRO_DB={as_typed(shown)} YELDRO_RECEIPTS=receipts"
        if ON_WINDOWS:  # as PowerShell has it
            said = f'$env:YELDRO_DB="{shown}"; $env:YELDRO_RECEIPTS="receipts"'
        click.echo(f"\nNow try it yourself: cd {as_typed(str(folder))}; {said}")


def _demonstrate(folder: Path, readings: int, db: str | None, *, only_data: bool) -> None:
    """Make the demo's data, and walk through the job on it if that is wanted."""
    from yeldro.engines import open_database

    database = open_database(db or str(folder / "buoys.db"))
    counts = _make(database, folder, readings)
    click.echo(f"Made {database.shown}: {len(counts)} tables, {sum(counts.values()):,} rows.")
    if not only_data:
        folder.mkdir(parents=True, exist_ok=True)
        shown = db or "buoys.db"
        with _inside(folder, shown):
            _walk(open_database(shown))


@contextlib.contextmanager
def _started(system: str) -> Iterator[str]:
    """Start a stand-in as a process of its own; yield the URL of its database, and stop it."""
    import subprocess

    words = [sys.executable, "-m", "yeldro.standins", system]
    with subprocess.Popen(words, stdout=subprocess.PIPE, text=True) as process:
        try:
            port = process.stdout.readline().strip() if process.stdout else ""
            yield f"mssql://sa@127.0.0.1:{port}/buoys"
        finally:
            process.terminate()


def _make(database: Database, folder: Path, readings: int) -> dict[str, int]:
    """Make the demo's tables in an empty database; return their row counts."""
    from yeldro.demo.network import load
    from yeldro.engines.sqlite.database import SqliteDatabase

    if isinstance(database, SqliteDatabase):
        if database.path.exists():
            raise Refused(
                f"The file {database.path} exists already.",
                f"Name another folder: yeldro demo FOLDER; or remove this one: rm -r {folder}",
            )
    else:
        with database.reading() as session:
            names = session.catalogue.table_names()
        if names:
            raise Refused(
                f"{database.shown} is not empty: it holds {', '.join(map(str, names[:5]))}.",
                "Name an empty database.",
            )
    with database.create() as connection:
        return load(connection, readings)


def _walk(database: Database) -> None:
    from yeldro.core.execution.run import plan
    from yeldro.core.receipts.reader import receipts_in

    def planned(arguments: Sequence[str]) -> tuple[int, int]:
        """Return the matched rows and the total of a plan."""
        from yeldro.cli.declared.remove import plan as command
        from yeldro.cli.given.what import what_of

        context = command.make_context("plan", list(arguments))
        found = plan(database, what_of(context.params, context.params["db"]).job)
        return found.plans[0].matched, found.total

    _say("First, look at the tables and how they are connected.")
    _do("survey")
    _say("A name is not a key: this filter could match any number of buoys.")
    _do("preview", "buoy", "--where", "name = 'Eddy'", "--show", "id,serial,name,retired_on")
    _say("The buoys to remove: retired before 2022, and no longer deployed.")
    _do("preview", *_GONE, "--show", "id,serial,name,retired_on", "--rows", "4")
    _say("Visits reference them, so this plan is blocked.")
    _do("plan", *_GONE)
    _say("With --follow the visits go too, and the parts used in them.")
    cut = _links_to_cut(database)
    gone = [*_GONE, "--follow", "visit", *_detaching(cut)]
    _do("plan", *gone)
    matched, total = planned(gone)
    _say("The count is the key. At a terminal you type it; in a pipeline you add --expect.")
    _do("run", *gone, "--expect", str(matched), "--expect", f"total={total}", "--yes")
    first = receipts_in(Path("receipts"))[0].id
    _say("A wrong count, and nothing goes.")
    _do("run", "alert", "--where", "level = 'notice'", "--expect", "3", "--yes")
    _say("Some readings were sent twice. Which of them, and which one stays?")
    _do("duplicates", "reading", "--by", "sensor_id,taken_at", "--keep", "fullest", "--rows", "3")
    twice = [*_TWICE, *_detaching(key for key in cut if key == "alert.reading_id")]
    matched, _ = planned(twice)
    _do("run", *twice, "--expect", str(matched), "--yes")
    second = next(each.id for each in receipts_in(Path("receipts")) if each.id != first)
    _say("Are they still gone?")
    _do("receipt", "check", second)
    _say("And back again: every row, and every link that was cut.")
    _do("restore", second, "--yes")
    _do("restore", first, "--yes")
    _do("receipt", "check", first)


def _links_to_cut(database: Database) -> list[str]:
    """Return the foreign keys that the database would set to NULL by itself on other systems."""
    from yeldro.core.model.tables.schema import ReferentialAction
    from yeldro.demo.network import WITHOUT_ACTION

    with database.reading() as session:
        names = [name for name in session.catalogue.table_names() if str(name) in ("buoy", "alert")]
        keys = [key for name in names for key in session.catalogue.table(name).foreign_keys]
    left = {key.name for key in keys if key.on_delete is ReferentialAction.NO_ACTION}
    return [name for name in WITHOUT_ACTION if name in left]


def _detaching(keys: Iterable[str]) -> list[str]:
    return [word for key in keys for word in ("--detach", key)]


def _say(text: str) -> None:
    click.secho(f"\n# {text}", fg="green")


def _do(*words: str) -> None:
    """Run one command as if it had been typed, after printing it."""
    from yeldro.cli.main import execute
    from yeldro.core.model.messages.outcome import note_outcome

    click.secho(f"$ yeldro {' '.join(map(as_typed, words))}", bold=True)
    sys.stdout.flush()
    note_outcome("")  # an earlier command's commit does not concern this one
    code = execute(list(words))
    sys.stdout.flush()
    if code:
        click.secho(f"(exit code {code})", dim=True)


@contextlib.contextmanager
def _inside(folder: Path, database: str) -> Iterator[None]:
    """Work in `folder` with the demo's database and receipts, as its user would."""
    named = {"YELDRO_DB": database, "YELDRO_RECEIPTS": "receipts"}
    before = {name: os.environ.get(name) for name in named}
    os.environ.update(named)
    try:
        with contextlib.chdir(folder):
            yield
    finally:
        for name, value in before.items():
            if value is None:
                del os.environ[name]
            else:
                os.environ[name] = value

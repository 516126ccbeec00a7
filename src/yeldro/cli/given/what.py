"""The WHAT of a command: a table with options, a cleanup file, a saved plan, or SQL."""

from __future__ import annotations

import sys
from collections.abc import Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from yeldro.cli.given import settings, values
from yeldro.cli.terminal.ask import asked
from yeldro.completion.places import from_folder
from yeldro.core.model.messages.errors import UNCHANGED, UsageError
from yeldro.core.model.messages.names import as_typed
from yeldro.core.model.messages.options import spelled
from yeldro.core.model.work.expectation import Expectations
from yeldro.core.planning.heirs import split_by_heir
from yeldro.core.planning.job import Job
from yeldro.core.receipts.copies import CopyPlace
from yeldro.formats.fields import CLEANUP

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database, Session
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.following.treatment import Choices
    from yeldro.formats.cleanup_file import CleanupFile, Parameter
    from yeldro.formats.plan_file import SavedPlan

_CHOOSES = tuple(name for name in CLEANUP if name not in ("allow_trigger", "no_way_back"))
_ADDS = (
    "follow", "detach", "repoint", "fill", "fill_empty", "fill_first", "all_rows", "add_constraint",
)  # fmt: skip
_NOT_ASKED = (
    "what", "allow_trigger", "no_way_back", "add_constraint", "sql", "yes", "allow_more",
    "batch", "pause", "batch_seconds", "truncate", "keep_survivors", "by_partition",
)  # fmt: skip


@dataclass(frozen=True)
class What:
    """A job and its database.

    Args:
        options: the defaults for options in a cleanup file.
        agreed: the saved plan that is to be run.
    """

    database: Database
    job: Job
    options: Mapping[str, Any] = field(default_factory=dict)
    agreed: SavedPlan | None = None

    def lock_wait(self, typed: float | None) -> float:
        """Return the seconds to wait for other programs' locks."""
        found = typed if typed is not None else self.options.get("lock_wait")
        return settings.LOCK_WAIT if found is None else float(found)

    def without_rows(self, typed: bool) -> bool:
        """True if the receipt holds counts only."""
        return typed or bool(self.options.get("without_rows"))

    def copy_to(self, typed: str | None) -> CopyPlace | None:
        """Return where copies of the rows go; None if they are not kept as tables."""
        found = typed or self.options.get("copy_to")
        return CopyPlace.parse(str(found)) if found else None

    def receipts(self, typed: Path | None) -> Path:
        """Return the folder for receipts."""
        own = self.options.get("receipts")
        return settings.receipts_folder(typed or (Path(own) if own else None))


def what_of(options: dict[str, Any], db: str | None) -> What:
    """Return the job and the database that the options of a command describe.

    Raises:
        UsageError: they are incomplete, or contradict each other.
    """
    what, sql = options["what"], options["sql"]
    if sql is not None:
        found = _from_sql(options, db)
    elif what.endswith(".toml"):
        found = _from_file(options, db)
    elif what.endswith(".json"):
        found = _from_plan(options, db)
    else:
        cleanup = values.cleanup_of(options)
        job = Job(title_of(options), (cleanup,))
        found = What(settings.database_of(db), job)
    in_batches = options.get("batch") or options.get("batch_seconds")
    job = _completed(found.job, found.database, whole=bool(found.agreed or in_batches))
    limits = settings.limits_of(found.database, allow_more=bool(options.get("allow_more")))
    return replace(found, job=replace(job, limits=limits))


def _completed(job: Job, database: Database, *, whole: bool) -> Job:
    """Return the job with what the schema says of it: values by their columns, heirs apart.

    Args:
        whole: a table and its heirs stay one cleanup.
    """
    splits = database.traits.has_inheritance and not whole
    if not splits and not any(each.selection.parameters for each in job.cleanups):
        return job
    with database.reading() as session:
        job = _with_read_parameters(job, session)
        return split_by_heir(session, job) if splits else job


def _with_read_parameters(job: Job, session: Session) -> Job:
    """Return the job with the values of parameters read by the columns they are compared with."""
    from yeldro.core.selection.conditions.parameters import Typed, read_parameters, relative_day

    cleanups, days = [], {}
    for each in job.cleanups:
        read = read_parameters(each.selection, session)
        cleanups.append(replace(each, selection=read))
        for name, typed in each.selection.parameters.items():
            if isinstance(typed, Typed) and relative_day(typed.text):
                days[name] = read.parameters[name]
    told = ", ".join(f"{name} = {day}" for name, day in days.items())
    title = f"{job.title} ({told})" if told else job.title
    return replace(job, title=title, cleanups=tuple(cleanups))


def _from_file(options: dict[str, Any], db: str | None) -> What:
    names = [name for name in _CHOOSES if name not in ("follow", "detach")]
    _refuse_choosing(options, names, f"{options['what']} says which rows are meant")
    from yeldro.formats.cleanup_file import read_cleanup_file

    file = read_cleanup_file(Path(options["what"]))
    known = {each.name: each for each in file.parameters}
    given = {
        name: known[name].value(text) if name in known and text is not None else text
        for name, text in values.given_parameters(options).items()
    }
    if sys.stdin.isatty() and not options.get("yes"):
        given |= _asked(file, given)
    job = _with_more(file.with_values(given), options)
    more = values.choices_of(options)
    job = replace(job, cleanups=tuple(_with_choices(each, more) for each in job.cleanups))
    if given:
        told = ", ".join(f"{name} = {value}" for name, value in given.items())
        job = replace(job, title=f"{job.title} ({told})")
    database = settings.database_of(_named_with(file, db))
    limit = file.options.get("time_limit")
    if limit and not click.get_current_context().meta.get(settings.TIME_LIMIT):
        database.limit_statements(float(limit))
    return What(database, job, file.options)


def _named_with(file: CleanupFile, db: str | None) -> str | None:
    """Return the database that a file names, unless --db is typed; what is not used is said.

    A reviewed file runs where it says, whatever the terminal's default is.
    """
    own = file.options.get("db")
    if own is None:
        return db
    if own not in settings.project().urls:
        own = from_folder(str(own), str(file.path.absolute().parent))
    if db is None:
        return str(own)
    typed = click.get_current_context().get_parameter_source("db")
    by_default = typed is click.core.ParameterSource.ENVIRONMENT
    used, unused = (own, db) if by_default else (db, own)
    shown, other = (settings.database_of(each).shown for each in (used, unused))
    if shown != other:
        where = "YELDRO_DB names" if by_default else f"{file.path} names"
        click.echo(f"The database is {shown}; {where} {other}, which is not used.", err=True)
    return str(used)


def _asked(file: CleanupFile, given: Mapping[str, Any]) -> dict[str, Any]:
    """Ask a person for the parameters without a value; return what was typed."""
    missing = [each for each in file.parameters if each.name not in given and each.default is None]
    return {each.name: _ask(each) for each in missing}


def _ask(parameter: Parameter) -> Any:
    about = f", {parameter.about}" if parameter.about else ""
    question = f"{parameter.name} ({parameter.type}{about})"
    return asked(question, parameter.value, UNCHANGED, may_leave=parameter.type != "text")


def _from_plan(options: dict[str, Any], db: str | None) -> What:
    names = (*_CHOOSES, "param", "param_null", "expect", "allow_trigger", "no_way_back")
    _refuse_choosing(options, names, f"{options['what']} is a saved plan, which is run as it is")
    from yeldro.formats.plan_file import read_plan

    saved = read_plan(Path(options["what"]))
    database = settings.database_of(db or saved.database)
    return What(database, saved.job, agreed=saved.for_database(database.shown))


def _from_sql(options: dict[str, Any], db: str | None) -> What:
    if options["what"] is not None:
        raise UsageError(
            f"Both {options['what']} and --sql say which rows are meant.", "Give one of them."
        )
    names = [name for name in _CHOOSES if name not in _ADDS]
    _refuse_choosing(options, names, "The statements say which rows are meant")
    source = options["sql"]
    text = sys.stdin.read() if source == "-" else _read(Path(source))
    database = settings.database_of(db)
    from yeldro.formats.cleanup_values import filling_of
    from yeldro.formats.sql_in import cleanups_in

    cleanups = cleanups_in(
        text,
        database,
        parameters=values.parameters_of(options),
        choices=values.choices_of(options),
        all_rows=options["all_rows"],
    )
    adds = options.get("add_constraint", False)
    takes = filling_of(options)
    cleanups = tuple(replace(each, add_constraint=adds, filling=takes) for each in cleanups)
    title = "standard input" if source == "-" else Path(source).name
    return What(database, _with_more(Job(title, cleanups, described=True), options))


def _read(path: Path) -> str:
    try:
        return path.read_text(encoding="utf-8-sig")
    except (OSError, UnicodeDecodeError) as error:
        reason = getattr(error, "strerror", None) or "it is not UTF-8 text"
        raise UsageError(f"The file {path} cannot be read: {reason}.") from error


def _with_more(job: Job, options: dict[str, Any]) -> Job:
    """Return a job with the expectations and acceptances that options add to it."""
    triggers, lasting = options.get("allow_trigger", ()), options.get("no_way_back", ())
    cleanups = tuple(
        replace(
            each,
            allowed_triggers=(*each.allowed_triggers, *triggers),
            no_way_back=(*each.no_way_back, *lasting),
        )
        for each in job.cleanups
    )
    typed = Expectations.parse(options.get("expect", ()))
    expected = replace(typed, total=typed.total or job.expectations.total)
    return replace(job, cleanups=cleanups, expectations=expected)


def _with_choices(cleanup: Cleanup, more: Choices) -> Cleanup:
    """Return a file's cleanup with the command line's choices for dependent rows."""
    own = cleanup.choices
    follow, detach = (*own.follow, *more.follow), (*own.detach, *more.detach)
    return replace(cleanup, choices=replace(own, follow=follow, detach=detach))


def _refuse_choosing(options: dict[str, Any], names: Any, why: str) -> None:
    for name in names:
        if options.get(name) not in (None, False, ()):
            raise UsageError(f"{why}, and {spelled(name)} is given too.", f"Drop {spelled(name)}.")


def title_of(options: dict[str, Any]) -> str:
    """Return the selection and ripple options as one line, as they were typed."""
    words = [options["what"]]
    for name, value in options.items():
        if name in _NOT_ASKED or value in (None, False, ()):
            continue
        values = value if isinstance(value, tuple) else (value,)
        for each in values:
            words += [spelled(name)] if each is True else [spelled(name), as_typed(str(each))]
    return " ".join(words)

"""Commands that change nothing: survey, preview, duplicates, orphans."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from yeldro.cli.commands.following import after_preview
from yeldro.cli.given import settings, values
from yeldro.cli.given.again import WHERE, typed_again
from yeldro.cli.terminal.maps import check_map, draw
from yeldro.cli.terminal.output import show as print_view
from yeldro.cli.terminal.output import show_csv, show_json, tell_next, views
from yeldro.cli.terminal.progress import shown_progress
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import as_listed
from yeldro.report import documents
from yeldro.report.text import short_name

if TYPE_CHECKING:
    from collections.abc import Callable, Sequence

    from rich.console import RenderableType

    from yeldro.core.inspection.repeats import Repeats
    from yeldro.core.inspection.survey import Survey
    from yeldro.core.selection.asked import Selection


def survey(
    table: str | None,
    config: bool,
    db: str | None,
    show: str | None,
    rows: int,
    full: bool,
    map_to: str | None,
    as_json: bool,
) -> None:
    """Tables, row counts, keys, foreign keys with referential actions, triggers, warnings."""
    from yeldro.core.inspection.survey import survey as survey_database
    from yeldro.core.inspection.survey import survey_table

    if config:
        found_settings = settings.holding(db)
        _print(
            as_json,
            lambda: documents.settings_document(found_settings),
            lambda: views().settings_view(found_settings),
            [typed_again("survey", keeps=WHERE)] if db else [],
        )
        return
    check_map(map_to, as_json)
    database = settings.database_of(db)
    with database.reading() as session:
        if table is None:
            with shown_progress():
                found = survey_database(session)
            name = database.shown if full else short_name(database.shown)
            _print(
                as_json,
                lambda: documents.survey_document(found),
                lambda: views().survey_view(found, name),
                _after_survey(found),
            )
        else:
            with shown_progress():
                detail = survey_table(session, table, values.columns_of(show), rows)
            _print(
                as_json,
                lambda: documents.detail_document(detail),
                lambda: views().detail_view(detail, full=full),
                []
                if detail.survey.table.kind != "table"
                else [typed_again("duplicates", arguments=[table], keeps=WHERE)],
            )
        if map_to:
            from yeldro.core.inspection.key_map import map_of_database

            title = short_name(database.shown)
            draw(map_to, map_of_database(session, title, table))


def preview(
    db: str | None,
    show: str | None,
    rows: int,
    full: bool,
    as_json: bool,
    as_csv: bool,
    **options: Any,
) -> None:
    """The matched rows of WHAT, their number, and what depends on them."""
    from yeldro.cli.given.last import remember
    from yeldro.cli.given.what import what_of
    from yeldro.core.inspection.preview import look_at

    if as_json and as_csv:
        raise UsageError("--json and --csv are both given.", "Choose one.")
    what = what_of(options, db)
    cleanups = what.job.cleanups
    if as_csv and len(cleanups) > 1:
        raise UsageError("Rows of several tables do not fit in one CSV.", "Use --json.")
    if not what.job.described:
        remember(options, db, what.database.shown)
    shown = values.columns_of(show)
    with shown_progress():
        found = [look_at(what.database, cleanup, shown, rows) for cleanup in cleanups]
    if as_csv:
        show_csv(found[0].columns, found[0].rows)
    elif as_json:
        show_json(documents.preview_document(what.job.title, found, what.job.after))
    else:
        for each in found:
            print_view(views().preview_view(each, full=full))
        matched = sum(each.plan.matched for each in found)
        tell_next(after_preview(matched, found[0].plan.table))


def duplicates(
    table: str,
    by: str | None,
    keep: tuple[str, ...],
    db: str | None,
    show: str | None,
    rows: int,
    each: int,
    review: str | None,
    decide: bool,
    full: bool,
    as_json: bool,
    **options: Any,
) -> None:
    """Groups of rows of TABLE that are equal on the columns --by, the largest first."""
    from yeldro.core.inspection.repeats import search_repeats
    from yeldro.core.selection.duplicates.grouping import find_duplicates
    from yeldro.formats.cleanup_values import cleanup_from

    if by is None:
        given = {"keep": keep, "review": review, "decide": decide}
        for name in (name for name, value in given.items() if value):
            raise UsageError(f"--{name} is about equal rows.", "Add --by COLUMNS.")
        with shown_progress(), settings.database_of(db).reading() as session:
            searched = search_repeats(session, table, values.equality_of(options))
        _print(
            as_json,
            lambda: documents.repeats_document(searched),
            lambda: views().repeats_view(searched),
            [_after_repeats(searched)],
        )
        return
    wanted = cleanup_from(table, {"duplicates_by": by, "keep": keep, **options}).selection
    if decide:
        _decide(by, wanted, review or f"{table}-review.csv", db, as_json)
        return
    if review is not None:
        _write_review(by, wanted, review, db, as_json)
        return
    with shown_progress(), settings.database_of(db).reading() as session:
        found = find_duplicates(session, wanted, rows, each, values.columns_of(show))
    _print(
        as_json,
        lambda: documents.duplicates_document(found),
        lambda: views().duplicates_view(found, full=full),
        [
            typed_again("plan", "--duplicates-by", by, arguments=[table])
            if found.groups
            else typed_again("duplicates", without=("by", "keep", "show", "rows", "each"))
        ],
    )


def _write_review(by: str, wanted: Selection, path: str, db: str | None, as_json: bool) -> None:
    """Write the groups into a file in which a person decides."""
    from yeldro.core.selection.duplicates.review import review
    from yeldro.formats.review_file import write_review

    with shown_progress(), settings.database_of(db).reading() as session:
        written = write_review(review(session, wanted), path)
    _print(
        as_json,
        lambda: documents.review_document(written),
        lambda: views().review_view(written),
        [_plan_of_decisions(by, wanted, path)],
    )


def _decide(by: str, wanted: Selection, path: str, db: str | None, as_json: bool) -> None:
    """Ask about one group after the other."""
    from yeldro.cli.commands.decide import check_terminal, decide

    check_terminal(as_json)
    decided = decide(settings.database_of(db), wanted, path)
    print_view(views().decided_view(decided, wanted))
    left = any(True for _ in decided.open_groups())
    again = [typed_again("duplicates")] if left else []
    done = decided.count("remove") or not left
    tell_next([*([_plan_of_decisions(by, wanted, path)] if done else []), *again])


def _plan_of_decisions(by: str, wanted: Selection, path: str) -> str:
    """Return the command that plans what was decided."""
    return typed_again(
        "plan",
        "--duplicates-by",
        by,
        "--decisions",
        path,
        arguments=[wanted.table],
        without=("by", "keep", "review", "decide", "show", "rows", "each"),
    )


def orphans(table: str | None, db: str | None, rows: int, full: bool, as_json: bool) -> None:
    """Rows that have a foreign key and no parent row, for each foreign key of TABLE or of all."""
    from yeldro.core.inspection.orphans import find_orphans

    with shown_progress(), settings.database_of(db).reading() as session:
        found = find_orphans(session, table, rows)
    _print(
        as_json,
        lambda: documents.orphans_document(found),
        lambda: views().orphans_view(found, full=full),
        [
            typed_again(
                "plan",
                "--orphans",
                each.foreign_key.name,
                arguments=[str(each.foreign_key.child)],
                keeps=WHERE,
            )
            for each in found
            if each.rows
        ]
        or [typed_again("survey", keeps=WHERE)],
    )


def _print(
    as_json: bool,
    document: Callable[[], Any],
    view: Callable[[], RenderableType],
    following: Sequence[str],
) -> None:
    """Print a document, or text with what to type next."""
    if as_json:
        show_json(document())
    else:
        print_view(view())
        tell_next(following)


def _after_survey(found: Survey) -> list[str]:
    """Return the command that looks at the largest table."""
    tables = [each for each in found.tables if each.rows is not None]
    if not tables:
        return []
    largest = max(tables, key=lambda each: each.rows or 0)
    return [typed_again("survey", arguments=[str(largest.table.name)], keeps=WHERE)]


def _after_repeats(found: Repeats) -> str:
    """Return the command that looks closer at what is most likely entered twice."""
    likeliest = found.likeliest
    if likeliest is None:
        return typed_again("survey", keeps=("table", *WHERE))
    by = ",".join(as_listed(each.column) if each.column else each.written for each in likeliest.by)
    return typed_again("duplicates", "--by", by, without=("show", "rows", "each"))

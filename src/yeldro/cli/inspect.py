"""Commands that only look: survey, preview, duplicates, orphans."""

from __future__ import annotations

from typing import Any

import click

from yeldro.cli import options as opt
from yeldro.cli.output import show, show_csv, show_json
from yeldro.core.duplicates import Grouping, KeepRule, find_duplicates
from yeldro.core.errors import UsageError
from yeldro.core.orphans import find_orphans
from yeldro.core.preview import preview as look
from yeldro.core.repeats import search_repeats
from yeldro.core.survey import survey as survey_database
from yeldro.core.survey import survey_table
from yeldro.report import documents, tables


@click.command()
@click.argument("table", required=False, metavar="[TABLE]")
@opt.database_option
@opt.show_option
@opt.rows_option(5)
@opt.json_option
def survey(table: str | None, db: str | None, show: str | None, rows: int, as_json: bool) -> None:
    """Tables, row counts, keys, foreign keys with referential actions, triggers, warnings.

    With TABLE: its columns and keys, what it references and what references it, sample rows.
    """
    database = opt.database_of(db)
    with database.reading() as session:
        if table is None:
            found = survey_database(session)
            _print(as_json, documents.survey_document, tables.survey_view, found, database.shown)
        else:
            detail = survey_table(session, table, opt.columns_of(show), rows)
            _print(as_json, documents.detail_document, tables.detail_view, detail)


@click.command()
@opt.selection_options
@opt.ripple_options
@opt.database_option
@opt.show_option
@opt.rows_option(10)
@opt.json_option
@opt.csv_option
def preview(
    db: str | None, show: str | None, rows: int, as_json: bool, as_csv: bool, **options: Any
) -> None:
    """The matched rows of TABLE, their number, and what depends on them.

    Says whether the filter fixes a key (then it matches one row at most) or could match more.
    """
    if as_json and as_csv:
        raise UsageError("--json and --csv are both given.", "Choose one.")
    with opt.database_of(db).reading() as session:
        found = look(session, opt.cleanup_of(options), opt.columns_of(show), rows)
    if as_csv:
        show_csv(found.columns, found.rows)
    else:
        _print(as_json, documents.preview_document, tables.preview_view, found)


@click.command()
@click.argument("table", metavar="TABLE")
@click.option(
    "--by",
    metavar="COLS",
    help="Columns on which equal rows agree. Without it: which columns repeat at all.",
)
@click.option(
    "--keep",
    multiple=True,
    metavar="RULE",
    help="Which row of a group stays: lowest:COL, highest:COL, fullest, referenced, order:LIST. "
    "Repeatable.",
)
@opt.sameness_options
@opt.database_option
@opt.rows_option(5)
@opt.json_option
def duplicates(
    table: str,
    by: str | None,
    keep: tuple[str, ...],
    db: str | None,
    rows: int,
    as_json: bool,
    **options: Any,
) -> None:
    """Groups of rows of TABLE that are equal on the columns --by, the largest first.

    Marks the row of each group that would stay and those that would go. NULL equals NULL. Without
    --by: whole rows that repeat, copies but for generated keys and moments, and sets of columns
    that are nearly unique.
    """
    if by is None:
        if keep:
            raise UsageError("--keep chooses among equal rows.", "Add --by COLUMNS.")
        with opt.database_of(db).reading() as session:
            searched = search_repeats(session, table, opt.sameness_of(options))
        _print(as_json, documents.repeats_document, tables.repeats_view, searched)
        return
    rules = tuple(KeepRule.parse(text) for text in keep)
    wanted = Grouping(opt.columns_of(by), rules, opt.sameness_of(options))
    with opt.database_of(db).reading() as session:
        found = find_duplicates(session, table, wanted, rows)
    _print(as_json, documents.duplicates_document, tables.duplicates_view, found)


@click.command()
@click.argument("table", required=False, metavar="[TABLE]")
@opt.database_option
@opt.rows_option(5)
@opt.json_option
def orphans(table: str | None, db: str | None, rows: int, as_json: bool) -> None:
    """Rows that have a foreign key and no parent row, for each foreign key of TABLE or of all.

    To remove them: yeldro run TABLE --orphans FOREIGN_KEY.
    """
    with opt.database_of(db).reading() as session:
        found = find_orphans(session, table, rows)
    _print(as_json, documents.orphans_document, tables.orphans_view, found)


def _print(as_json: bool, document: Any, view: Any, found: Any, *more: Any) -> None:
    if as_json:
        show_json(document(found))
    else:
        show(view(found, *more))

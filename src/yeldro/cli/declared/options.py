"""Options that several commands share."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import Any, TypeVar

import click

from yeldro.cli.declared import help as layout
from yeldro.cli.declared.help import DEPENDENTS, DUPLICATES, HOW, HOW_MANY, WHERE, WHICH_ROWS
from yeldro.cli.given.settings import TIME_LIMIT
from yeldro.formats import fields
from yeldro.formats.fields import Field

Function = TypeVar("Function", bound=Callable[..., Any])

_HEADINGS = (
    {each.name: WHICH_ROWS for each in fields.SELECTION}
    | {each.name: DEPENDENTS for each in fields.DEPENDENTS}
    | {
        each.name: DUPLICATES
        for each in (
            fields.DUPLICATES_BY,
            fields.KEEP,
            *fields.EQUALITY,
            fields.DECISIONS,
            *fields.FILL,
            fields.ADD_CONSTRAINT,
        )
    }
)


def _all(*decorators: Callable[[Any], Any]) -> Callable[[Function], Function]:
    def decorate(function: Function) -> Function:
        for decorator in reversed(decorators):
            function = decorator(function)
        return function

    return decorate


def option(field: Field, **more: Any) -> Callable[[Any], Any]:
    """Return the option for a field, with the name, type and help of the field."""
    settings: dict[str, Any] = {"help": field.about}
    if field.kind == "flag":
        settings["is_flag"] = True
    else:
        settings["metavar"] = field.metavar
    if field.kind == "texts":
        settings |= {"multiple": True, "help": f"{field.about} Repeatable."}
    if field.kind == "count":
        settings["type"] = int
    if field.kind == "number":
        settings["type"] = click.FloatRange(min=0)
    heading = _HEADINGS.get(field.name, HOW)
    return layout.option(heading, field.option, **settings | more)


def _options(*listed: Field) -> list[Callable[[Any], Any]]:
    return [option(field) for field in listed]


def _limit_statements(
    context: click.Context, parameter: click.Parameter, seconds: float | None
) -> None:
    del parameter
    context.meta[TIME_LIMIT] = seconds


database_option = _all(
    layout.option(
        WHERE,
        "--db",
        envvar="YELDRO_DB",
        metavar="URL",
        help="The database: a path to an SQLite file, or a URL. Default: $YELDRO_DB.",
    ),
    option(
        fields.TIME_LIMIT,
        type=click.FloatRange(min=0.001),
        expose_value=False,
        callback=_limit_statements,
    ),
)
json_option = layout.option(
    WHERE, "--json", "as_json", is_flag=True, help="Print a JSON document and nothing else."
)
csv_option = layout.option(WHERE, "--csv", "as_csv", is_flag=True, help="Print the rows as CSV.")
show_option = layout.option(
    WHERE,
    "--show",
    metavar="COLS",
    help="Columns to show, with commas; a name with a comma in double quotes.",
)
full_option = layout.option(
    WHERE, "--full", is_flag=True, help="Cut no long value, and show the database's whole URL."
)
map_option = layout.option(
    WHERE,
    "--map",
    "map_to",
    metavar="FILE",
    help="Draw tables and foreign keys: FILE ends in .svg, .png, .html or .mmd; - is text here.",
)
report_option = layout.option(
    WHERE,
    "--report",
    type=click.Path(dir_okay=False, path_type=Path),
    metavar="FILE",
    help="Write a page to hand over, FILE.html: what was asked, a picture, steps, rows, SQL.",
)
quiet_option = layout.option(WHERE, "--quiet", is_flag=True, help="Print only what went wrong.")
lock_wait_option = option(fields.LOCK_WAIT)
receipts_option = layout.option(
    WHERE,
    "--receipts",
    envvar="YELDRO_RECEIPTS",
    type=click.Path(file_okay=False, path_type=Path),
    metavar="FOLDER",
    help="Where receipts are kept. Default: $YELDRO_RECEIPTS, or yeldro/receipts in your data "
    "folder.",
)
triggers_option = option(fields.ALLOW_TRIGGER)
allow_more_option = layout.option(
    HOW_MANY,
    "--allow-more",
    is_flag=True,
    help="Allow more rows than the project file does in one run.",
)
no_way_back_option = option(fields.NO_WAY_BACK)


def rows_option(default: int) -> Callable[[Function], Function]:
    """Return the option for how many rows or groups to show."""
    return layout.option(
        WHERE,
        "--rows",
        type=click.IntRange(min=0),
        default=default,
        show_default=True,
        metavar="N",
        help="How many to show.",
    )


equality_options = _all(*_options(*fields.EQUALITY))
keep_option = option(fields.KEEP)

what_options = _all(
    click.argument("what", required=False, metavar="WHAT"),
    layout.option(
        WHICH_ROWS,
        "--sql",
        metavar="FILE",
        help="Instead of WHAT: a file of DELETE statements in the SQL of this database, or - for "
        "standard input.",
    ),
    option(fields.SELECTION[0]),
    layout.option(
        WHICH_ROWS,
        "--param",
        multiple=True,
        metavar="NAME=VALUE",
        help="A value for :NAME in --where, read by the type of the column it is compared with: "
        "today-90d is a date, '12' in single quotes a text. Always bound, never pasted. "
        "Repeatable.",
    ),
    layout.option(
        WHICH_ROWS,
        "--param-null",
        multiple=True,
        metavar="NAME",
        help="NULL for :NAME in --where. Repeatable.",
    ),
    *_options(*fields.SELECTION[1:]),
)

ripple_options = _all(*_options(*fields.DEPENDENTS, *fields.FILL))
add_constraint_option = option(fields.ADD_CONSTRAINT)
emptying_options = _all(*_options(*fields.EMPTYING))
batch_options = _all(
    option(fields.BATCHES[0], type=click.IntRange(min=1)),
    option(fields.BATCHES[1]),
    option(fields.BATCHES[2], type=click.FloatRange(min=0.01)),
)
without_rows_option = option(fields.WITHOUT_ROWS)
copy_to_option = option(fields.COPY_TO)

expect_option = layout.option(
    HOW_MANY,
    "--expect",
    multiple=True,
    metavar="N",
    help="How many rows must match: N or A..B; TABLE=N for any table; total=N for all. Repeatable.",
)

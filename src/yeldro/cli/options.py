"""Options that several commands share, and the core objects they make."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from yeldro.cli.settings import TIME_LIMIT
from yeldro.core.model.errors import UsageError

if TYPE_CHECKING:  # what a command needs is loaded when it is carried out
    from yeldro.core.model.equality import Sameness
    from yeldro.core.planning.plan import Cleanup
    from yeldro.core.planning.treatment import Choices

Function = TypeVar("Function", bound=Callable[..., Any])


def _all(*decorators: Callable[[Any], Any]) -> Callable[[Function], Function]:
    def decorate(function: Function) -> Function:
        for decorator in reversed(decorators):
            function = decorator(function)
        return function

    return decorate


def _limit_statements(
    context: click.Context, parameter: click.Parameter, seconds: float | None
) -> None:
    del parameter
    context.meta[TIME_LIMIT] = seconds


database_option = _all(
    click.option(
        "--db",
        envvar="YELDRO_DB",
        metavar="URL",
        help="The database: a path to an SQLite file, or a URL. Default: $YELDRO_DB.",
    ),
    click.option(
        "--time-limit",
        type=click.FloatRange(min=0.001),
        metavar="SECONDS",
        expose_value=False,
        callback=_limit_statements,
        help="Stop any statement that takes longer, and roll everything back.",
    ),
)
json_option = click.option(
    "--json", "as_json", is_flag=True, help="Print a JSON document and nothing else."
)
csv_option = click.option("--csv", "as_csv", is_flag=True, help="Print the rows as CSV.")
show_option = click.option("--show", metavar="COLS", help="Columns to show, with commas.")
quiet_option = click.option("--quiet", is_flag=True, help="Print only what went wrong.")
lock_wait_option = click.option(
    "--lock-wait",
    type=click.FloatRange(min=0),
    metavar="SECONDS",
    help="How long to wait for other programs' locks. Default: 10.",
)
receipts_option = click.option(
    "--receipts",
    envvar="YELDRO_RECEIPTS",
    type=click.Path(file_okay=False, path_type=Path),
    metavar="FOLDER",
    help="Where receipts are kept. Default: $YELDRO_RECEIPTS, or yeldro/receipts in your data "
    "folder.",
)
triggers_option = click.option(
    "--allow-trigger",
    multiple=True,
    metavar="NAME",
    help="Accept the other rows that this trigger changes. Repeatable.",
)


allow_more_option = click.option(
    "--allow-more",
    is_flag=True,
    help="Accept more rows than the project file allows in one run.",
)
no_way_back_option = click.option(
    "--no-way-back",
    multiple=True,
    metavar="TABLE",
    help="Accept that what goes from TABLE, which has no transactions, can not be rolled back.",
)


def rows_option(default: int) -> Callable[[Function], Function]:
    """How many rows or groups to show."""
    return click.option(
        "--rows",
        type=click.IntRange(min=0),
        default=default,
        show_default=True,
        metavar="N",
        help="How many to show.",
    )


_sameness_options = (
    click.option("--ignore-case", is_flag=True, help="Duplicates: compare text without case."),
    click.option("--trim", is_flag=True, help="Duplicates: compare text without outer spaces."),
    click.option("--null-distinct", is_flag=True, help="Duplicates: NULL is equal to nothing."),
    click.option(
        "--as-text", is_flag=True, help="Duplicates: compare by their text what has no equality."
    ),
)
sameness_options = _all(*_sameness_options)

what_options_but_dialect = _all(
    click.argument("what", required=False, metavar="WHAT"),
    click.option(
        "--sql",
        metavar="FILE",
        help="In place of WHAT: a file of DELETE statements, - for standard input.",
    ),
    click.option("--where", metavar="SQL", help="Rows for which this condition is true."),
    click.option(
        "--param",
        multiple=True,
        metavar="NAME=VALUE",
        help="A value for :NAME in --where; always bound, never pasted. Repeatable.",
    ),
    click.option(
        "--matching",
        multiple=True,
        metavar="OTHER[:a=b,…]",
        help="Rows that match a row of OTHER: by the foreign key between them, or column a here "
        "equal to b there. Repeatable.",
    ),
    click.option(
        "--missing-in",
        multiple=True,
        metavar="OTHER[:a=b,…]",
        help="Rows that match no row of OTHER. Repeatable.",
    ),
    click.option(
        "--duplicates-by",
        metavar="COLS",
        help="Surplus rows of each group that is equal on these columns; groups are formed over "
        "the whole table, and one row of each stays.",
    ),
    click.option(
        "--keep",
        multiple=True,
        metavar="RULE",
        help="Which row of a group stays: lowest:COL, highest:COL, fullest, referenced, "
        "order:LIST. "
        "Repeatable; later rules break ties.",
    ),
    click.option(
        "--orphans",
        metavar="FOREIGN_KEY",
        help="Rows that have no parent row: FOREIGN_KEY is a column, or child.column.",
    ),
    *_sameness_options,
    click.option("--order-by", metavar="LIST", help="With --limit: the order, as in SQL."),
    click.option("--limit", type=int, metavar="N", help="Only the first N rows by --order-by."),
    click.option("--all-rows", is_flag=True, help="Every row of the table; must be said."),
    click.option(
        "--only-table", is_flag=True, help="Without the rows of tables that inherit from it."
    ),
)

what_options = _all(
    what_options_but_dialect,
    click.option(
        "--dialect",
        metavar="NAME",
        help="The system that the statements of --sql are written for, where it is another one.",
    ),
)

ripple_options = _all(
    click.option(
        "--repoint",
        is_flag=True,
        help="With --duplicates-by: move dependent rows to the row that is kept. Those that would "
        "break a unique key of their own table block, or go with --follow.",
    ),
    click.option(
        "--follow",
        multiple=True,
        metavar="NAME",
        help="Remove dependent rows too: NAME is a table, child.column, or all. Repeatable.",
    ),
    click.option(
        "--detach",
        multiple=True,
        metavar="NAME",
        help="Set the columns of dependent rows to NULL: NAME as above. Repeatable.",
    ),
)

truncate_option = click.option(
    "--truncate",
    is_flag=True,
    help="With --all-rows: empty the table by the system's TRUNCATE.",
)

batch_options = _all(
    click.option(
        "--batch",
        type=click.IntRange(min=1),
        metavar="N",
        help="Commit after every N matched rows, each time with all that depends on them.",
    ),
    click.option(
        "--pause",
        type=click.FloatRange(min=0),
        metavar="SECONDS",
        help="Wait between two batches.",
    ),
    click.option(
        "--batch-seconds",
        type=click.FloatRange(min=0.01),
        metavar="SECONDS",
        help="Make batches so large that none holds its locks longer than this.",
    ),
)

expect_option = click.option(
    "--expect",
    multiple=True,
    metavar="N",
    help="How many rows must match: N or A..B; TABLE=N for any table; total=N for all. Repeatable.",
)


def columns_of(typed: str | None) -> tuple[str, ...]:
    """The names in a list with commas."""
    return tuple(name.strip() for name in typed.split(",")) if typed else ()


def cleanup_of(options: dict[str, Any]) -> Cleanup:
    """The cleanup that the selection, ripple and expectation options describe.

    Raises:
        UsageError: one of them cannot be read.
    """
    from yeldro.core.model.expectation import Expectations
    from yeldro.core.planning.plan import Cleanup
    from yeldro.core.selection.duplicates import KeepRule
    from yeldro.core.selection.selection import RelatedTable, Selection

    selection = Selection(
        table=options["what"],
        where=options["where"],
        parameters=parameters_of(options),
        matching=tuple(RelatedTable.parse(text) for text in options["matching"]),
        missing_in=tuple(RelatedTable.parse(text) for text in options["missing_in"]),
        orphans=options["orphans"],
        duplicates_by=columns_of(options["duplicates_by"]),
        keep=tuple(KeepRule.parse(text) for text in options["keep"]),
        same=sameness_of(options),
        order_by=options["order_by"],
        limit=options["limit"],
        all_rows=options["all_rows"],
        only_table=options["only_table"],
    )
    return Cleanup(
        selection=selection,
        choices=choices_of(options),
        expectations=Expectations.parse(options.get("expect", ())),
        allowed_triggers=tuple(options.get("allow_trigger", ())),
        add_constraint=bool(options.get("add_constraint")),
        truncate=bool(options.get("truncate")),
        no_way_back=tuple(options.get("no_way_back", ())),
    )


def choices_of(options: dict[str, Any]) -> Choices:
    """What the ripple options say."""
    from yeldro.core.planning.treatment import Choices

    return Choices(
        tuple(options.get("follow", ())),
        tuple(options.get("detach", ())),
        bool(options.get("repoint")),
    )


def parameters_of(options: dict[str, Any]) -> dict[str, Any]:
    """The values that --param gives, as they are bound."""
    from yeldro.core.selection.selection import parameter_value

    return {name: parameter_value(text) for name, text in given_parameters(options).items()}


def given_parameters(options: dict[str, Any]) -> dict[str, str]:
    """The values that --param gives, as they are typed.

    Raises:
        UsageError: one is not NAME=VALUE, or is given twice.
    """
    found: dict[str, str] = {}
    for text in options["param"]:
        name, equals, value = text.partition("=")
        if not equals or not name.isidentifier():
            raise UsageError(
                f"--param {text!r} is not NAME=VALUE.", "Write --param cutoff=2020-01-01."
            )
        if name in found:
            raise UsageError(f"--param {name} is given twice.", "Keep one value.")
        found[name] = value
    return found


def sameness_of(options: dict[str, Any]) -> Sameness:
    """When values of duplicates count as equal."""
    from yeldro.core.model.equality import Sameness

    names = ("ignore_case", "trim", "null_distinct", "as_text")
    return Sameness(**{name: options[name] for name in names})

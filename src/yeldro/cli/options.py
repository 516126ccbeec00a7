"""Options that several commands share, and the core objects they make."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar

import click

from yeldro.cli import help as layout
from yeldro.cli.help import DEPENDENTS, DUPLICATES, HOW, HOW_MANY, WHERE, WHICH_ROWS
from yeldro.cli.settings import TIME_LIMIT
from yeldro.core.model.errors import UsageError
from yeldro.core.model.names import listed
from yeldro.formats import fields
from yeldro.formats.fields import Field

if TYPE_CHECKING:  # what a command needs is loaded when it runs
    from yeldro.core.model.equality import EqualityRules
    from yeldro.core.planning.plan import Cleanup
    from yeldro.core.planning.treatment import Choices

Function = TypeVar("Function", bound=Callable[..., Any])

_HEADINGS = (
    {each.name: WHICH_ROWS for each in fields.SELECTION}
    | {each.name: DEPENDENTS for each in fields.DEPENDENTS}
    | {
        each.name: DUPLICATES
        for each in (fields.DUPLICATES_BY, fields.KEEP, *fields.EQUALITY, fields.ADD_CONSTRAINT)
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
map_option = layout.option(
    WHERE,
    "--map",
    "map_to",
    metavar="FILE",
    help="Draw tables and foreign keys: FILE ends in .svg, .png, .html or .mmd; - is text here.",
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

what_options_but_dialect = _all(
    click.argument("what", required=False, metavar="WHAT"),
    layout.option(
        WHICH_ROWS,
        "--sql",
        metavar="FILE",
        help="Instead of WHAT: a file of DELETE statements, or - for standard input.",
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

what_options = _all(
    what_options_but_dialect,
    layout.option(
        WHICH_ROWS,
        "--dialect",
        metavar="NAME",
        help="The system that the statements of --sql are written for, if it is another one.",
    ),
)

ripple_options = _all(*_options(*fields.DEPENDENTS))
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


def check_usage(options: dict[str, Any]) -> None:
    """Refuse options that no database is needed for to refuse, before anything else is loaded.

    Raises:
        UsageError: WHAT or the database is missing, or a parameter or an expectation is wrong.
    """
    from yeldro.cli.settings import named
    from yeldro.core.model.expectation import Expectations

    what = options["what"]
    if what is None and options["sql"] is None:
        raise UsageError(
            "No table, file, plan or SQL is given.",
            "Name a table, a cleanup file (*.toml), a saved plan (*.json), or --sql FILE.",
        )
    given_parameters(options)
    Expectations.parse(options.get("expect", ()))
    if what is None or not what.endswith((".toml", ".json")):
        named(options["db"])


def columns_of(typed: str | None) -> tuple[str, ...]:
    """Return the names in a list with commas."""
    return tuple(listed(typed)) if typed else ()


def cleanup_of(options: dict[str, Any]) -> Cleanup:
    """Return the cleanup that the selection, ripple and expectation options describe.

    Raises:
        UsageError: one of them cannot be read.
    """
    from yeldro.core.model.expectation import Expectations
    from yeldro.formats.cleanup_values import cleanup_from

    return cleanup_from(
        options["what"],
        {name: options.get(name) for name in fields.CLEANUP},
        parameters=parameters_of(options),
        expectations=Expectations.parse(options.get("expect", ())),
    )


def choices_of(options: dict[str, Any]) -> Choices:
    """Return the choices that the ripple options make."""
    from yeldro.formats.cleanup_values import cleanup_from

    return cleanup_from(
        "", {each.name: options.get(each.name) for each in fields.DEPENDENTS}
    ).choices


def parameters_of(options: dict[str, Any]) -> dict[str, Any]:
    """Return the values that --param and --param-null give; their types are not known yet."""
    given = given_parameters(options)
    if not given:
        return {}
    from yeldro.core.selection.parameters import Typed

    return {name: None if text is None else Typed(text) for name, text in given.items()}


def given_parameters(options: dict[str, Any]) -> dict[str, str | None]:
    """Return the values of parameters as they are typed, None for NULL.

    Raises:
        UsageError: one is not NAME=VALUE, or is given twice.
    """
    found: dict[str, str | None] = {}
    typed: list[tuple[str, str | None]] = [(name, None) for name in options.get("param_null", ())]
    for text in options["param"]:
        name, equals, value = text.partition("=")
        if not equals:
            raise UsageError(
                f"--param {text!r} is not NAME=VALUE.", "Write --param cutoff=2020-01-01."
            )
        typed.append((name, value))
    for name, text in typed:
        if not name.isidentifier():
            raise UsageError(f"{name!r} is not the name of a parameter.", "Write :name in --where.")
        if name in found:
            raise UsageError(f"--param {name} is given twice.", "Keep one value.")
        found[name] = text
    return found


def equality_of(options: dict[str, Any]) -> EqualityRules:
    """Return when values of duplicates count as equal."""
    from yeldro.core.model.equality import EqualityRules

    return EqualityRules(**{each.name: options[each.name] for each in fields.EQUALITY})

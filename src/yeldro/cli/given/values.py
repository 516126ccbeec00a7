"""What the options of a command mean, as core objects."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

from yeldro.cli.given.settings import named
from yeldro.core.model.messages.errors import UsageError
from yeldro.core.model.messages.names import listed
from yeldro.formats import fields

if TYPE_CHECKING:  # what a command needs is loaded when it runs
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.planning.cleanup import Cleanup
    from yeldro.core.planning.following.treatment import Choices


def check_usage(options: dict[str, Any]) -> None:
    """Refuse options that no database is needed for to refuse, before anything else is loaded.

    Raises:
        UsageError: WHAT or the database is missing, or a parameter or an expectation is wrong.
    """
    from yeldro.core.model.work.expectation import Expectations

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
    from yeldro.core.model.work.expectation import Expectations
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
    from yeldro.core.selection.conditions.parameters import Typed

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
    from yeldro.core.model.tables.equality import EqualityRules

    return EqualityRules(**{each.name: options[each.name] for each in fields.EQUALITY})

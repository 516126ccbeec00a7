"""What is refused before the first row goes: privileges, unseen tables, what could not be undone.

Asked of everything that a transaction, or a run in batches as a whole, can touch.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from yeldro.core.model.messages.errors import MissingPrivilege, NoWayBack, Refused, UnknownName
from yeldro.core.model.messages.options import Option
from yeldro.core.model.work.steps import Action

if TYPE_CHECKING:
    from collections.abc import Collection, Iterable

    from yeldro.core.changes.change_set import Touched
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.schema import Table


@dataclass(frozen=True)
class Lasting:
    """What the user accepts although it cannot be rolled back.

    Args:
        tables: tables of ours in which nothing can be.
        effects: what triggers can do elsewhere, in words.
    """

    tables: tuple[str, ...] = ()
    effects: tuple[str, ...] = ()


def guard(
    session: Session, touched: Sequence[Touched], no_way_back: Collection[str] | None
) -> Lasting:
    """Refuse what this user may not do, and what could not be undone.

    Args:
        no_way_back: tables that the user accepts although nothing can be rolled back there; None
            if everything must be rolled back, as in a rehearsal.

    Returns:
        What is accepted.

    Raises:
        Refused: a privilege is missing; a table has no transactions and is not named; rows of it
            cannot change one by one; a table that this user does not see may reference rows that
            go.
    """
    for each in touched:
        if each.commits_by_itself:
            name = _accepted_as_committed(session, str(each.table.name), no_way_back)
            return Lasting((name,))
    missing = missing_privileges(session, touched)
    if missing:
        raise MissingPrivilege(
            f"A privilege is missing: {', '.join(missing)}.",
            "Ask for it, or use another user.",
            missing=missing,
        )
    return check_way_back(session, touched, no_way_back)


def missing_privileges(session: Session, touched: Iterable[Touched]) -> list[str]:
    """Return the privileges that this user lacks, such as `DELETE on reading`."""
    wanted = [(each.table, each.columns) for each in touched if each.action is not Action.ADD]
    return list(dict.fromkeys(session.missing_privileges(list(dict.fromkeys(wanted)))))


def check_way_back(
    session: Session, touched: Sequence[Touched], no_way_back: Collection[str] | None
) -> Lasting:
    """Refuse what could not be rolled back, and rows that unseen tables may reference.

    Args, Returns, Raises: as in `guard`.
    """
    for each in touched:
        check_kind(each.table)
    _check_unseen(session, touched)
    effects = _accepted_effects(session, touched, no_way_back)
    lasting = {str(each.table.name): each.table for each in touched if not each.table.transactional}
    for name, table in lasting.items():
        if no_way_back is None or name not in no_way_back:
            remedy = f"Convert it with {session.making_transactional(table)}"
            raise NoWayBack(
                f"{name} has no transactions: what is done to it cannot be rolled back.",
                _or_accept(remedy, name, no_way_back),
                name=name,
            )
    return Lasting(tuple(lasting), effects)


def check_kind(table: Table) -> None:
    """Refuse a relation whose rows do not change one by one, and for good, as in a plain table.

    Raises:
        Refused: it is a view, a foreign table, one that keeps old versions of rows, or the like.
    """
    if table.kind != "table":
        raise Refused(
            f"{table.name} is a {table.kind}, and rows change in plain tables only.",
            "Name a table whose rows should go, and on which no other kind depends.",
            table=str(table.name),
            kind=table.kind,
        )


def triggers_fired(touched: Iterable[Touched]) -> list[str]:
    """Return the triggers that such changes can fire."""
    return list(
        dict.fromkeys(
            trigger.name
            for each in touched
            for trigger in each.table.triggers
            if trigger.event == each.event
        )
    )


def check_trigger_names(
    names: Sequence[str], tables: Iterable[Table], event_triggers: Iterable[str]
) -> None:
    """Refuse the name of a trigger that none of the tables has.

    Raises:
        UsageError: none has it; the nearest names are shown.
    """
    known = dict.fromkeys(trigger.name for table in tables for trigger in table.triggers)
    known |= dict.fromkeys(event_triggers)
    for name in names:
        if name not in known:
            raise UnknownName(
                f"‹allow_trigger› {name}: no table that this touches has a trigger of that name.",
                name,
                known,
            )


def _accepted_as_committed(session: Session, name: str, no_way_back: Collection[str] | None) -> str:
    if name not in (no_way_back or ()):
        raise NoWayBack(
            f"Emptying a table commits by itself on {session.traits.name}: what goes from "
            f"{name} cannot be rolled back.",
            f"Accept it with {Option('no_way_back', name).named}, or remove the rows by DELETE.",
            name=name,
        )
    return name


def _accepted_effects(
    session: Session, touched: Iterable[Touched], no_way_back: Collection[str] | None
) -> tuple[str, ...]:
    """Return what triggers can do that cannot be rolled back, as far as the user accepts it.

    Raises:
        Refused: there is such a trigger, and the user has not accepted it by name.
    """
    accepted: dict[str, None] = {}
    for table, event in dict.fromkeys((each.table, each.event) for each in touched):
        for effect in session.lasting_effects(table, event):
            if no_way_back is None or effect.name not in no_way_back:
                own = f"event trigger {effect.trigger}"
                if not effect.of_event:
                    own = f"trigger {effect.trigger} of {table.name}"
                raise NoWayBack(
                    f"The {own} {effect.said}.",
                    _or_accept(effect.remedy, effect.name, no_way_back),
                    name=effect.name,
                    trigger=effect.trigger,
                )
            accepted[f"the trigger {effect.trigger} with {effect.name}"] = None
    return tuple(accepted)


def _or_accept(remedy: str, name: str, no_way_back: Collection[str] | None) -> str:
    """Return what helps, as a sentence; where something may be accepted, that too."""
    if no_way_back is None:
        return f"{remedy}."
    return f"{remedy}, or accept it with {Option('no_way_back', name).named}."


def _check_unseen(session: Session, touched: Sequence[Touched]) -> None:
    """Refuse to remove rows that tables could reference which this user does not see.

    Raises:
        Refused: there is such a table; or the system's own check, which sees it, cannot be used.
    """
    last = {each.table.name: place for place, each in enumerate(touched)}
    for place, each in enumerate(touched):
        if each.action is not Action.REMOVE:
            continue
        table: Table = each.table
        unseen = session.unseen_references(table)
        if unseen:
            raise MissingPrivilege(
                f"{', '.join(unseen)} references {table.name}, and this user does not see it.",
                "Use a user with SELECT on that database too.",
            )
        referencing = session.catalogue.referencing(table.name)
        in_turn = [key for key in referencing if last.get(key.child, -1) >= place]
        if unseen is None and in_turn:
            raise MissingPrivilege(
                f"This user does not see whether tables of other databases reference "
                f"{table.name}; the server's own check would find out, but not while rows that go "
                f"reference one another ({in_turn[0]}).",
                "Use a user with the privilege PROCESS, or with SELECT on all databases.",
            )

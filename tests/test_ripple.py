"""The ripple against the database itself: random schemas, random rows, plain deletions."""

from __future__ import annotations

import os
import sqlite3
import tempfile
from dataclasses import replace
from pathlib import Path

import pytest
from random_schemas import Case, Link, Made, quoted, random_case, rows_by_table
from trials import Trials
from undoing import back_and_forth

from yeldro.core.execution.run import plan, run
from yeldro.core.model.messages.errors import Refused
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.following.treatment import Choices
from yeldro.core.planning.job import Job
from yeldro.core.receipts.reader import read_receipt
from yeldro.core.receipts.writer import ReceiptOptions
from yeldro.core.restore.restore import compare, restore
from yeldro.core.selection.asked import Selection
from yeldro.engines import open_database

IN_MEMORY = "/dev/shm" if os.path.isdir("/dev/shm") else None
FEW, MANY = 20, 700


def name_of(case: Case, number: int) -> str:
    link = case.links[number]
    return f"{case.tables[link.child].name}.{','.join(link.columns)}"


def cleanup_of(case: Case, follow: tuple[str, ...] = (), detach: tuple[str, ...] = ()) -> Cleanup:
    table = case.tables[case.target].name
    selection = Selection(table, where="mark < :below", parameters={"below": case.below})
    return Cleanup(selection, Choices(follow, detach))


def plain_delete(case: Case, path: Path) -> bool:
    """Have SQLite carry out the plain deletion; False where it refuses."""
    case.create(path)
    connection = sqlite3.connect(path)
    connection.execute("PRAGMA foreign_keys = ON")
    name = quoted(case.tables[case.target].name)
    try:
        connection.execute(f"DELETE FROM {name} WHERE mark < ?", (case.below,))
        connection.commit()
        return True
    except sqlite3.IntegrityError:
        return False
    finally:
        connection.close()


def check(case: Case, cleanup: Cleanup) -> None:
    """Yeldro and SQLite end with the same rows, or both refuse; and restore undoes it all."""
    with tempfile.TemporaryDirectory(dir=IN_MEMORY) as folder:
        ours, theirs = Path(folder, "ours.db"), Path(folder, "theirs.db")
        case.create(ours)
        declared = case.as_sqlite_would_treat_it()
        goes = plain_delete(declared, theirs)
        if not goes:
            theirs.unlink()
            goes = plain_delete(declared.with_changes_last(), theirs)
        if goes:
            connection = sqlite3.connect(theirs)
            goes = not case.null_where_not_allowed(connection)
            connection.close()
        before = rows_by_table(ours)
        database = open_database(str(ours))
        receipt_options = ReceiptOptions(Path(folder, "receipts"))
        planned = plan(database, Job.of(cleanup)).plans[0]
        own = declared.changed_and_removed() or declared.references_itself_loosely()
        if not goes and not planned.blocked and own:
            run(database, Job.of(cleanup), receipt_options, 1)
            connection = sqlite3.connect(ours)
            assert connection.execute("PRAGMA foreign_key_check").fetchall() == []
            connection.close()
            return
        if not goes:
            assert planned.blocked
            with pytest.raises(Refused):
                run(database, Job.of(cleanup), receipt_options, 1)
            assert rows_by_table(ours) == before
            return
        result = run(database, Job.of(cleanup), receipt_options, 1)
        assert rows_by_table(ours) == rows_by_table(theirs)
        assert sum(result.tally.affected) == result.plans[0].total
        if result.receipt is not None:
            receipt = read_receipt(result.receipt)
            assert compare(database, receipt).verdict == "all gone"
            if result.tally.total % 6 == 1:
                back_and_forth(database, result.receipt, lambda: rows_by_table(ours))
            else:
                restore(database, receipt, 1)
            assert rows_by_table(ours) == before


LOOSE_DEFAULT = Case(
    tables=(Made("k", ("k00", "k01"), (), "", text_key=True, generated=False, blind=True),),
    links=(Link(0, ("f0 0", "f0 1"), 0, ("k00", "k01"), "SET DEFAULT", True),),
    rows=(({"k00": "K1", "k01": "k1", "mark": 2, "f0 0": "k2", "f0 1": "k1"},
           {"k00": "k2", "k01": "k1", "mark": 1, "f0 0": "k1", "f0 1": "k1"}),),
    target=0,
    below=2,
)  # fmt: skip


def test_declared_actions_end_as_in_the_database_or_are_blocked_as_there(trials: Trials) -> None:
    check(LOOSE_DEFAULT, cleanup_of(LOOSE_DEFAULT))
    for number in trials(FEW, MANY):
        case = random_case(number)
        check(case, cleanup_of(case))


def test_follow_all_ends_as_if_every_key_were_declared_cascade(trials: Trials) -> None:
    for number in trials(FEW, MANY):
        case = random_case(number)
        followed = replace(case, choices=dict.fromkeys(range(len(case.links)), "follow"))
        check(followed, cleanup_of(case, follow=("all",)))


BLIND = Made("k", ("k00",), (), "", text_key=True, generated=False, blind=True)
LOOSE = Case(
    tables=(BLIND,),
    links=tuple(Link(0, (name,), 0, ("k00",), "RESTRICT", True) for name in ("f0 0", "f1 0")),
    rows=(({"k00": "K1", "mark": 3, "f0 0": "K2", "f1 0": "k1"},
           {"k00": "k2", "mark": 1, "f0 0": "K1", "f1 0": None}),),
    target=0,
    below=2,
    choices={0: "detach", 1: "detach"},
)  # fmt: skip


def test_chosen_treatments_end_as_if_they_had_been_declared(trials: Trials) -> None:
    check(LOOSE, cleanup_as_chosen(LOOSE))
    for number in trials(FEW, MANY):
        case = random_case(number, choose=True)
        check(case, cleanup_as_chosen(case))


def cleanup_as_chosen(case: Case) -> Cleanup:
    follow, detach = (
        tuple(name_of(case, number) for number, each in case.choices.items() if each == choice)
        for choice in ("follow", "detach")
    )
    return cleanup_of(case, follow, detach)

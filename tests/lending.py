"""A lending library for musical instruments: the schema of another trade, made up.

It has what the sea buoys have not: days in text columns, people entered twice, addresses that are
NULL or empty, names with quotes, and a key of text.
"""

from __future__ import annotations

import random
from collections.abc import Iterator, Sequence
from datetime import date, timedelta

TABLES = """
CREATE TABLE branch (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL UNIQUE,
    parent_id INTEGER REFERENCES branch (id));
CREATE TABLE kind (code VARCHAR(8) NOT NULL PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE maker (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL);
CREATE TABLE member (id INTEGER PRIMARY KEY, name VARCHAR(60) NOT NULL, email VARCHAR(80),
    phone VARCHAR(20), born VARCHAR(10), joined_on DATE NOT NULL, left_on DATE,
    branch_id INTEGER NOT NULL REFERENCES branch (id));
CREATE TABLE instrument (id INTEGER PRIMARY KEY, serial VARCHAR(20) NOT NULL UNIQUE,
    kind_code VARCHAR(8) NOT NULL REFERENCES kind (code),
    maker_id INTEGER REFERENCES maker (id) ON DELETE SET NULL,
    branch_id INTEGER NOT NULL REFERENCES branch (id), price NUMERIC(9, 2));
CREATE TABLE loan (id INTEGER PRIMARY KEY, member_id INTEGER NOT NULL REFERENCES member (id),
    instrument_id INTEGER NOT NULL REFERENCES instrument (id), due VARCHAR(10) NOT NULL,
    returned_on DATE);
CREATE TABLE accessory (loan_id INTEGER NOT NULL REFERENCES loan (id) ON DELETE CASCADE,
    no INTEGER NOT NULL, what VARCHAR(20) NOT NULL, PRIMARY KEY (loan_id, no));
CREATE TABLE fine (id INTEGER PRIMARY KEY, loan_id INTEGER REFERENCES loan (id) ON DELETE SET NULL,
    amount NUMERIC(7, 2) NOT NULL, paid INTEGER NOT NULL);
CREATE TABLE repair (id INTEGER PRIMARY KEY,
    instrument_id INTEGER NOT NULL REFERENCES instrument (id), note VARCHAR(80));
CREATE TABLE reservation (member_id INTEGER NOT NULL REFERENCES member (id) ON DELETE CASCADE,
    kind_code VARCHAR(8) NOT NULL REFERENCES kind (code), wanted_on DATE NOT NULL,
    PRIMARY KEY (member_id, kind_code));
CREATE TABLE tag (instrument_id INTEGER NOT NULL REFERENCES instrument (id) ON DELETE CASCADE,
    label VARCHAR(20) NOT NULL, PRIMARY KEY (instrument_id, label));
CREATE TABLE scan_log (serial VARCHAR(20), scanned_at VARCHAR(16), terminal INTEGER);
CREATE INDEX loan_of_member ON loan (member_id);
CREATE INDEX loan_of_instrument ON loan (instrument_id);
CREATE INDEX fine_of_loan ON fine (loan_id);
CREATE VIEW overdue AS SELECT * FROM loan WHERE returned_on IS NULL AND due < '2026-01-01';
"""

NIGHT = """
title = "Every night: people entered twice, loans long returned, scans sent twice"

[param.kept_days]
type = "date"
default = "2021-01-01"
about = "Loans returned before this day go"

[param.terminals]
type = "integer"
default = 3

[[remove]]
from = "member"
duplicates_by = ["name", "born"]
null_distinct = true
keep = ["fullest", "lowest:id"]
repoint = true
follow = ["reservation"]
fill = ["email", "phone"]

[[remove]]
from = "loan"
where = "returned_on < :kept_days"
detach = ["fine"]

[[remove]]
from = "scan_log"
where = "terminal <= :terminals"
duplicates_by = ["serial", "scanned_at"]

[[after]]
about = "no loan is without its member"
query = '''
select count(*) from loan l where not exists (select 1 from member m where m.id = l.member_id)'''
expect = "0"
"""

_FIRST = ("Ada", "Bela", "Cleo", "Dino", "Edda", "Finn", "Gesa", "Hugo", "Ines", "Jaro")
_LAST = ("Alder", "Birch", "Cedar", "Dogwood", "Elm", "Fir", "Gorse", "Hazel", "Ivy", "Juniper")
_KINDS = {"VLN": "violin", "VLA": "viola", "CEL": "cello", "FLT": "flute", "HRN": "horn"}
_BEGAN = date(2016, 1, 4)


def script(members: int = 60) -> str:
    """Return statements that make the library, the same ones every time.

    Args:
        members: of whom one in five is entered twice.
    """
    drawn = random.Random(4)
    rows = {
        "branch": [(1, "Old Harbour", None), (2, "North Gate", 1), (3, "Mill", 1)],
        "kind": list(_KINDS.items()),
        "maker": [(n, f"Workshop {n}") for n in range(1, 5)],
        "member": list(_members(drawn, members)),
        "instrument": list(_instruments(drawn, members)),
    }
    rows |= _loans(drawn, len(rows["member"]), len(rows["instrument"]))
    return TABLES + "\n".join(_inserted(table, held) for table, held in rows.items())


def _day(drawn: random.Random, days: int = 3650) -> date:
    return _BEGAN + timedelta(days=drawn.randrange(days))


def _members(drawn: random.Random, number: int) -> Iterator[tuple[object, ...]]:
    people = []
    for n in range(1, number + 1):
        name = f"{drawn.choice(_FIRST)} {drawn.choice(_LAST)}"
        email = f"{name.lower().replace(' ', '.')}{n}@library.example"
        born = _day(drawn).replace(year=drawn.randrange(1950, 2010), day=1)
        joined = _day(drawn)
        people.append(
            (name, (email, None, "")[n % 7 % 3], None, str(born), joined, None, n % 3 + 1)
        )
    for n in range(0, number, 5):
        name, email, _, born, joined, _, branch = people[n]
        again = email.upper() if email else None
        people.append((name, again, f"0{n:05}", born, joined + timedelta(days=n + 1), None, branch))
    people.append(('O\'Neil "Bo" Ash', None, "", None, _BEGAN, _BEGAN + timedelta(days=400), 1))
    yield from ((n, *person) for n, person in enumerate(people, 1))


def _instruments(drawn: random.Random, number: int) -> Iterator[tuple[object, ...]]:
    for n in range(1, number + 1):
        kind = drawn.choice(tuple(_KINDS))
        maker = drawn.choice((None, 1, 2, 3, 4))
        yield n, f"{kind}-{n:04}", kind, maker, n % 3 + 1, drawn.randrange(9_000, 900_000) / 100


def _loans(
    drawn: random.Random, members: int, instruments: int
) -> dict[str, list[tuple[object, ...]]]:
    held: dict[str, list[tuple[object, ...]]] = {
        table: []
        for table in ("loan", "accessory", "fine", "repair", "reservation", "tag", "scan_log")
    }
    for n in range(1, 6 * members):
        due = _day(drawn)
        returned = due + timedelta(days=drawn.randrange(-30, 30)) if n % 9 else None
        one = drawn.randrange(instruments) + 1
        held["loan"].append((n, drawn.randrange(members) + 1, one, str(due), returned))
        if n % 2:
            held["accessory"].append((n, 1, "case"))
        if n % 4 == 0:
            held["accessory"].append((n, 2, "stand"))
            held["fine"].append((n, n, n % 13 + 0.5, n % 2))
        scan = (f"VLN-{one:04}", f"{due} 09:{n % 60:02}", n % 5)
        held["scan_log"].extend([scan] * (2 if n % 8 == 0 else 1))
    held["repair"] = [(n, n * 2, "strings") for n in range(1, instruments // 2, 3)]
    held["tag"] = [(n, "student") for n in range(1, instruments, 2)]
    held["reservation"] = [
        (n, drawn.choice(tuple(_KINDS)), _day(drawn)) for n in range(1, members, 4)
    ]
    return held


def _inserted(table: str, rows: Sequence[tuple[object, ...]]) -> str:
    values = ",\n".join(f"({', '.join(map(_literal, row))})" for row in rows)
    return f"INSERT INTO {table} VALUES\n{values};"


def _literal(value: object) -> str:
    if value is None:
        return "NULL"
    return (
        str(value) if isinstance(value, int | float) else "'" + str(value).replace("'", "''") + "'"
    )

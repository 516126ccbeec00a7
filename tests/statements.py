"""DELETE statements as people write them for other systems, with the rows that each means.

On a made-up table of customers of the buoy network: what a statement means on the system that it is
written for is a condition in Python on each row.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from datetime import date, datetime, timedelta

SCHEMA = """
    CREATE TABLE customer (id INTEGER PRIMARY KEY, name VARCHAR(20), email VARCHAR(40),
        created DATE, seen TIMESTAMP NULL, x INTEGER, amount NUMERIC(10, 2), active BOOLEAN);
    CREATE TABLE visit (id INTEGER PRIMARY KEY, customer_id INTEGER, made DATE);
"""


@dataclass(frozen=True)
class Row:
    """A customer."""

    id: int
    name: str
    email: str | None
    created: date
    seen: datetime
    x: int
    amount: float
    active: bool

    @property
    def visits(self) -> bool:
        return self.id in VISITS


def _row(n: int) -> Row:
    day = date(2015 + n % 8, 1 + n % 9, 11)
    email = None if n % 9 == 0 else f"n{n % 50}@x.example"
    seen = datetime(day.year, day.month, day.day, 10 + n % 3, n % 60)
    return Row(n, f"N{n % 20}", email, day, seen, n % 7, n * 1.5, n % 2 == 1)


ROWS = [_row(n) for n in range(1, 61)]
VISITS = {n for n in range(1, 61) if n % 4 == 0}
TODAY = date.today()


def filled() -> str:
    """Return the schema with its rows, for any of the systems."""
    customers = ", ".join(
        f"({r.id}, '{r.name}', {'NULL' if r.email is None else repr(r.email)}, '{r.created}',"
        f" '{r.seen}', {r.x}, {r.amount}, {'TRUE' if r.active else 'FALSE'})" for r in ROWS
    )  # fmt: skip
    visits = ", ".join(f"({n}, {n}, '2020-01-01')" for n in sorted(VISITS))
    return f"{SCHEMA} INSERT INTO customer VALUES {customers}; INSERT INTO visit VALUES {visits};"


def years_ago(number: int) -> date:
    return TODAY.replace(year=TODAY.year - number, day=min(TODAY.day, 28))


def days_ago(number: int) -> date:
    return TODAY - timedelta(days=number)


Meaning = Callable[[Row], bool]
DELETE = "DELETE FROM customer WHERE "
D = date(2018, 1, 1)
FIRST = {
    min((r.id for r in ROWS if r.email == mail), default=0) for mail in {r.email for r in ROWS}
}


def second(row: Row) -> bool:
    """True for a copy of a row with the same address and a smaller number."""
    return row.id not in FIRST


# dialect, statement (a condition stands for DELETE FROM customer WHERE …), meaning
CARRIED: list[tuple[str, str, Meaning]] = [
    # SQL Server
    ("sqlserver", "created > GETDATE() - 30", lambda r: r.created > days_ago(30)),
    ("sqlserver", "created < GETDATE() - 3000", lambda r: r.created < days_ago(3000)),
    ("sqlserver", "created < DATEADD(day, -3000, GETDATE())", lambda r: r.created <= days_ago(3000)),  # noqa: E501
    ("sqlserver", "created < DATEADD(yy, -8, CAST(GETDATE() AS date))",
     lambda r: r.created < years_ago(8)),
    ("sqlserver", "created < DATEADD(mm, DATEDIFF(mm, 0, GETDATE()) - 96, 0)",
     lambda r: r.created < years_ago(8).replace(day=1)),
    ("sqlserver", "DATEDIFF(day, created, GETDATE()) > 3000", lambda r: r.created < days_ago(3000)),
    ("sqlserver", "DATEADD(day, 3000, created) < CAST(GETDATE() AS date)",
     lambda r: r.created < days_ago(3000)),
    ("sqlserver", "created BETWEEN '20180101' AND '20190101'",
     lambda r: D <= r.created <= date(2019, 1, 1)),
    ("sqlserver", "created < '2018-01-01'", lambda r: r.created < D),
    ("sqlserver", "created < '2018-01-01T00:00:00'", lambda r: r.created < D),
    ("sqlserver", "seen >= '2018-01-01 00:00:00'", lambda r: r.seen >= datetime(2018, 1, 1)),
    ("sqlserver", "created < CONVERT(datetime, '20180101', 112)", lambda r: r.created < D),
    ("sqlserver", "created < DATEFROMPARTS(2018, 1, 1)", lambda r: r.created < D),
    ("sqlserver", "created <= EOMONTH('2018-02-11')", lambda r: r.created <= date(2018, 2, 28)),
    ("sqlserver", "YEAR(created) < 2018", lambda r: r.created.year < 2018),
    ("sqlserver", "YEAR(created) = YEAR(GETDATE()) - 8", lambda r: r.created.year == TODAY.year - 8),  # noqa: E501
    ("sqlserver", "DATEPART(year, created) <> 2018", lambda r: r.created.year != 2018),
    ("sqlserver", "CAST(seen AS date) = '2018-04-11'", lambda r: r.seen.date() == date(2018, 4, 11)),  # noqa: E501
    ("sqlserver", "CONVERT(date, seen) <= '2018-04-11'",
     lambda r: r.seen.date() <= date(2018, 4, 11)),
    ("sqlserver", "name = N'N1'", lambda r: r.name == "N1"),
    ("sqlserver", "[name] IN ('N1', 'N2')", lambda r: r.name in ("N1", "N2")),
    ("sqlserver", "name LIKE 'N[1-3]'", lambda r: r.name in ("N1", "N2", "N3")),
    ("sqlserver", "name NOT LIKE 'N[1-3]'", lambda r: r.name not in ("N1", "N2", "N3")),
    ("sqlserver", "name NOT LIKE 'N1%'", lambda r: not r.name.startswith("N1")),
    ("sqlserver", "name + '' = 'N1'", lambda r: r.name == "N1"),
    ("sqlserver", "LEN(name) > 2", lambda r: len(r.name) > 2),
    ("sqlserver", "LEFT(name, 2) = 'N1'", lambda r: r.name[:2] == "N1"),
    ("sqlserver", "ISNULL(email, '') = ''", lambda r: not r.email),
    ("sqlserver", "ISNULL(email, N'') = N''", lambda r: not r.email),
    ("sqlserver", "LEN(ISNULL(email, N'xyz')) = 3", lambda r: r.email is None),
    ("sqlserver", "name = N'N' + NCHAR(49)", lambda r: r.name == "N1"),
    ("sqlserver", "x IN (SELECT x FROM customer GROUP BY x HAVING COUNT(*) > 8)",
     lambda r: sum(each.x == r.x for each in ROWS) > 8),
    ("sqlserver", "(SELECT COUNT(*) FROM customer c WHERE c.name = 'N1'"
     " AND c.id <= customer.id) > 2",
     lambda r: sum(each.name == "N1" and each.id <= r.id for each in ROWS) > 2),
    ("oracle", "name = UNISTR('N\\0031')", lambda r: r.name == "N1"),
    ("oracle", "name = 'N' || '1'", lambda r: r.name == "N1"),
    ("oracle", f"id IN ({', '.join(map(str, range(3, 900)))})", lambda r: r.id >= 3),
    ("sqlserver", "email IS NULL AND x > 3", lambda r: r.email is None and r.x > 3),
    ("sqlserver", "active = 'true'", lambda r: r.active),
    ("sqlserver", "active = 1", lambda r: r.active),
    ("sqlserver", "x = '6'", lambda r: r.x == 6),
    ("sqlserver", "NOT (x = 6 OR x < 2)", lambda r: not (r.x == 6 or r.x < 2)),
    ("sqlserver", "amount BETWEEN 10.5 AND 20", lambda r: 10.5 <= r.amount <= 20),
    ("sqlserver", "DELETE FROM dbo.customer WHERE id = 1", lambda r: r.id == 1),
    ("sqlserver", "DELETE c FROM dbo.customer c JOIN dbo.visit v ON v.customer_id = c.id",
     lambda r: r.visits),
    ("sqlserver", "DELETE FROM c FROM customer c JOIN visit v ON v.customer_id = c.id",
     lambda r: r.visits),
    ("sqlserver", "DELETE c FROM customer c LEFT JOIN visit v ON v.customer_id = c.id"
     " WHERE v.id IS NULL", lambda r: not r.visits),
    ("sqlserver", "BEGIN TRAN DELETE FROM customer WHERE id = 1 COMMIT", lambda r: r.id == 1),
    ("sqlserver", "SET NOCOUNT ON\nDELETE FROM customer WHERE id = 1\nGO\n", lambda r: r.id == 1),
    ("sqlserver", "DELETE FROM customer WITH (TABLOCK) WHERE x = 1 OPTION (MAXDOP 1)",
     lambda r: r.x == 1),
    ("sqlserver", "WITH c AS (SELECT *, ROW_NUMBER() OVER (PARTITION BY email ORDER BY id) rn"
     " FROM customer) DELETE FROM c WHERE rn > 1", second),
    ("sqlserver", "id NOT IN (SELECT MIN(id) FROM customer GROUP BY email)", second),
    ("tsql", "created = (SELECT MIN(created) FROM customer)",
     lambda r: r.created == min(each.created for each in ROWS)),
    ("mssql", "1 = 1 AND x = 2", lambda r: r.x == 2),
    # Oracle
    ("oracle", "created > SYSDATE - 30", lambda r: r.created > days_ago(30)),
    ("oracle", "SYSDATE - created > 3000", lambda r: r.created <= days_ago(3000)),
    ("oracle", "created + 3000 < TRUNC(SYSDATE)", lambda r: r.created < days_ago(3000)),
    ("oracle", "created < ADD_MONTHS(TRUNC(SYSDATE), -96)", lambda r: r.created < years_ago(8)),
    ("oracle", "created < TRUNC(SYSDATE, 'MM')", lambda r: r.created < TODAY.replace(day=1)),
    ("oracle", "created < TRUNC(SYSDATE) - INTERVAL '3000' DAY",
     lambda r: r.created < days_ago(3000)),
    ("oracle", "created < DATE '2018-01-01'", lambda r: r.created < D),
    ("oracle", "seen < TIMESTAMP '2018-04-11 12:00:00'",
     lambda r: r.seen < datetime(2018, 4, 11, 12)),
    ("oracle", "created < TO_DATE('2018-01-01', 'YYYY-MM-DD')", lambda r: r.created < D),
    ("oracle", "created < TO_DATE('01.01.2018', 'DD.MM.YYYY')", lambda r: r.created < D),
    ("oracle", "seen < TO_DATE('2018-04-11 12:00:00', 'YYYY-MM-DD HH24:MI:SS')",
     lambda r: r.seen < datetime(2018, 4, 11, 12)),
    ("oracle", "DELETE customer WHERE TRUNC(seen) = DATE '2018-04-11'",
     lambda r: r.seen.date() == date(2018, 4, 11)),
    ("oracle", "EXTRACT(YEAR FROM created) = 2018", lambda r: r.created.year == 2018),
    ("oracle", "created <= LAST_DAY(DATE '2018-02-11')", lambda r: r.created <= date(2018, 2, 28)),
    ("oracle", "created BETWEEN DATE '2018-01-01' AND DATE '2018-12-31'",
     lambda r: r.created.year == 2018),
    ("oracle", "NVL(email, 'x') = 'x'", lambda r: not r.email),
    ("oracle", "email IS NULL", lambda r: not r.email),
    ("oracle", "email IS NOT NULL AND x = 1", lambda r: bool(r.email) and r.x == 1),
    ("oracle", "name = 'N1'", lambda r: r.name == "N1"),
    ("oracle", "name <> 'N1'", lambda r: r.name != "N1"),
    ("oracle", "name NOT IN ('N1', 'N2')", lambda r: r.name not in ("N1", "N2")),
    ("oracle", "name LIKE 'N1%'", lambda r: r.name.startswith("N1")),
    ("oracle", "SUBSTR(name, 1, 2) = 'N1'", lambda r: r.name[:2] == "N1"),
    ("oracle", "LENGTH(name) = 2", lambda r: len(r.name) == 2),
    ("oracle", "UPPER(name) = 'N1'", lambda r: r.name == "N1"),
    ("oracle", "name || 'x' = 'N1x'", lambda r: r.name == "N1"),
    ("oracle", "x + 1 = 2", lambda r: r.x == 1),
    ("oracle", "DELETE FROM hr.customer c WHERE c.x = 6;\n/\n", lambda r: r.x == 6),
    ("oracle", "id IN (SELECT customer_id FROM visit)", lambda r: r.visits),
    ("oracle", "NOT EXISTS (SELECT 1 FROM visit v WHERE v.customer_id = customer.id)",
     lambda r: not r.visits),
    ("oracle", "DELETE FROM customer a WHERE a.id > (SELECT MIN(b.id) FROM customer b"
     " WHERE b.email = a.email)", lambda r: r.email is not None and second(r)),
    # MySQL
    ("mysql", "created < 20180101", lambda r: r.created < D),
    ("mysql", "created < '2018-01-01'", lambda r: r.created < D),
    ("mysql", "seen < '2018-04-11 12:00:00'", lambda r: r.seen < datetime(2018, 4, 11, 12)),
    ("mysql", "created < CURDATE() - INTERVAL 8 YEAR", lambda r: r.created < years_ago(8)),
    ("mysql", "created < DATE_SUB(CURDATE(), INTERVAL 3000 DAY)",
     lambda r: r.created < days_ago(3000)),
    ("mysql", "created < DATE_ADD(CURDATE(), INTERVAL -8 YEAR)", lambda r: r.created < years_ago(8)),  # noqa: E501
    ("mysql", "DATEDIFF(NOW(), created) > 3000", lambda r: r.created < days_ago(3000)),
    ("mysql", "YEAR(created) IN (2017, 2018)", lambda r: r.created.year in (2017, 2018)),
    ("mysql", "DATE(seen) = '2018-04-11'", lambda r: r.seen.date() == date(2018, 4, 11)),
    ("mysql", "name = 'N1'", lambda r: r.name == "N1"),
    ("mysql", "name LIKE 'N1_'", lambda r: len(r.name) == 3 and r.name.startswith("N1")),
    ("mysql", "IFNULL(email, '') = ''", lambda r: not r.email),
    ("mysql", "active = TRUE", lambda r: r.active),
    ("mysql", "active", lambda r: r.active),
    ("mysql", "x IN (1, 2)", lambda r: r.x in (1, 2)),
    ("mysql", "`x` = 1 AND `id` > 3", lambda r: r.x == 1 and r.id > 3),
    ("mysql", "DELETE LOW_PRIORITY QUICK FROM customer WHERE x = 1", lambda r: r.x == 1),
    ("mysql", "DELETE c FROM customer c JOIN visit v ON v.customer_id = c.id", lambda r: r.visits),
    ("mysql", "DELETE a FROM customer a, customer b WHERE a.email = b.email AND a.id > b.id",
     lambda r: r.email is not None and second(r)),
    ("mysql", "DELETE FROM customer ORDER BY id LIMIT 3", lambda r: r.id <= 3),
    # PostgreSQL
    ("postgresql", "created < current_date - 3000", lambda r: r.created < days_ago(3000)),
    ("postgresql", "created < current_date - interval '8 years'",
     lambda r: r.created < years_ago(8)),
    ("postgresql", "created < '2018-01-01'::date", lambda r: r.created < D),
    ("postgresql", "created < DATE '2018-01-01'", lambda r: r.created < D),
    ("postgresql", "seen::date = '2018-04-11'", lambda r: r.seen.date() == date(2018, 4, 11)),
    ("postgresql", "extract(year from created) = 2018", lambda r: r.created.year == 2018),
    ("postgresql", "created < date_trunc('month', now())", lambda r: r.created < TODAY.replace(day=1)),  # noqa: E501
    ("postgresql", "name LIKE 'N1%'", lambda r: r.name.startswith("N1")),
    ("postgresql", "name ILIKE 'n1'", lambda r: r.name == "N1"),
    ("postgresql", "id = ANY('{1,2}')", lambda r: r.id in (1, 2)),
    ("postgresql", "id = ANY(ARRAY[1, 2])", lambda r: r.id in (1, 2)),
    ("postgresql", "active", lambda r: r.active),
    ("postgresql", "coalesce(email, '') = ''", lambda r: not r.email),
    ("postgresql", "DELETE FROM customer a USING customer b WHERE a.id > b.id"
     " AND a.email = b.email", lambda r: r.email is not None and second(r)),
    ("postgresql", "DELETE FROM customer a USING visit v WHERE v.customer_id = a.id",
     lambda r: r.visits),
    # SQLite
    ("sqlite", "name = 'N1'", lambda r: r.name == "N1"),
    ("sqlite", "created < '2018-01-01'", lambda r: r.created < D),
    ("sqlite", "x IN (1, 2) AND email IS NULL", lambda r: r.x in (1, 2) and not r.email),
    ("sqlite", "id IN (SELECT customer_id FROM visit WHERE id > 8)",
     lambda r: r.visits and r.id > 8),
    ("sqlite", "length(name) = 3", lambda r: len(r.name) == 3),
    # Access
    ("access", "DELETE * FROM customer WHERE created < #1/31/2018#",
     lambda r: r.created < date(2018, 1, 31)),
    ("access", "DELETE * FROM customer WHERE created < #2018-01-31#;",
     lambda r: r.created < date(2018, 1, 31)),
    ("access", "DELETE * FROM customer WHERE seen < #4/11/2018 12:00:00 PM#",
     lambda r: r.seen < datetime(2018, 4, 11, 12)),
    ("access", "DELETE * FROM customer WHERE created Between #1/1/2018# And #12/31/2018#",
     lambda r: r.created.year == 2018),
    ("access", "DELETE customer.* FROM customer WHERE customer.name Like \"N1*\"",
     lambda r: r.name.startswith("N1")),
    ("access", "DELETE DISTINCTROW customer.* FROM customer WHERE name = \"N1\"",
     lambda r: r.name == "N1"),
    ("access", "DELETE * FROM [customer] WHERE [active] = True", lambda r: r.active),
    ("access", "DELETE * FROM customer WHERE active = -1", lambda r: r.active),
    ("access", "DELETE * FROM customer WHERE active = No AND x = 3",
     lambda r: not r.active and r.x == 3),
    ("access", "DELETE * FROM customer WHERE name Like \"N#\"", lambda r: len(r.name) == 2),
    ("access", "DELETE * FROM customer WHERE name Like \"N?\"", lambda r: len(r.name) == 2),
    ("access", "DELETE * FROM customer WHERE name Like \"N[1-3]\"",
     lambda r: r.name in ("N1", "N2", "N3")),
    ("access", "DELETE * FROM customer WHERE name Like \"N[!1-3]\"",
     lambda r: len(r.name) == 2 and r.name not in ("N1", "N2", "N3")),
    ("access", "DELETE * FROM customer WHERE IsNull(email)", lambda r: not r.email),
    ("access", "DELETE * FROM customer WHERE email Is Null Or x = 1",
     lambda r: not r.email or r.x == 1),
    ("access", "DELETE * FROM customer WHERE Nz(email, \"\") = \"\"", lambda r: not r.email),
    ("access", "DELETE * FROM customer WHERE created < DateAdd(\"yyyy\", -8, Date())",
     lambda r: r.created < years_ago(8)),
    ("access", "DELETE * FROM customer WHERE created < Date() - 3000",
     lambda r: r.created < days_ago(3000)),
    ("access", "DELETE * FROM customer WHERE DateDiff(\"d\", created, Date()) > 3000",
     lambda r: r.created < days_ago(3000)),
    ("access", "DELETE * FROM customer WHERE Year(created) < 2018", lambda r: r.created.year < 2018),  # noqa: E501
    ("access", "DELETE * FROM customer WHERE created < DateSerial(2018, 1, 1)",
     lambda r: r.created < D),
    ("access", "DELETE * FROM customer WHERE Left(name, 2) = \"N1\"", lambda r: r.name[:2] == "N1"),
    ("access", "DELETE * FROM customer WHERE Mid(name, 1, 2) = 'N1'", lambda r: r.name[:2] == "N1"),
    ("access", "DELETE * FROM customer WHERE name & \"x\" = \"N1x\"", lambda r: r.name == "N1"),
    ("access", "DELETE c.* FROM customer AS c INNER JOIN visit AS v ON c.id = v.customer_id",
     lambda r: r.visits),
]  # fmt: skip

# dialect, statement, what the refusal says; on every system that is not the statement's own
REFUSED: list[tuple[str, str, str]] = [
    ("sqlserver", "created < '01/02/2018'", "by rules that settings change"),
    ("sqlserver", "name = 'n1'", "may or may not be true of 'N1'"),
    ("sqlserver", "name + email = 'x'", "not of one column"),
    ("sqlserver", "name > 'N3'", "each collation does in its own way"),
    ("sqlserver", "name LIKE 'N[a-c]'", "a set of characters"),
    ("sqlserver", "x / 2 = 1", "rules that differ"),
    ("sqlserver", "x & 1 = 1", "rules that differ"),
    ("sqlserver", "x = NULL", "never true"),
    ("sqlserver", "CONVERT(varchar(10), created, 120) = '2018-01-01'", "computes with a day"),
    ("sqlserver", "amount > (SELECT AVG(amount) FROM customer)", "AVG(amount) is computed"),
    ("sqlserver", "DATEDIFF(month, created, GETDATE()) > 96", "computes with a day"),
    ("sqlserver", "DELETE TOP (5) FROM customer WHERE x = 1", "TOP without an order"),
    ("sqlserver", "DELETE TOP (5) PERCENT FROM customer", "TOP without an order"),
    ("sqlserver", "DELETE FROM customer OUTPUT deleted.* WHERE x = 1", "OUTPUT is not needed"),
    ("sqlserver", "DELETE FROM customer OUTPUT deleted.id INTO gone WHERE x = 1",
     "OUTPUT is not needed"),
    ("sqlserver", "id IN (SELECT id FROM (SELECT id, ROW_NUMBER() OVER (PARTITION BY lower(email)"
     " ORDER BY id) rn FROM customer) t WHERE rn > 1)", "LOWER(email) is grouped by"),
    ("oracle", "created < '01-JAN-18'", "Write DATE"),
    ("oracle", "created < '2018-01-01'", "Write DATE"),
    ("oracle", "name <> ''", "is NULL there"),
    ("oracle", "name = 'n1 '", "") ,
    ("oracle", "x = 6(+)", "mark (+)"),
    ("oracle", "ROWNUM <= 10", "where they happen to be stored"),
    ("oracle", "DELETE FROM customer a WHERE a.rowid > (SELECT MIN(b.rowid) FROM customer b"
     " WHERE b.email = a.email)", "where they happen to be stored"),
    ("oracle", "TO_CHAR(created, 'YYYY') = '2018'", "computes with a day"),
    ("oracle", "MONTHS_BETWEEN(SYSDATE, created) > 96", "computes with a day"),
    ("oracle", "DECODE(x, 1, 2) = 2", "not known here"),
    ("oracle", "REGEXP_LIKE(name, '^N1')", "not known here"),
    ("mysql", "name = 'n1'", "may or may not be true of 'N1'"),
    ("mysql", "name REGEXP '^N1'", "not known here"),
    ("mysql", "email <=> NULL", "not known here"),
    ("mysql", "UNIX_TIMESTAMP(created) < 1", "computes with a day"),
    ("mysql", "x", "not known here"),
    ("mysql", "DELETE IGNORE FROM customer WHERE x = 1", "passes over errors"),
    ("postgresql", "name LIKE 'n1%'", "") ,
    ("postgresql", "ctid = '(0,1)'", "where they happen to be stored"),
    ("postgresql", "random() < 0.5", "RANDOM() is not known here"),
    ("postgresql", "name ~ '^N1'", "not known here"),
    ("postgresql", "age(created) > interval '1 year'", "computes with a day"),
    ("sqlite", "date(created) < date('now', '-8 years')", "not known here"),
    ("sqlite", "name GLOB 'N*'", "not known here"),
    ("access", "DELETE * FROM customer WHERE id = [Forms]![main]![id]", "from a form"),
    ("access", "DELETE * FROM customer WHERE created < #31/1/2018#", "month first"),
    ("access", "DELETE * FROM customer WHERE IIf(x = 1, 1, 0) = 1", "not known here"),
    ("access", "DELETE * FROM customer WHERE InStr(name, \"1\") > 0", "not known here"),
]  # fmt: skip

"""The measured database: a made-up network of sea buoys of any size, the same every time.

Every table is filled by one statement from the numbers 1 to N, so that a million rows take seconds.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

FIRST_DAY = "2015-01-01"
DAYS = 4000
REGIONS = 20
DEPOTS = 200
LEVELS = 1000  # of the tree of nodes


@dataclass(frozen=True)
class Dialect:
    """What one system writes in its own way.

    Args:
        numbers: a FROM item that gives the column `n` from 1 to `{rows}`.
        day: the day `{n}` days after the first.
        tail: what follows the columns of a table.
    """

    numbers: str
    day: str
    real: str = "double precision"
    tail: str = ""


DIALECTS = {
    "sqlite": Dialect(
        "(WITH RECURSIVE s (n) AS (SELECT 1 UNION ALL SELECT n + 1 FROM s WHERE n < {rows})"
        " SELECT n FROM s)",
        f"date('{FIRST_DAY}', '+' || ({{n}}) || ' days')",
    ),
    "postgresql": Dialect(
        "generate_series(1::bigint, {rows}) AS s (n)", f"date '{FIRST_DAY}' + ({{n}})::integer"
    ),
    "mariadb": Dialect(
        "(SELECT seq AS n FROM seq_1_to_{rows}) AS s",
        f"date '{FIRST_DAY}' + INTERVAL ({{n}}) DAY",
        "double",
        " ENGINE = InnoDB",
    ),
}


def statements(system: str, rows: int) -> Iterator[str]:
    """Yield the statements that make and fill all tables.

    Args:
        rows: of each large table.
    """
    dialect = DIALECTS[system]
    buoys, day = max(rows // 5000, 40), dialect.day.format

    def numbers(count: int) -> str:
        return dialect.numbers.format(rows=count)

    def table(name: str, columns: str) -> str:
        return f"CREATE TABLE {name} ({columns}){dialect.tail}"

    yield table("region", "id integer PRIMARY KEY, name varchar(40) NOT NULL")
    yield f"INSERT INTO region SELECT n, 'region ' || n FROM {numbers(REGIONS)}"
    yield table("buoy", "id integer PRIMARY KEY, region_id integer NOT NULL,"
                " name varchar(40), FOREIGN KEY (region_id) REFERENCES region (id)"
                " ON DELETE CASCADE")  # fmt: skip
    yield (f"INSERT INTO buoy SELECT n, n % {REGIONS} + 1, 'buoy ' || n FROM {numbers(buoys)}")
    yield table("sensor", "id integer PRIMARY KEY, buoy_id integer NOT NULL, kind varchar(20),"
                " FOREIGN KEY (buoy_id) REFERENCES buoy (id) ON DELETE CASCADE")  # fmt: skip
    yield (f"INSERT INTO sensor SELECT n, n % {buoys} + 1, 'kind ' || (n % 7)"
           f" FROM {numbers(5 * buoys)}")  # fmt: skip
    yield table("reading", "id integer PRIMARY KEY, sensor_id integer NOT NULL, taken date,"
                f" value {dialect.real}, quality varchar(10), FOREIGN KEY (sensor_id)"
                " REFERENCES sensor (id) ON DELETE CASCADE")  # fmt: skip
    yield (f"INSERT INTO reading SELECT n, n * 7919 % {5 * buoys} + 1,"
           f" {day(n=f'n * 31 % {DAYS}')}, n % 997 / 7.0,"
           f" CASE WHEN n % 3 = 0 THEN 'good' END FROM {numbers(rows)}")  # fmt: skip
    yield table("station", "id integer PRIMARY KEY, name varchar(40)")
    yield f"INSERT INTO station SELECT n, 'station ' || n FROM {numbers(buoys)}"
    yield table("ping", "id integer PRIMARY KEY, station_id integer NOT NULL, taken date NOT NULL,"
                f" volts {dialect.real}, state varchar(20), note varchar(60),"
                " FOREIGN KEY (station_id) REFERENCES station (id)")  # fmt: skip
    yield (f"INSERT INTO ping SELECT n, n * 7919 % {buoys} + 1, {day(n=f'n * 31 % {DAYS}')},"
           f" n % 991 / 8.0, 'state ' || (n % 9), CASE WHEN n % 2 = 0 THEN 'sent at night, '"
           f" || n END FROM {numbers(rows)}")  # fmt: skip
    yield table("upload", "id integer PRIMARY KEY, spot integer NOT NULL,"
                f" taken varchar(20) NOT NULL, value {dialect.real}")  # fmt: skip
    told = "CASE WHEN n % 5 = 0 THEN n - 1 ELSE n END"
    yield (f"INSERT INTO upload SELECT n, ({told}) * 7919 % 5000, 't' || (100000000 + {told}),"
           f" n % 97 FROM {numbers(rows)}")  # fmt: skip
    yield table("echo", "id integer PRIMARY KEY, station_id integer NOT NULL, taken date")
    yield (f"INSERT INTO echo SELECT n, n * 7919 % {buoys + buoys // 4} + 1,"
           f" {day(n=f'n * 31 % {DAYS}')} FROM {numbers(rows)}")  # fmt: skip
    yield table("depot", "id integer PRIMARY KEY, name varchar(40)")
    yield f"INSERT INTO depot SELECT n, 'depot ' || n FROM {numbers(DEPOTS)}"
    yield table("crate", "id integer PRIMARY KEY, depot_id integer NOT NULL, label varchar(40),"
                " FOREIGN KEY (depot_id) REFERENCES depot (id) ON DELETE CASCADE")  # fmt: skip
    yield (f"INSERT INTO crate SELECT n, n * 7919 % {DEPOTS} + 1, 'crate ' || n"
           f" FROM {numbers(rows)}")  # fmt: skip
    wide = max(rows // LEVELS, 2)
    yield table("node", "id integer PRIMARY KEY, parent_id integer,"
                " FOREIGN KEY (parent_id) REFERENCES node (id) ON DELETE CASCADE")  # fmt: skip
    yield (f"INSERT INTO node SELECT n, CASE WHEN n > {wide} THEN n - {wide} END"
           f" FROM {numbers(rows)}")  # fmt: skip
    for name, columns in (
        ("buoy_region", "buoy (region_id)"),
        ("sensor_buoy", "sensor (buoy_id)"),
        ("reading_sensor", "reading (sensor_id)"),
        ("ping_station", "ping (station_id)"),
        ("ping_taken", "ping (taken)"),
        ("node_parent", "node (parent_id)"),
    ):
        yield f"CREATE INDEX {name} ON {columns}"

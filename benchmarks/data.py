"""The measured database: a made-up network of sea buoys of any size, the same every time.

Every table is filled by one statement from the numbers 1 to N, so that a million rows take seconds.
"""

from __future__ import annotations

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


def statements(system: str, rows: int) -> dict[str, list[str]]:
    """Return by table the statements that make it, fill it and index it, parents first.

    Args:
        rows: of each large table.
    """
    dialect = DIALECTS[system]
    buoys, day = max(rows // 5000, 40), dialect.day.format
    wide = max(rows // LEVELS, 2)
    told = "CASE WHEN n % 5 = 0 THEN n - 1 ELSE n END"
    made: dict[str, list[str]] = {}

    def table(name: str, columns: str, count: int, values: str, *indexed: str) -> None:
        numbers = dialect.numbers.format(rows=count)
        made[name] = [
            f"CREATE TABLE {name} (id integer PRIMARY KEY, {columns}){dialect.tail}",
            f"INSERT INTO {name} SELECT n, {values} FROM {numbers}",
            *(f"CREATE INDEX {name}_{column} ON {name} ({column})" for column in indexed),
        ]

    def reference(column: str, parent: str, action: str = " ON DELETE CASCADE") -> str:
        return f"FOREIGN KEY ({column}) REFERENCES {parent} (id){action}"

    table("region", "name varchar(40) NOT NULL", REGIONS, "'region ' || n")
    table("buoy", "region_id integer NOT NULL, name varchar(40), "
          + reference("region_id", "region"), buoys,
          f"n % {REGIONS} + 1, 'buoy ' || n", "region_id")  # fmt: skip
    table("sensor", "buoy_id integer NOT NULL, kind varchar(20), "
          + reference("buoy_id", "buoy"), 5 * buoys,
          f"n % {buoys} + 1, 'kind ' || (n % 7)", "buoy_id")  # fmt: skip
    table("reading", f"sensor_id integer NOT NULL, taken date, value {dialect.real},"
          f" quality varchar(10), {reference('sensor_id', 'sensor')}", rows,
          f"n * 7919 % {5 * buoys} + 1, {day(n=f'n * 31 % {DAYS}')}, n % 997 / 7.0,"
          " CASE WHEN n % 3 = 0 THEN 'good' END", "sensor_id")  # fmt: skip
    table("station", "name varchar(40)", buoys, "'station ' || n")
    table("ping", f"station_id integer NOT NULL, taken date NOT NULL, volts {dialect.real},"
          f" state varchar(20), note varchar(60), {reference('station_id', 'station', '')}", rows,
          f"n * 7919 % {buoys} + 1, {day(n=f'n * 31 % {DAYS}')}, n % 991 / 8.0,"
          " 'state ' || (n % 9), CASE WHEN n % 2 = 0 THEN 'sent at night, ' || n END",
          "station_id", "taken")  # fmt: skip
    table("upload", f"spot integer NOT NULL, taken varchar(20) NOT NULL, value {dialect.real}",
          rows, f"({told}) * 7919 % 5000, 't' || (100000000 + {told}), n % 97")  # fmt: skip
    table("echo", "station_id integer NOT NULL, taken date", rows,
          f"n * 7919 % {buoys + buoys // 4} + 1, {day(n=f'n * 31 % {DAYS}')}")  # fmt: skip
    table("depot", "name varchar(40)", DEPOTS, "'depot ' || n")
    table("crate", "depot_id integer NOT NULL, label varchar(40), "
          + reference("depot_id", "depot"), rows,
          f"n * 7919 % {DEPOTS} + 1, 'crate ' || n")  # fmt: skip
    table("node", f"parent_id integer, {reference('parent_id', 'node')}", rows,
          f"CASE WHEN n > {wide} THEN n - {wide} END", "parent_id")  # fmt: skip
    return made

"""What is measured: for each task the command, and the best hand-written statements for it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

RETENTION_DAY = "2020-09-28"
_RETENTION = f"taken < '{RETENTION_DAY}'"
_TWICE = (
    "SELECT id FROM (SELECT id, row_number() OVER (PARTITION BY spot, taken ORDER BY id) AS place"
    " FROM upload) AS numbered WHERE place > 1"
)
_LOOSE = "spot, lower(trim(taken))"
_TWICE_LOOSELY = _TWICE.replace("spot, taken", _LOOSE)
_BUOYS = "SELECT id FROM buoy WHERE region_id <= 12"
_SENSORS = f"SELECT id FROM sensor WHERE buoy_id IN ({_BUOYS})"
_DEPOTS = "id % 10 = 0"
_ROOTS = "parent_id IS NULL AND id % 2 = 0"
_TREE = (
    f"WITH RECURSIVE gone (id) AS (SELECT id FROM node WHERE {_ROOTS}"
    " UNION ALL SELECT node.id FROM gone JOIN node ON node.parent_id = gone.id)"
    " SELECT id FROM gone"
)
_LATE = "taken < '2024-11-01'"  # nine rows of ten
_FIRST = f"SELECT id FROM ping WHERE {_RETENTION} LIMIT 5000"
_ALONE = "NOT EXISTS (SELECT 1 FROM station WHERE station.id = echo.station_id)"
_KEYS = ", ".join(str(number * 9001 + 17) for number in range(100))


@dataclass(frozen=True)
class Task:
    """One task.

    Args:
        about: for the table, in a few words.
        hand: the hand-written statements.
        command: the words after `yeldro`; the database and the receipts are added.
        goal: the ratio that is aimed at, by system; a system without one is left out.
        tables: those that are looked at or changed.
        hand_on: the hand-written statements of a system for which others are better.
        before_hand, before: what is done first on either side, and not measured.
    """

    name: str
    about: str
    hand: Sequence[str]
    command: Sequence[str]
    goal: dict[str, float]
    tables: Sequence[str]
    hand_on: Mapping[str, Sequence[str]] = field(default_factory=dict)
    before_hand: Sequence[str] = ()
    before: Sequence[str] = field(default=())


def _same(goal: float) -> dict[str, float]:
    return dict.fromkeys(("sqlite", "postgresql", "mariadb"), goal)


def _counted(table: str, condition: str) -> list[str]:
    return [
        f"SELECT count(*) FROM {table} WHERE {condition}",
        f"DELETE FROM {table} WHERE {condition}",
    ]


def _cascade() -> list[str]:
    return [
        *_counted("reading", f"sensor_id IN ({_SENSORS})"),
        *_counted("sensor", f"buoy_id IN ({_BUOYS})"),
        *_counted("buoy", "region_id <= 12"),
        *_counted("region", "id <= 12"),
    ]


def _duplicates(twice: str = _TWICE, by: str = "spot, taken") -> list[str]:
    count = (
        "SELECT sum(rows_in_it - 1) FROM (SELECT count(*) AS rows_in_it FROM upload"
        f" GROUP BY {by} HAVING count(*) > 1) AS grouped"
    )
    return [count, f"DELETE FROM upload WHERE id IN ({twice})"]


# MariaDB takes five times as long for the window in a subquery, and for a join with the groups.
def _noted(twice: str) -> list[str]:
    return [
        f"CREATE TEMPORARY TABLE surplus (PRIMARY KEY (id)) {twice}",
        "SELECT count(*) FROM surplus",
        "DELETE upload FROM upload JOIN surplus ON surplus.id = upload.id",
    ]


def _tree() -> list[str]:
    return [
        f"SELECT count(*) FROM ({_TREE}) AS found",
        f"DELETE FROM node WHERE id IN ({_TREE})",
    ]


_RUN = ("run", "--yes", "--quiet")
_NO_ROWS = (*_RUN, "--without-rows")
_PING = ("ping", "--where", _RETENTION, "--expect", "1..")
_KEPT_TABLE = f"CREATE TABLE kept AS SELECT * FROM ping WHERE {_RETENTION}"

TASKS = {
    task.name: task
    for task in (
        Task(
            "retention", "rows older than a day, no rows stored",
            _counted("ping", _RETENTION),
            (*_NO_ROWS, *_PING), _same(0.9), ("station", "ping"),
        ),
        Task(
            "cascade", "a cascade over 4 levels, no rows stored", _cascade(),
            (*_NO_ROWS, "region", "--where", "id <= 12", "--expect", "1.."), _same(0.9),
            ("region", "buoy", "sensor", "reading"),
        ),
        Task(
            "duplicates", "surplus copies, no rows stored", _duplicates(),
            (*_NO_ROWS, "upload", "--duplicates-by", "spot,taken", "--keep", "lowest:id",
             "--expect", "1.."),
            _same(0.5), ("upload",),
            hand_on={"mariadb": _noted(_TWICE)},
        ),
        Task(
            "loosely", "surplus copies by an expression, no rows stored",
            _duplicates(_TWICE_LOOSELY, _LOOSE),
            (*_NO_ROWS, "upload", "--duplicates-by", _LOOSE, "--keep", "lowest:id",
             "--expect", "1.."),
            _same(0.5), ("upload",),
            hand_on={"mariadb": _noted(_TWICE_LOOSELY)},
        ),
        Task(
            "kept", "rows older than a day, stored; against copy, then delete",
            [_KEPT_TABLE, *_counted("ping", _RETENTION)],
            (*_RUN, *_PING), _same(1.2) | {"postgresql": 1.6}, ("station", "ping"),
        ),
        Task(
            "restore", "these rows put back; against an insert from the copy",
            ["INSERT INTO ping SELECT * FROM kept"],
            ("restore", "last", "--yes", "--quiet"), _same(1.5), ("station", "ping"),
            before_hand=[_KEPT_TABLE, *_counted("ping", _RETENTION)],
            before=(*_RUN, *_PING),
        ),
        Task(
            "keys", "100 rows by key, no rows stored",
            _counted("ping", f"id IN ({_KEYS})"),
            (*_NO_ROWS, "ping", "--where", f"id IN ({_KEYS})", "--expect", "1.."), _same(1.0),
            ("station", "ping"),
        ),
        Task(
            "orphans", "rows without a row in another table, no rows stored",
            _counted("echo", _ALONE),
            (*_NO_ROWS, "echo", "--missing-in", "station:station_id=id", "--expect", "1.."),
            _same(1.0), ("station", "echo"),
        ),
        Task(
            "batches", "rows older than a day, 5,000 at a time, no rows stored",
            [f"SELECT count(*) FROM ping WHERE {_RETENTION}",
             f"REPEAT DELETE FROM ping WHERE id IN ({_FIRST})"],
            (*_NO_ROWS, *_PING, "--batch", "5000"), _same(1.1), ("station", "ping"),
            hand_on={"mariadb": [
                f"SELECT count(*) FROM ping WHERE {_RETENTION}",
                f"REPEAT DELETE FROM ping WHERE {_RETENTION} LIMIT 5000",
            ]},
        ),
        Task(
            "unindexed", "parents and children whose foreign key has no index, no rows stored",
            [*_counted("crate", f"depot_id IN (SELECT id FROM depot WHERE {_DEPOTS})"),
             *_counted("depot", _DEPOTS)],
            (*_NO_ROWS, "depot", "--where", _DEPOTS, "--expect", "1.."), _same(1.0),
            ("depot", "crate"),
        ),
        Task(
            "tree", "half of a tree of 1,000 levels, no rows stored",
            _tree(),
            (*_NO_ROWS, "node", "--where", _ROOTS, "--expect", "1.."), _same(1.0), ("node",),
            # InnoDB follows a cascade over 15 levels at the most.
            hand_on={"mariadb": ["SET foreign_key_checks = 0", *_tree()]},
        ),
        Task(
            "several", "three removes in one file, no rows stored",
            [*_counted("ping", _RETENTION), *_counted("upload", "spot < 1000"),
             *_counted("echo", "station_id % 2 = 0")],
            (*_NO_ROWS, "benchmarks/several.toml"), _same(1.0),
            ("station", "ping", "upload", "echo"),
        ),
        Task(
            "survivors", "nine rows of ten, by keeping the others, no rows stored",
            _counted("ping", _LATE),
            (*_NO_ROWS, "ping", "--where", _LATE, "--expect", "1..", "--keep-survivors"),
            {"sqlite": 0.5, "postgresql": 0.5}, ("station", "ping"),
        ),
    )
}  # fmt: skip

"""Rows for the sea-buoy network: made up, and the same every time."""

from __future__ import annotations

import pickle
import random
from collections.abc import Iterator
from datetime import date, datetime, timedelta
from itertools import islice
from typing import Any

import sqlalchemy as sa

from yeldro.demo import tables

Row = dict[str, Any]

_SEED = 20_26
_BUOYS = 120
_READINGS = 18_000
_REGIONS = ("North Shelf", "Grey Bank", "Long Reach", "Outer Deep", "Skerry Sound", "Tern Gap")
_NAMES = ("Anvil", "Bittern", "Cinder", "Dulse", "Eddy", "Fathom", "Gannet", "Halyard", "Ingot",
          "Jetsam", "Kelp", "Lantern", "Marl", "Nimbus", "Osier", "Petrel")  # fmt: skip
_KINDS = ("wave height", "water temperature", "air pressure")
_PARTS = ("anchor shackle", "battery", "light", "mooring line", "seal ring")
_TAGS = ("coastal", "deep water", "ice", "research", "shipping lane", "test")
_START = datetime(2024, 1, 1)
_AT_ONCE = 5_000
# SQL Server takes no actions that lead a deletion to a table twice, or back to it (error 1785);
# the rows that go leave dangling references by the first two.
WITHOUT_ACTION = ("buoy.replaces_id", "alert.reading_id")
_IN_A_CIRCLE = ("buoy.main_sensor_id",)


def load(connection: sa.Connection, readings: int = _READINGS) -> dict[str, int]:
    """Create the network's tables and fill them.

    Args:
        connection: an open connection to a database that has none of these tables.
        readings: how many rows `reading` gets.

    Returns:
        The number of rows by table.
    """
    # A copy, as the library notes in it how this system makes foreign keys; its own way of copying
    # loses their order.
    made: sa.MetaData = pickle.loads(pickle.dumps(tables.network))
    if connection.dialect.name == "mssql":
        for name in (*WITHOUT_ACTION, *_IN_A_CIRCLE):
            of_table, _, column = name.partition(".")
            for key in made.tables[of_table].foreign_key_constraints:
                if key.column_keys == [column]:
                    key.ondelete = None
    made.create_all(connection)
    counts = {}
    later: list[Row] = []
    for table, rows in _rows(readings, later):
        counts[table.name] = _insert(connection, table, rows)
    table = tables.buoy
    set_main = sa.update(table).where(table.c.id == sa.bindparam("own"))
    connection.execute(set_main.values(main_sensor_id=sa.bindparam("main")), later)
    return counts


def _insert(connection: sa.Connection, table: sa.Table, rows: Iterator[Row]) -> int:
    number = 0
    while part := list(islice(rows, _AT_ONCE)):
        connection.execute(sa.insert(table), part)
        number += len(part)
    return number


def _rows(readings: int, later: list[Row]) -> Iterator[tuple[sa.Table, Iterator[Row]]]:
    """Yield each table with its rows, parents first; `later` gets the main sensor of every buoy."""
    chance = random.Random(_SEED)
    yield tables.region, ({"id": n, "name": name} for n, name in enumerate(_REGIONS, 1))
    yield tables.technician, ({"id": n, "call_sign": f"crew-{n:02}"} for n in range(1, 9))
    yield tables.tag, ({"id": n, "label": label} for n, label in enumerate(_TAGS, 1))
    buoys = [_buoy(n, chance) for n in range(1, _BUOYS + 1)]
    yield tables.buoy, iter(buoys)
    sensors = [
        {
            "id": 3 * (buoy["id"] - 1) + place,
            "buoy_id": buoy["id"],
            "kind": kind,
            "installed_on": buoy["commissioned_on"],
        }
        for buoy in buoys
        for place, kind in enumerate(_KINDS, 1)
    ]
    yield tables.sensor, iter(sensors)
    later += [{"own": buoy["id"], "main": 3 * (buoy["id"] - 1) + 1} for buoy in buoys]
    yield tables.deployment, _deployments(buoys, chance)
    yield tables.reading, _readings(readings, sensors, chance)
    yield tables.alert, _alerts(readings, chance)
    yield tables.calibration, _calibrations(sensors, chance)
    visits = [
        {
            "buoy_id": buoy["id"],
            "visit_no": number,
            "technician_id": chance.randint(1, 8),
            "visited_on": buoy["commissioned_on"] + timedelta(days=200 * number),
        }
        for buoy in buoys
        for number in range(1, chance.randint(1, 4))
    ]
    yield tables.visit, iter(visits)
    yield tables.part_used, _parts_used(visits, chance)
    yield tables.buoy_tag, _buoy_tags(buoys, chance)
    yield tables.raw_upload, _uploads(buoys, chance)
    yield tables.retired_serial, _retired_serials(buoys)


def _buoy(number: int, chance: random.Random) -> Row:
    """One buoy in four is retired; some took the place, and the name, of an earlier one."""
    replaces = chance.randint(1, number - 1) if number > 20 and chance.random() < 0.25 else None
    commissioned = date(2015, 1, 1) + timedelta(days=25 * number)
    retired = None
    if number % 4 == 0:
        retired = commissioned + timedelta(days=chance.randint(600, 2200))
    return {
        "id": number,
        "serial": f"SB-{1000 + number}",
        "name": _NAMES[(replaces or number) % len(_NAMES)],
        "region_id": chance.randint(1, len(_REGIONS)),
        "replaces_id": replaces,
        "commissioned_on": commissioned,
        "retired_on": retired,
    }


def _deployments(buoys: list[Row], chance: random.Random) -> Iterator[Row]:
    """Every buoy in service lies somewhere; most retired ones have been taken in."""
    number = 0
    for buoy in buoys:
        if buoy["retired_on"] and chance.random() < 0.7:
            continue
        number += 1
        yield {
            "id": number,
            "buoy_id": buoy["id"],
            "laid_on": buoy["commissioned_on"],
            "latitude": round(chance.uniform(50, 62), 5),
            "longitude": round(chance.uniform(-12, 8), 5),
        }


def _readings(readings: int, sensors: list[Row], chance: random.Random) -> Iterator[Row]:
    """Every twentieth reading was sent again, some copies without their quality mark."""
    last: Row = {}
    for number in range(1, readings + 1):
        if number % 20 == 0:
            yield last | {"id": number, "quality": chance.choice(["good", None])}
            continue
        sensor = sensors[(number * 7) % len(sensors)]
        last = {
            "id": number,
            "sensor_id": sensor["id"],
            "taken_at": _START + timedelta(minutes=10 * number),
            "value": round(chance.gauss(10, 4), 2),
            "quality": chance.choice(["good", "good", "good", "poor", None]),
        }
        yield last


def _alerts(readings: int, chance: random.Random) -> Iterator[Row]:
    for number in range(1, 301):
        reading = max(number * readings // 300 - number % 7, 0)
        yield {
            "id": number,
            "reading_id": reading or None,
            "buoy_id": chance.randint(1, _BUOYS),
            "level": chance.choice(["notice", "warning", "danger"]),
            "raised_at": _START + timedelta(minutes=10 * reading),
        }


def _calibrations(sensors: list[Row], chance: random.Random) -> Iterator[Row]:
    for number, sensor in enumerate(sensors, 1):
        yield {
            "id": number,
            "sensor_id": sensor["id"],
            "technician_id": chance.choice([None, 1, 2, 3, 4, 5, 6, 7, 8]),
            "done_on": sensor["installed_on"] + timedelta(days=90),
            "offset_by": round(chance.gauss(0, 0.2), 3),
        }


def _parts_used(visits: list[Row], chance: random.Random) -> Iterator[Row]:
    for visit in visits:
        for part in chance.sample(_PARTS, chance.randint(0, 3)):
            yield {
                "buoy_id": visit["buoy_id"],
                "visit_no": visit["visit_no"],
                "part": part,
                "pieces": chance.randint(1, 4),
            }


def _buoy_tags(buoys: list[Row], chance: random.Random) -> Iterator[Row]:
    for buoy in buoys:
        for tag in sorted(chance.sample(range(1, len(_TAGS) + 1), 2)):
            yield {"buoy_id": buoy["id"], "tag_id": tag}


def _uploads(buoys: list[Row], chance: random.Random) -> Iterator[Row]:
    """Lines as they came in; every tenth arrived twice."""
    for number in range(1, 301):
        row = {
            "received_at": _START + timedelta(hours=number),
            "serial": buoys[number % len(buoys)]["serial"],
            "line": f"#{number};{chance.gauss(10, 4):.2f};ok",
        }
        yield row
        if number % 10 == 0:
            yield row


def _retired_serials(buoys: list[Row]) -> Iterator[Row]:
    """Yield a list from another system: it has gaps, repeats, and serials nobody here knows."""
    for buoy in buoys:
        if buoy["retired_on"] and buoy["id"] % 3:
            yield {"serial": buoy["serial"], "noted_on": buoy["retired_on"]}
            if buoy["id"] % 16 == 0:
                yield {"serial": buoy["serial"], "noted_on": buoy["retired_on"]}
    for number in range(5):
        yield {"serial": f"XX-{number}", "noted_on": date(2019, 5, 1)}

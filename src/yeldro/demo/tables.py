"""The tables of the sea-buoy network, for any database system."""

from __future__ import annotations

import sqlalchemy as sa
from sqlalchemy.dialects.sqlite import DATETIME

_MINUTES = "%(year)04d-%(month)02d-%(day)02d %(hour)02d:%(minute)02d"
_moment = sa.DateTime().with_variant(
    DATETIME(storage_format=_MINUTES),  # type: ignore[no-untyped-call]
    "sqlite",
)

network = sa.MetaData()


def _id() -> sa.Column[int]:
    return sa.Column("id", sa.Integer, primary_key=True, autoincrement=False)


region = sa.Table(
    "region",
    network,
    _id(),
    sa.Column("name", sa.String(40), nullable=False, unique=True),
)

buoy = sa.Table(
    "buoy",
    network,
    _id(),
    sa.Column("serial", sa.String(20), nullable=False, unique=True),
    sa.Column("name", sa.String(40), nullable=False),
    sa.Column("region_id", sa.ForeignKey("region.id"), nullable=False, index=True),
    sa.Column("replaces_id", sa.ForeignKey("buoy.id", ondelete="SET NULL"), index=True),
    sa.Column(
        "main_sensor_id",
        sa.ForeignKey("sensor.id", ondelete="SET NULL", name="buoy_main_sensor", use_alter=True),
        index=True,
    ),
    sa.Column("commissioned_on", sa.Date, nullable=False),
    sa.Column("retired_on", sa.Date),
)

sensor = sa.Table(
    "sensor",
    network,
    _id(),
    sa.Column("buoy_id", sa.ForeignKey("buoy.id", ondelete="CASCADE"), nullable=False, index=True),
    sa.Column("kind", sa.String(20), nullable=False),
    sa.Column("installed_on", sa.Date, nullable=False),
)

deployment = sa.Table(
    "deployment",
    network,
    _id(),
    sa.Column("buoy_id", sa.ForeignKey("buoy.id"), nullable=False, index=True),
    sa.Column("laid_on", sa.Date, nullable=False),
    sa.Column("latitude", sa.Numeric(8, 5, asdecimal=False), nullable=False),
    sa.Column("longitude", sa.Numeric(8, 5, asdecimal=False), nullable=False),
)

reading = sa.Table(
    "reading",
    network,
    _id(),
    sa.Column(
        "sensor_id", sa.ForeignKey("sensor.id", ondelete="CASCADE"), nullable=False, index=True
    ),
    sa.Column("taken_at", _moment, nullable=False),
    sa.Column("value", sa.Float),
    sa.Column("quality", sa.String(10)),
)

alert = sa.Table(
    "alert",
    network,
    _id(),
    sa.Column("reading_id", sa.ForeignKey("reading.id", ondelete="SET NULL"), index=True),
    sa.Column("buoy_id", sa.ForeignKey("buoy.id", ondelete="CASCADE"), nullable=False, index=True),
    sa.Column("level", sa.String(10), nullable=False),
    sa.Column("raised_at", _moment, nullable=False),
)

technician = sa.Table(
    "technician",
    network,
    _id(),
    sa.Column("call_sign", sa.String(20), nullable=False, unique=True),
)

calibration = sa.Table(
    "calibration",
    network,
    _id(),
    sa.Column(
        "sensor_id", sa.ForeignKey("sensor.id", ondelete="CASCADE"), nullable=False, index=True
    ),
    sa.Column("technician_id", sa.ForeignKey("technician.id", ondelete="SET NULL")),
    sa.Column("done_on", sa.Date, nullable=False),
    sa.Column("offset_by", sa.Float, nullable=False),
)

visit = sa.Table(
    "visit",
    network,
    sa.Column("buoy_id", sa.ForeignKey("buoy.id", ondelete="RESTRICT"), primary_key=True),
    sa.Column("visit_no", sa.Integer, primary_key=True),
    sa.Column("technician_id", sa.ForeignKey("technician.id"), nullable=False, index=True),
    sa.Column("visited_on", sa.Date, nullable=False),
)

part_used = sa.Table(
    "part_used",
    network,
    sa.Column("buoy_id", sa.Integer, primary_key=True),
    sa.Column("visit_no", sa.Integer, primary_key=True),
    sa.Column("part", sa.String(20), primary_key=True),
    sa.Column("pieces", sa.Integer, nullable=False),
    sa.ForeignKeyConstraint(
        ["buoy_id", "visit_no"], ["visit.buoy_id", "visit.visit_no"], ondelete="CASCADE"
    ),
)

tag = sa.Table(
    "tag",
    network,
    _id(),
    sa.Column("label", sa.String(20), nullable=False, unique=True),
)

buoy_tag = sa.Table(
    "buoy_tag",
    network,
    sa.Column("buoy_id", sa.ForeignKey("buoy.id", ondelete="CASCADE"), primary_key=True),
    sa.Column("tag_id", sa.ForeignKey("tag.id"), primary_key=True, index=True),
)

raw_upload = sa.Table(
    "raw_upload",
    network,
    sa.Column("received_at", _moment),
    sa.Column("serial", sa.String(20)),
    sa.Column("line", sa.String(80)),
)

retired_serial = sa.Table(
    "retired_serial",
    network,
    sa.Column("serial", sa.String(20)),
    sa.Column("noted_on", sa.Date),
)

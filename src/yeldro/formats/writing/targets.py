"""The systems that a script can be written for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from yeldro.formats.writing.far_frames import AccessFrame, OracleFrame, SqlServerFrame
from yeldro.formats.writing.frames import (
    Frame,
    MariadbFrame,
    MysqlFrame,
    PostgresqlFrame,
    SqliteFrame,
)
from yeldro.formats.writing.words import (
    AccessWords,
    MariadbWords,
    MysqlWords,
    OracleWords,
    PostgresqlWords,
    SqliteWords,
    SqlServerWords,
    Words,
)


@dataclass(frozen=True)
class Target:
    """A system that a script can be written for.

    Args:
        own: the systems, as a database's traits call their SQL, whose names it takes as they are.
        catalogue: its name in `same_schema`; empty if no statement reads its catalogue.
    """

    frame: type[Frame]
    words: Words
    own: str = ""
    catalogue: str = ""


TARGETS: Mapping[str, Target] = {
    "sqlite": Target(SqliteFrame, SqliteWords(), "sqlite", "sqlite"),
    "postgresql": Target(PostgresqlFrame, PostgresqlWords(), "postgres", "postgres"),
    "mariadb": Target(MariadbFrame, MariadbWords(), "mariadb", "mysql"),
    "mysql": Target(MysqlFrame, MysqlWords(), "mariadb", "mysql"),
    "sqlserver": Target(SqlServerFrame, SqlServerWords(), "", "tsql"),
    "oracle": Target(OracleFrame, OracleWords(), "", "oracle"),
    "access": Target(AccessFrame, AccessWords()),
}

"""The systems that a script can be written for."""

from __future__ import annotations

import re
from dataclasses import dataclass

from sqlglot import exp

from yeldro.formats.writing.frames import (
    Frame,
    MariadbFrame,
    OracleFrame,
    PostgresqlFrame,
    SqliteFrame,
    SqlServerFrame,
)

KEY_TABLE = re.compile(r'("temp"\.|pg_temp\.)?yeldro_keys_(\d+)(_again\d*)?')
_REGULAR = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")


@dataclass(frozen=True)
class Target:
    """A system that a script can be written for.

    Args:
        dialect: the parser's name for its SQL.
        own: the dialect of the databases whose statements are used as they are.
        reader: the name by which statements of this system are read.
        folds_to: the case that names without quotes have there: `upper`, `lower`, or neither.
        key_table_mark: how the names of its temporary tables begin.
        opens_once: a statement may name a temporary table once only (MySQL's error 1137).
    """

    frame: Frame
    dialect: str
    own: str = ""
    reader: str = ""
    folds_to: str = ""
    key_table_mark: str = ""
    opens_once: bool = False

    @property
    def is_far(self) -> bool:
        """True if Yeldro does not run on that system itself."""
        return self.dialect in ("tsql", "oracle")

    def folded(self, name: str) -> str:
        """Return a name as the system has it if it was declared without quotes."""
        if not _REGULAR.fullmatch(name) or not self.folds_to:
            return name
        return name.upper() if self.folds_to == "upper" else name.lower()

    def key_table(self, name: str, place: int) -> str:
        """Return what a script calls a temporary table of the plan.

        Args:
            place: the number of the cleanup that it belongs to.
        """
        found = KEY_TABLE.fullmatch(name)
        number = f"{found[2]}{found[3] or ''}" if found else name
        whole = f"{self.key_table_mark}yeldro_{place}_{number}"
        return whole.upper() if self.folds_to == "upper" else whole


TARGETS = {
    "sqlite": Target(SqliteFrame(), "sqlite", "sqlite", "sqlite"),
    "postgresql": Target(PostgresqlFrame(), "postgres", "postgres", "postgres", "lower"),
    "mariadb": Target(MariadbFrame(), "mysql", "mariadb", "mysql"),
    "mysql": Target(MariadbFrame(), "mysql", "mariadb", "mysql", opens_once=True),
    "sqlserver": Target(SqlServerFrame(), "tsql", reader="tsql", key_table_mark="#"),
    "oracle": Target(
        OracleFrame(), "oracle", reader="oracle", folds_to="upper", key_table_mark="ORA$PTT_"
    ),
}


def key_tables_in(tree: exp.Expr) -> list[exp.Table]:
    """Return the key tables that a statement names, in its order."""
    return [each for each in tree.find_all(exp.Table) if KEY_TABLE.fullmatch(each.name)]

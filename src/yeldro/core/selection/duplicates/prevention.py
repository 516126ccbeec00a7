"""The constraint that keeps duplicates out, named only where this run has shown that it does."""

from __future__ import annotations

from typing import TYPE_CHECKING

import sqlalchemy as sa

from yeldro.core.database import sql
from yeldro.core.selection.duplicates.values import group_values, in_some_group

if TYPE_CHECKING:
    from collections.abc import Sequence

    from yeldro.core.database.compared import Compared
    from yeldro.core.database.facts import Prevention
    from yeldro.core.database.protocol import Session
    from yeldro.core.model.tables.equality import EqualityRules
    from yeldro.core.model.tables.schema import Table


def prevention(
    session: Session, table: Table, by: Sequence[Compared], same: EqualityRules
) -> Prevention | None:
    """Return what would have kept these duplicates out.

    None where the system has nothing, or where rows of one group would not be equal to it.
    """
    found = session.prevention(table, by, same)
    if found is None:
        return None
    rows = sql.rows_of(table)
    values = group_values(session, table, rows, by, same)
    for each in found.compares:
        value = each.value(rows)
        known = sa.func.count(value)
        several = sa.or_(
            sa.func.count(value.distinct()) > 1, sa.and_(known > 0, known < sa.func.count())
        )
        query = (
            sa.select(sa.literal(1).label("yeldro_told_apart"))
            .select_from(rows)
            .where(*in_some_group(rows, by, same))
            .group_by(*values)
            .having(several)
            .limit(1)
        )
        if session.connection.execute(query).first():
            return None
    return found

"""How many rows PostgreSQL has changed in a transaction, by its own statistics."""

from __future__ import annotations

from typing import TYPE_CHECKING

from yeldro.core.database.facts import ChangeCount

if TYPE_CHECKING:
    import sqlalchemy as sa

    from yeldro.engines.postgresql.catalogue import PostgresqlCatalogue

# Statements that make, change, empty or drop a table show only in the system's own tables, which
# also hold large objects.
_COUNTS = """
SELECT coalesce(pg_partition_root(s.relid)::oid, s.relid) AS oid, NULL AS name,
       sum(s.n_tup_del)::bigint AS removed, sum(s.n_tup_upd)::bigint AS changed,
       sum(s.n_tup_ins)::bigint AS added
FROM pg_catalog.pg_stat_xact_user_tables AS s
WHERE s.schemaname NOT LIKE 'pg\\_t%%' AND s.n_tup_del + s.n_tup_upd + s.n_tup_ins > 0
GROUP BY 1
UNION ALL
SELECT NULL, s.name, sum(s.n_tup_del)::bigint, sum(s.n_tup_upd)::bigint, sum(s.n_tup_ins)::bigint
FROM (SELECT *, CASE WHEN relname LIKE 'pg\\_largeobject%%' THEN 'pg_largeobject'
                     ELSE 'pg_catalog' END AS name FROM pg_catalog.pg_stat_xact_sys_tables) AS s
WHERE s.schemaname = 'pg_catalog' AND s.n_tup_del + s.n_tup_upd + s.n_tup_ins > 0
GROUP BY s.name
"""


def change_count(connection: sa.Connection, catalogue: PostgresqlCatalogue) -> ChangeCount:
    """Return the rows changed in this transaction by table, cascades and triggers included."""
    counted: dict[str, tuple[int, ...]] = {}
    new = {"pg_catalog"}
    for row in connection.exec_driver_sql(_COUNTS).all():
        known = row.name or catalogue.name_of(row.oid)
        name = str(known or row.oid)
        if not known:
            new.add(name)
        so_far = counted.get(name, (0, 0, 0))
        more = (row.removed, row.changed, row.added)
        counted[name] = tuple(a + b for a, b in zip(so_far, more, strict=True))
    return ChangeCount(
        tables=counted,
        counted_under=catalogue.counted_under(),
        by_new_tables=frozenset(new),
    )

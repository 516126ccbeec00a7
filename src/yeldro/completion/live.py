"""The names in a database, asked of its driver directly: no more than a completion needs."""

from __future__ import annotations

import os
import threading

_SECONDS = 0.8  # a server that answers later offers no names
_SET = "YELDRO_TAB_SECONDS"

TYPE_CHECKING = False
if TYPE_CHECKING:
    from collections.abc import Sequence
    from typing import Any


class Names:
    """The names in one database; each list is empty if the database does not answer.

    Args:
        url: a path, or a URL.
    """

    def __init__(self, url: str) -> None:
        self._asks = _asking(url)

    def tables(self, *, views: bool = True) -> list[str]:
        """Return the names of tables, and of views."""
        return [name for name, kind in self._rows("tables") if views or kind != "view"]

    def columns(self, table: str) -> list[tuple[str, str]]:
        """Return the columns of a table or view, each with its type."""
        return [(name, kind) for name, kind in self._rows("columns", table)]

    def foreign_keys(self) -> list[tuple[str, str, str]]:
        """Return foreign keys: the child table, the columns with commas, the parent table."""
        found: dict[tuple[str, str, str], list[str]] = {}
        for child, key, column, parent in self._rows("foreign_keys"):
            found.setdefault((child, str(key), parent), []).append(column)
        return [(child, ",".join(found[child, key, parent]), parent)
                for child, key, parent in found]  # fmt: skip

    def triggers(self) -> list[tuple[str, str]]:
        """Return triggers, each with its table."""
        return [(name, table) for name, table in self._rows("triggers")]

    def _rows(self, what: str, *arguments: str) -> Sequence[Any]:
        try:
            found: Sequence[Any] = self._asks(what, arguments)
            return found
        except Exception:
            return []  # a completion is silent; the command itself tells what is wrong


def _asking(url: str) -> Any:
    scheme = url.partition("://")[0].partition("+")[0] if "://" in url else "sqlite"
    if scheme in ("postgresql", "postgres"):
        return _Postgresql(url)
    if scheme in ("mariadb", "mysql"):
        return _Mariadb(url)
    if scheme in ("mssql", "sqlserver"):
        return _SqlServer(url)
    if scheme == "sqlite":
        return _Sqlite(url.partition(":///")[2] if "://" in url else url)
    return _nothing


def _nothing(what: str, arguments: Sequence[str]) -> Sequence[Any]:
    del what, arguments
    return []


def _limited() -> None:
    """End the program quietly if a server takes too long."""
    try:
        seconds = float(os.environ.get(_SET, ""))
    except ValueError:
        seconds = _SECONDS
    watch = threading.Timer(min(seconds, threading.TIMEOUT_MAX), os._exit, (0,))
    watch.daemon = True
    watch.start()


_OF_SQLITE = {
    "tables": "SELECT name, type FROM sqlite_master WHERE type IN ('table', 'view')"
    " AND name NOT LIKE 'sqlite\\_%' ESCAPE '\\' ORDER BY name",
    "columns": "SELECT name, type FROM pragma_table_xinfo(?) WHERE hidden <> 1 ORDER BY cid",
    "foreign_keys": 'SELECT m.name, f.id, f."from", f."table" FROM sqlite_master AS m,'
    " pragma_foreign_key_list(m.name) AS f WHERE m.type = 'table' ORDER BY 1, 2 DESC, f.seq",
    "triggers": "SELECT name, tbl_name FROM sqlite_master WHERE type = 'trigger' ORDER BY 1",
}


class _Sqlite:
    def __init__(self, path: str) -> None:
        self.path = os.path.abspath(path)

    def __call__(self, what: str, arguments: Sequence[str]) -> Sequence[Any]:
        import sqlite3

        place = self.path.replace("%", "%25").replace("?", "%3f").replace("#", "%23")
        connection = sqlite3.connect(f"file:{place}?mode=ro", uri=True, timeout=0.2)
        try:
            found: list[Any] = connection.execute(_OF_SQLITE[what], arguments).fetchall()
            return found
        finally:
            connection.close()


_NAMED = """CASE WHEN pg_table_is_visible({0}.oid) THEN {0}.relname::text
    ELSE {0}.relnamespace::regnamespace::text || '.' || {0}.relname END"""
_OWN = "NOT IN ('pg_catalog', 'information_schema', 'pg_toast')"
_OF_POSTGRESQL = {
    "tables": f"""SELECT {_NAMED.format("c")} AS name,
        CASE WHEN relkind IN ('v', 'm') THEN 'view' ELSE 'table' END FROM pg_class AS c
        WHERE relkind IN ('r', 'p', 'v', 'm') AND relpersistence <> 't'
        AND relnamespace::regnamespace::text {_OWN} ORDER BY name""",
    "columns": f"""SELECT attname::text, format_type(atttypid, atttypmod)
        FROM pg_attribute JOIN pg_class AS c ON c.oid = attrelid
        WHERE {_NAMED.format("c")} = %s AND attnum > 0 AND NOT attisdropped
        AND relkind IN ('r', 'p', 'v', 'm') ORDER BY attnum""",
    "foreign_keys": f"""SELECT {_NAMED.format("c")}, k.oid, a.attname::text,
        {_NAMED.format("p")} FROM pg_constraint AS k JOIN pg_class AS c ON c.oid = conrelid
        JOIN pg_class AS p ON p.oid = confrelid CROSS JOIN LATERAL
        unnest(conkey) WITH ORDINALITY AS u (number, place)
        JOIN pg_attribute AS a ON a.attrelid = conrelid AND a.attnum = u.number
        WHERE contype = 'f' AND conparentid = 0 ORDER BY 1, 2, u.place""",
    "triggers": f"""SELECT tgname::text, {_NAMED.format("c")} FROM pg_trigger
        JOIN pg_class AS c ON c.oid = tgrelid WHERE NOT tgisinternal ORDER BY 1""",
}


class _Postgresql:
    def __init__(self, url: str) -> None:
        self.url = f"postgresql://{url.partition('://')[2]}"

    def __call__(self, what: str, arguments: Sequence[str]) -> Sequence[Any]:
        import psycopg

        _limited()
        with psycopg.connect(self.url, options="-c default_transaction_read_only=on") as connection:
            return connection.execute(_OF_POSTGRESQL[what], arguments).fetchall()


_OF_MARIADB = {
    "tables": "SELECT table_name, CASE table_type WHEN 'VIEW' THEN 'view' ELSE 'table' END"
    " FROM information_schema.tables WHERE table_schema = database() ORDER BY 1",
    "columns": "SELECT column_name, column_type FROM information_schema.columns"
    " WHERE table_schema = database() AND table_name = %s ORDER BY ordinal_position",
    "foreign_keys": "SELECT table_name, constraint_name, column_name, referenced_table_name"
    " FROM information_schema.key_column_usage WHERE table_schema = database()"
    " AND referenced_table_name IS NOT NULL ORDER BY 1, 2, ordinal_position",
    "triggers": "SELECT trigger_name, event_object_table FROM information_schema.triggers"
    " WHERE trigger_schema = database() ORDER BY 1",
}


class _Mariadb:
    def __init__(self, url: str) -> None:
        self.url = url

    def __call__(self, what: str, arguments: Sequence[str]) -> Sequence[Any]:
        from urllib.parse import parse_qs, unquote, urlsplit

        import pymysql

        _limited()
        found = urlsplit(self.url)
        more = parse_qs(found.query)
        settings: dict[str, Any] = {}
        if "unix_socket" in more:
            settings["unix_socket"] = more["unix_socket"][-1]
        files = [os.path.expanduser(each) for each in more.get("read_default_file", ["~/.my.cnf"])]
        if os.path.exists(files[-1]):
            settings["read_default_file"] = files[-1]
        for name, value in (("user", found.username), ("password", found.password)):
            if value is not None:
                settings[name] = unquote(value)
        with pymysql.connect(
            host=found.hostname or "localhost",
            port=found.port or 3306,
            database=unquote(found.path[1:]),
            connect_timeout=1,
            **settings,
        ) as connection, connection.cursor() as cursor:  # fmt: skip
            cursor.execute(_OF_MARIADB[what], arguments)
            rows: Sequence[Any] = cursor.fetchall()
            return rows


_SHOWN = """CASE WHEN {0}.schema_id = SCHEMA_ID() THEN {0}.name
    ELSE CONCAT(SCHEMA_NAME({0}.schema_id), '.', {0}.name) END"""
_OF_SQLSERVER = {
    "tables": f"""SELECT {_SHOWN.format("o")} AS name,
        CASE o.type WHEN 'V' THEN 'view' ELSE 'table' END AS kind FROM sys.objects AS o
        WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0 ORDER BY 1""",
    "columns": f"""SELECT c.name AS name, t.name AS type FROM sys.columns AS c
        JOIN sys.objects AS o ON o.object_id = c.object_id
        JOIN sys.types AS t ON t.user_type_id = c.user_type_id
        WHERE o.type IN ('U', 'V') AND {_SHOWN.format("o")} = %s ORDER BY c.column_id""",
    "foreign_keys": f"""SELECT {_SHOWN.format("o")} AS child, f.object_id AS number,
        c.name AS name, {_SHOWN.format("p")} AS parent FROM sys.foreign_keys AS f
        JOIN sys.objects AS o ON o.object_id = f.parent_object_id
        JOIN sys.objects AS p ON p.object_id = f.referenced_object_id
        JOIN sys.foreign_key_columns AS x ON x.constraint_object_id = f.object_id
        JOIN sys.columns AS c
        ON c.object_id = x.parent_object_id AND c.column_id = x.parent_column_id
        ORDER BY 1, 2, x.constraint_column_id""",
    "triggers": f"""SELECT t.name AS name, {_SHOWN.format("o")} AS of_table FROM sys.triggers AS t
        JOIN sys.objects AS o ON o.object_id = t.parent_id ORDER BY 1""",
}


class _SqlServer:
    def __init__(self, url: str) -> None:
        self.url = url

    def __call__(self, what: str, arguments: Sequence[str]) -> Sequence[Any]:
        from urllib.parse import unquote, urlsplit

        import pymssql

        _limited()
        parts = urlsplit(self.url)
        with pymssql.connect(
            server=parts.hostname or "127.0.0.1", port=str(parts.port or 1433),
            user=unquote(parts.username or ""), database=unquote(parts.path.lstrip("/")),
            password=unquote(parts.password or os.environ.get("YELDRO_PASSWORD", "")),
        ) as connection:  # fmt: skip
            cursor = connection.cursor()
            cursor.execute(_OF_SQLSERVER[what], tuple(arguments))
            found: list[Any] = cursor.fetchall()
            return found

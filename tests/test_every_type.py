"""Every type of both servers, through a run and its restore, with and without a key.

Each type has a table with a key, one without, and one without whose rows are only detached. Rows
are compared as the server writes them out, and as its own dump program does.
"""

from __future__ import annotations

import re
import uuid
from collections.abc import Iterable, Iterator, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

import pymysql
import pytest
from conftest import Yeldro, need, there_and_back
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    administer,
    has_xml,
)
from test_sql import carry_out

import yeldro as program

SETUP = {
    "postgresql": """
        CREATE TYPE mood AS ENUM ('calm', 'rough sea', 'it''s');
        CREATE DOMAIN depth AS numeric(6, 2) CHECK (value > 0);
        CREATE TYPE place AS (lat float8, name text, near int[]);
        CREATE TYPE span AS RANGE (subtype = float8);
        CREATE DOMAIN places AS place[];
    """,
    "mariadb": "SET SESSION sql_mode = 'ALLOW_INVALID_DATES', time_zone = '+05:30';",
}
POSTGRESQL: Mapping[str, Sequence[str]] = {
    "smallint": ["-32768", "0", "32767"],
    "integer": ["-2147483648", "2147483647"],
    "bigint": ["-9223372036854775808", "9223372036854775807"],
    "numeric": ["'NaN'", "'Infinity'", "1.10", "1.1", "1e-200", "12345678901234567890.123456789"],
    "numeric(10,3)": ["-1.5", "9999999.999"],
    "numeric(5,-2)": ["12300"],
    "real": ["0.1", "'NaN'", "'-Infinity'", "1e-45", "'-0'", "16777216"],
    "double precision": ["0.1", "1e-300 / 3", "'-0'", "'NaN'", "'Infinity'", "5e-324"],
    "money": ["12.34", "-92233720368547758.08"],
    "boolean": ["true", "false"],
    '"char"': ["'a'", "''", "'\\377'"],
    "char(5)": ["'ab'", "''", "'é'"],
    "varchar(9)": ["'ab '", "''", "'日本'"],
    "text": ["''", "' a '", "E'tab\\tline\\n\\\\N\\\\.'", "'日本😀'", "'it''s 100%'", "'NULL'"],
    "name": ["'a'", "''", "'é'"],
    "bytea": ["'\\x'", "'\\x00ff5c27'", "'abc'"],
    "bit(3)": ["B'101'", "B'000'"],
    "bit": ["B'1'"],
    "bit varying": ["B''", "B'10101'"],
    "bit varying(70)": ["B'1111111111111111111111111111111111111111111111111111111111111111111'"],
    "date": ["'2024-02-29'", "'infinity'", "'-infinity'", "'4713-01-01 BC'", "'5874897-12-31'"],
    "time": ["'24:00'", "'00:00:00.000001'"],
    "time(0)": ["'12:00:01'"],
    "time with time zone": ["'23:59:59.999999+15:59'", "'00:00-00:30'", "'24:00-12'"],
    "timestamp": ["'infinity'", "'0044-03-15 12:00 BC'", "'294276-12-31 23:59:59.999999'"],
    "timestamp(3)": ["'2024-01-01 00:00:00.123'"],
    "timestamp with time zone": ["'-infinity'", "'2024-10-27 02:30:00.000001+02'", "'1900-01-01'"],
    "interval": ["'1 mon -2 days 03:04:05.678'", "'-178000000 years'", "'0'", "'-00:00:00.1'"],
    "interval year to month": ["'1-2'"],
    "interval second(1)": ["'1.5'"],
    "uuid": ["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"],
    "json": ["'{\"a\":  1, \"a\": 2}'", "'null'", "' [1.10, \"\\u0041\"]'"],
    "jsonb": ["'{\"a\": 1.10}'", "'null'", "'\"\\\\u0041 \\\"q\\\"\"'"],
    "jsonpath": ["'$.a[*] ? (@ > 1)'"],
    "xml": ["'<a>b &amp; c</a>'", "'just text'"],
    "point": ["'(1,2)'", "'(-0,1e300)'", "'(NaN,Infinity)'"],
    "line": ["'{1,2,3}'"],
    "lseg": ["'[(1,2),(3,4)]'"],
    "box": ["'(3,4),(1,2)'"],
    "path": ["'[(1,2),(3,4)]'", "'((1,2),(3,4))'"],
    "polygon": ["'((1,2),(3,4),(5,6))'"],
    "circle": ["'<(1,2),0.1>'"],
    "cidr": ["'10.0.0.0/8'", "'::/0'"],
    "inet": ["'10.0.0.1/8'", "'10.0.0.1'", "'fe80::1/64'"],
    "macaddr": ["'08:00:2b:01:02:03'"],
    "macaddr8": ["'08:00:2b:01:02:03:04:05'"],
    "tsvector": ["'a:1A fat:2,4C ''it''''s'''", "''"],
    "tsquery": ["'fat & (rat | !cat:A*)'"],
    "oid": ["4294967295", "0"],
    "regclass": ["'pg_class'", "0", "987654"],
    "regtype": ["'integer'", "'timestamp with time zone'"],
    "regproc": ["'pg_catalog.now'"],
    "regprocedure": ["'abs(integer)'"],
    "regoper": ["'pg_catalog.||/'"],
    "regoperator": ["'+(integer,integer)'"],
    "regconfig": ["'english'"],
    "regdictionary": ["'simple'"],
    "regnamespace": ["'pg_catalog'"],
    "regrole": ["current_user::regrole"],
    "regcollation": ["'\"C\"'"],
    "xid": ["'4294967295'"],
    "xid8": ["'18446744073709551615'"],
    "cid": ["'7'"],
    "tid": ["'(4294967295,65535)'"],
    "pg_lsn": ["'FFFFFFFF/FFFFFFFF'"],
    "pg_snapshot": ["'10:20:10,14,15'"],
    "txid_snapshot": ["'10:20:10,14,15'"],
    "refcursor": ["'a cursor'"],
    "aclitem": ["makeaclitem(10, 10, 'SELECT', true)"],
    "int2vector": ["'1 2 3'", "''"],
    "oidvector": ["'1 2 3'"],
    "int4range": ["'[1,5)'", "'empty'", "'(,)'"],
    "int8range": ["'[1,9223372036854775807)'"],
    "numrange": ["'[1.10,2.0]'", "'(,1)'"],
    "tsrange": ["'[2024-01-01, infinity]'"],
    "tstzrange": ["'[2024-01-01 00:00+02, 2024-01-02 00:00+02)'"],
    "daterange": ["'[2024-01-01, infinity)'"],
    "int4multirange": ["'{[1,5), [7,9)}'", "'{}'"],
    "int8multirange": ["'{[1,5)}'"],
    "nummultirange": ["'{[1.0,5.50)}'"],
    "tsmultirange": ["'{[2024-01-01, 2024-01-02)}'"],
    "tstzmultirange": ["'{[2024-01-01 00:00+02, 2024-01-02 00:00+02)}'"],
    "datemultirange": ["'{[2024-01-01, 2024-02-01)}'"],
    "integer[]": ["'{}'", "'{1,NULL}'", "'[0:1]={1,2}'", "'{{1,2},{3,4}}'"],
    "text[]": ["'{\"a,b\",NULL,\"NULL\",\"q\\\"x\",\"\"}'"],
    "bytea[]": ["ARRAY['\\x00ff'::bytea, NULL]"],
    "timestamp with time zone[]": ["'{infinity,\"2024-01-01 00:00+02\"}'"],
    "jsonb[]": ["ARRAY['{\"a\": [1]}'::jsonb]"],
    "mood": ["'rough sea'", "'it''s'"],
    "mood[]": ["'{calm,\"rough sea\"}'"],
    "depth": ["1.5"],
    "place": ["row(0.1, 'it''s (here), \"q\"', '{1,2}')", "row(NULL, NULL, NULL)",
              "row(1, '', NULL)"],
    "places": ["ARRAY[row(1, 'a,b', '{1}')::place, NULL]"],
    "span": ["'[0.1, 1e300)'"],
}  # fmt: skip
# What the server itself makes, and takes no values of.
UNMADE = {"gtsvector", "pg_node_tree", "pg_ndistinct", "pg_dependencies", "pg_mcv_list",
          "pg_brin_bloom_summary", "pg_brin_minmax_multi_summary"}  # fmt: skip
MARIADB: Mapping[str, Sequence[str]] = {
    "tinyint": ["-128", "127"],
    "tinyint(1)": ["2", "0"],
    "smallint unsigned": ["65535"],
    "mediumint": ["-8388608"],
    "int zerofill": ["7"],
    "bigint": ["-9223372036854775808"],
    "bigint unsigned": ["18446744073709551615"],
    "decimal(65,38)": ["0.00000000000000000000000000000000000001", "-1.5"],
    "decimal(30)": ["123456789012345678901234567890"],
    "float": ["0.1", "16777216", "1e-38", "3.4e38"],
    "float(7,4)": ["123.4567"],
    "double": ["0.1", "1e-300 / 3", "-0.0", "1.7976931348623157e308"],
    "bit(1)": ["b'1'", "b'0'"],
    "bit(64)": ["~0", "b'101'"],
    "boolean": ["true"],
    "char(5)": ["'ab'", "''", "'é'"],
    "varchar(20)": ["'a '", "'A'", "'it''s 100% \\\\ \"q\"'", "'日本😀'", "''"],
    "varchar(9) COLLATE utf8mb4_bin": ["'a'", "'a '"],
    "varchar(9) CHARACTER SET latin1": ["'Ä€'"],
    "varchar(9) CHARACTER SET utf16": ["'😀'"],
    "varchar(9) CHARACTER SET ucs2": ["'ø'"],
    "varchar(9) CHARACTER SET sjis": ["'日本ソ'"],
    "tinytext": ["'a\\nb'"],
    "text": ["repeat('é', 30000)"],
    "mediumtext": ["repeat('x', 70000)"],
    "longtext": ["''"],
    "binary(4)": ["x'00ff00ff'", "'a'"],
    "varbinary(9)": ["x'00'", "''"],
    "tinyblob": ["x'00ff'"],
    "blob": ["x'fffe00'"],
    "mediumblob": ["repeat(x'00', 70000)"],
    "longblob": ["''"],
    "date": ["'0000-00-00'", "'2024-02-30'", "'9999-12-31'"],
    "datetime": ["'0000-00-00 00:00:00'", "'2024-02-31 00:00:00'"],
    "datetime(6)": ["'9999-12-31 23:59:59.999999'"],
    "timestamp NULL": ["'2024-06-01 12:00:00'", "0"],
    "timestamp(6) NULL": ["'2024-10-27 02:30:00.123456'"],
    "time": ["'-838:59:59'", "'838:59:59'"],
    "time(6)": ["'00:00:00.000001'"],
    "year": ["0", "2155"],
    "enum('calm','rough sea','it''s','')": ["'rough sea'", "'it''s'", "''"],
    "set('a','b','c d')": ["'a,c d'", "''"],
    "json": ["'{\"a\":  1, \"b\": null}'", "'[]'"],
    "uuid": ["'a0eebc99-9c0b-4ef8-bb6d-6bb9bd380a11'"],
    "inet4": ["'10.0.0.1'"],
    "inet6": ["'::1'", "'fe80::1'"],
    "geometry": ["point(1, 2)"],
    "point": ["point(0.1, -2)"],
    "linestring": ["linestring(point(1, 2), point(3, 4))"],
    "polygon": ["polygon(linestring(point(0, 0), point(0, 1), point(1, 1), point(0, 0)))"],
    "multipoint": ["multipoint(point(1, 2), point(3, 4))"],
    "multilinestring": ["multilinestring(linestring(point(1, 2), point(3, 4)))"],
    "multipolygon": ["multipolygon(polygon(linestring(point(0, 0), point(0, 1), point(1, 1),"
                     " point(0, 0))))"],
    "geometrycollection": ["geometrycollection(point(1, 2))"],
}  # fmt: skip
TYPES = {"postgresql": POSTGRESQL, "mariadb": MARIADB}


def types_of(system: str) -> dict[str, Sequence[str]]:
    """Return the types that the server was built with."""
    lacks = {"xml"} if system == "postgresql" and not has_xml() else set()
    return {kind: values for kind, values in TYPES[system].items() if kind not in lacks}


def parts(types: Mapping[str, Sequence[str]]) -> list[list[tuple[str, Sequence[str]]]]:
    """Return the types in groups, each of which becomes the columns of one table."""
    listed = list(types.items())
    return [listed[at : at + 6] for at in range(0, len(listed), 6)]


def rows_of(part: Sequence[tuple[str, Sequence[str]]]) -> Iterator[str]:
    """Yield rows in which every value of every type of a part stands."""
    for place in range(max(len(values) for _, values in part)):
        yield ", ".join(values[place % len(values)] for _, values in part)


def tables(types: Mapping[str, Sequence[str]]) -> Iterator[str]:
    """Statements that make tables of all types, and fill them."""
    yield "CREATE TABLE root (id INTEGER PRIMARY KEY)"
    yield "INSERT INTO root VALUES (1), (2)"
    link = "root_id INTEGER, FOREIGN KEY (root_id) REFERENCES root (id) ON DELETE"
    for number, part in enumerate(parts(types)):
        columns = ", ".join(f"v{n} {kind}" for n, (kind, _) in enumerate(part))
        names = ", ".join(f"v{n}" for n in range(len(part)))
        yield f"CREATE TABLE keyed_{number} (id INTEGER PRIMARY KEY, {columns}, {link} CASCADE)"
        yield f"CREATE TABLE heap_{number} ({columns}, {link} CASCADE)"
        yield f"CREATE TABLE cut_{number} ({columns}, {link} SET NULL)"
        for place, row in enumerate([*rows_of(part), ", ".join(["NULL"] * len(part))]):
            yield f"INSERT INTO keyed_{number} VALUES ({place}, {row}, 1)"
            for table in ("heap", "cut"):
                rows = f"({row}, 1), ({row}, 1), ({row}, 2)"
                yield f"INSERT INTO {table}_{number} ({names}, root_id) VALUES {rows}"


@pytest.fixture(params=["postgresql", "mariadb"])
def server(request: pytest.FixtureRequest) -> Iterator[AnyDatabase]:
    need(request.param)
    name = f"yeldro_{uuid.uuid4().hex[:12]}"
    kind = PostgresqlServerDatabase if request.param == "postgresql" else MariadbServerDatabase
    database = kind(name)
    yield database
    database.drop()


# What the sessions of a database begin with where somebody has set it so.
UNUSUAL = {
    "datestyle": "'SQL, DMY'",
    "intervalstyle": "iso_8601",
    "extra_float_digits": "-3",
    "bytea_output": "escape",
    "array_nulls": "off",
    "xmloption": "document",
    "client_encoding": "latin1",
    "standard_conforming_strings": "off",
    "transform_null_equals": "on",
    "timezone": "'Asia/Kathmandu'",
}


@pytest.mark.parametrize(
    ("server", "settings"),
    [("postgresql", {}), ("postgresql", UNUSUAL), ("mariadb", {})],
    ids=["postgresql-usual", "postgresql-unusual", "mariadb"],
    indirect=["server"],
)
def test_every_type_comes_back_as_the_server_and_its_dump_write_it(
    yeldro: Yeldro,
    server: PostgresqlServerDatabase | MariadbServerDatabase,
    settings: Mapping[str, str],
) -> None:
    """Whatever the settings with which a session of that database begins."""
    system = server.url.partition(":")[0]
    types = types_of(system)
    server.script("; ".join([SETUP[system].strip().rstrip(";"), *tables(types)]))
    if isinstance(server, PostgresqlServerDatabase):
        for name, value in settings.items():
            administer(f"ALTER DATABASE {server.name} SET {name} = {value}")
    rows = sum(len(list(rows_of(part))) + 1 for part in parts(types))
    before = sorted(line.rstrip(",;") for line in server.dump().splitlines())
    words = ("root", "--where", "id = 1", "--expect", f"total={1 + 5 * rows}")
    there_and_back(yeldro, server, *words)
    assert sorted(line.rstrip(",;") for line in server.dump().splitlines()) == before


def test_a_script_takes_rows_of_every_type_as_a_run_does(
    yeldro: Yeldro, server: PostgresqlServerDatabase | MariadbServerDatabase
) -> None:
    system = server.url.partition(":")[0]
    server.script("; ".join([SETUP[system].strip().rstrip(";"), *tables(types_of(system))]))
    script = yeldro.folder / "out.sql"
    script.write_text(yeldro("script", "root", "--where", "id = 1", db=server.url).out)
    before = server.contents()
    yeldro("run", "root", "--where", "id = 1", "--expect", "total=0..", "--yes", db=server.url)
    after = server.contents()
    yeldro("restore", "last", "--yes")
    assert server.contents() == before != after
    assert carry_out(server, script) == 0
    assert server.contents() == after


def test_values_of_every_type_are_filled_in(
    tmp_path: Path, server: PostgresqlServerDatabase | MariadbServerDatabase
) -> None:
    """The row that stays has the very value that a row which went had."""
    system = server.url.partition(":")[0]
    types = types_of(system)
    statements = [SETUP[system].strip().rstrip(";")]
    for number, part in enumerate(parts(types)):
        columns = (f"v{n} {kind}{' NULL' if kind.startswith('timestamp') else ''}"
                   for n, (kind, _) in enumerate(part))  # fmt: skip
        statements.append(f"CREATE TABLE filled_{number} (id INTEGER PRIMARY KEY, g INTEGER,"
                          f" {', '.join(columns)})")  # fmt: skip
        lacking = ", ".join(["NULL"] * len(part))
        for place, row in enumerate(rows_of(part)):
            rows = f"({2 * place}, {place}, {lacking}), ({2 * place + 1}, {place}, {row})"
            statements.append(f"INSERT INTO filled_{number} VALUES {rows}")
    server.script("; ".join(statements))
    before = server.dump()
    went, cleanups = [], []
    for number, part in enumerate(parts(types)):
        columns = []
        groups = server.value(f"SELECT count(DISTINCT g) FROM filled_{number}")
        for n, (kind, _) in enumerate(part):
            column = f"v{n}"
            shape = re.match("geom|point|line|polygon|multi", kind)
            text = f"hex({column})" if shape else f"hex(concat({column}))"
            text = f"{column}::text" if system == "postgresql" else text
            known = f"SELECT g, {text} FROM filled_{number} WHERE id % 2 = {{}} ORDER BY g"
            if (
                server.value(f"SELECT count(*) FROM filled_{number} WHERE {column} IS NULL")
                < groups
            ):
                continue  # the type gives every row a value
            columns.append(column)
            went.append((known, server.rows(known.format(1))))
        cleanups.append(program.cleanup(
            f"filled_{number}", duplicates_by="g", fill=columns, expect=groups))  # fmt: skip
    assert len(went) > len(types) * 0.9
    opened = program.connect(server.url)
    done = opened.run(program.job(*cleanups), receipts=tmp_path)
    for known, values in went:
        assert server.rows(known.format(0)) == values
        assert not server.rows(known.format(1))
    assert done.receipt is not None
    opened.restore(done.receipt)
    assert sorted(server.dump().splitlines()) == sorted(before.splitlines())


def made_columns(server: MariadbServerDatabase, kinds: Iterable[str]) -> set[str]:
    """Return the types, as the server calls them, of columns that are declared so."""
    server.script("CREATE TABLE kinds (id INTEGER)")
    for number, kind in enumerate(kinds):
        for declared in (kind, f"{kind}(9)"):
            with suppress(pymysql.Error):
                server.script(f"ALTER TABLE kinds ADD v{number} {declared}")
                break
    found = server.rows(
        "SELECT DISTINCT DATA_TYPE FROM information_schema.COLUMNS"
        f" WHERE TABLE_NAME = 'kinds' AND TABLE_SCHEMA = '{server.name}'"
    )
    server.script("DROP TABLE kinds")
    return {name for (name,) in found}


def test_the_table_names_every_type_that_the_server_has(server: AnyDatabase) -> None:
    if isinstance(server, MariadbServerDatabase):
        topics = server.rows(
            "SELECT t.name FROM mysql.help_topic AS t JOIN mysql.help_category AS c"
            " USING (help_category_id) WHERE c.name = 'Data Types'"
        )
        plugins = server.rows("SELECT plugin_name FROM information_schema.plugins"
                              " WHERE plugin_type LIKE '%DATA%TYPE%'")  # fmt: skip
        known = made_columns(server, [name for (name,) in (*topics, *plugins)])
        assert len(known) > 25
        assert known <= made_columns(server, MARIADB)
        return
    server.script(SETUP["postgresql"])
    known = {row[0] for row in server.rows(
        "SELECT format_type(oid, NULL) FROM pg_type WHERE typnamespace = 'pg_catalog'::regnamespace"
        " AND typtype IN ('b', 'r', 'm') AND typcategory <> 'A'"
    )}  # fmt: skip
    named = {row[0] for row in server.rows(
        "SELECT format_type(kind, NULL) FROM unnest(ARRAY["
        + ", ".join("'" + kind.replace("'", "''") + "'::regtype" for kind in POSTGRESQL)
        + "]) AS kind"
    )}  # fmt: skip
    assert known - named == UNMADE

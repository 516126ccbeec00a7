"""What a trigger can reach through other objects, and is not rolled back or counted, is refused."""

from __future__ import annotations

import random
from collections.abc import Callable

from conftest import Yeldro
from systems import (
    AnyDatabase,
    MariadbServerDatabase,
    PostgresqlServerDatabase,
    SqliteFile,
)
from trials import Trials

MASTS = "CREATE TABLE mast (id int PRIMARY KEY); INSERT INTO mast VALUES (1), (2); "
WORDS = ("mast", "--where", "id = 1", "--allow-trigger", "mast_gone")


class Chain:
    """Objects that use one another, made from the last one up.

    Attributes:
        script: the statements that make them.
        use: a statement that uses the newest one.
        is_insert: that statement is an INSERT, so that a view can be put before it.
    """

    def __init__(self, end: str, made: str, use: str) -> None:
        self.end = end
        self.script = [made]
        self.use = use
        self.made = 0

    @property
    def is_insert(self) -> bool:
        return self.use.startswith("INSERT")

    @property
    def target(self) -> str:
        return self.use.split()[2]

    def name(self, kind: str) -> str:
        self.made += 1
        return f"{kind}_{self.made}"

    def insert(self, table: str) -> None:
        self.use = f"INSERT INTO {table} (id) VALUES (7)"


def mariadb_end(draw: random.Random) -> Chain:
    if draw.random() < 0.3:
        return Chain("plain", "CREATE TABLE log (id int)", "INSERT INTO log (id) VALUES (7)")
    if draw.random() < 0.3:
        made = "CREATE SEQUENCE numbers; CREATE TABLE log (id int, n int DEFAULT nextval(numbers))"
        return Chain("numbers", made, "INSERT INTO log (id) VALUES (7)")
    made = "CREATE TABLE log (id int) ENGINE = MyISAM"
    return Chain("log", made, "INSERT INTO log (id) VALUES (7)")


def mariadb_link(chain: Chain, draw: random.Random) -> None:
    kind = draw.choice(["view", "procedure", "function", "trigger"])
    name = chain.name(kind)
    if kind == "view" and chain.is_insert:
        chain.script.append(f"CREATE VIEW {name} AS SELECT id FROM {chain.target}")
        chain.insert(name)
    elif kind == "procedure":
        chain.script.append(f"CREATE PROCEDURE {name}() {chain.use}")
        chain.use = f"CALL {name}()"
    elif kind == "function":
        body = f"BEGIN {chain.use}; RETURN 1; END"
        chain.script.append(f"CREATE FUNCTION {name}() RETURNS int {body}")
        chain.use = f"SET @unused = {name}()"
    else:
        chain.script.append(f"CREATE TABLE {name} (id int)")
        chain.script.append(
            f"CREATE TRIGGER {name}_more AFTER INSERT ON {name} FOR EACH ROW {chain.use}"
        )
        chain.insert(name)


def sqlite_end(draw: random.Random) -> Chain:
    kind = draw.choice(["plain", "held", "replacing"])
    rule = " UNIQUE ON CONFLICT REPLACE" if kind == "held" else " UNIQUE"
    chain = Chain(kind, f"CREATE TABLE log (id int{rule})", "INSERT INTO log (id) VALUES (7)")
    if kind == "held":
        chain.end = "log"
    if kind == "replacing":
        body = "BEGIN INSERT OR REPLACE INTO log (id) VALUES (7); END"
        chain.script.append("CREATE TABLE other (id int)")
        chain.script.append(f"CREATE TRIGGER replacing AFTER INSERT ON other {body}")
        chain.insert("other")
    return chain


def sqlite_link(chain: Chain, draw: random.Random) -> None:
    kind = draw.choice(["table", "view"])
    name = chain.name(kind)
    how = "AFTER INSERT"
    chain.script.append(f"CREATE TABLE [{name}] (id int)")
    if kind == "view":
        chain.script[-1] = f"CREATE VIEW {name} AS SELECT 1 AS id"
        how = "INSTEAD OF INSERT"
    chain.script.append(f"CREATE TRIGGER {name}_more {how} ON {name} BEGIN {chain.use}; END")
    quoted = draw.choice(['"{}"', "[{}]", "`{}`", "{}"]).format(name.upper())
    chain.insert(quoted)


def postgresql_end(draw: random.Random) -> Chain:
    kind = draw.choice(["plain", "far", "pg_logical_emit_message"])
    if kind == "plain":
        return Chain(kind, "CREATE TABLE log (id int)", "INSERT INTO log (id) VALUES (7)")
    if kind == "far":
        made = ("CREATE FOREIGN DATA WRAPPER away; CREATE SERVER there FOREIGN DATA WRAPPER away;"
                " CREATE FOREIGN TABLE far (id int) SERVER there")  # fmt: skip
        return Chain(kind, made, "INSERT INTO far (id) VALUES (7)")
    return Chain(kind, "SELECT 1", f"SELECT {kind}(false, 'a', 'b')")


def in_body(use: str) -> str:
    """The statement as it stands in a function."""
    return use.replace("SELECT", "PERFORM", 1) if use.startswith("SELECT") else use


def postgresql_function(chain: Chain, kind: str, returns: str, value: str) -> str:
    name = chain.name(kind)
    chain.script.append(
        f"CREATE FUNCTION {name}() RETURNS {returns} LANGUAGE plpgsql AS"
        f" $$ BEGIN {in_body(chain.use)}; RETURN {value}; END $$"
    )
    return name


def postgresql_link(chain: Chain, draw: random.Random) -> None:
    kinds = ["function", "trigger", "rule", "default", "cascade", "check"]
    if chain.is_insert:
        kinds += ["view", "view", "heir", "partition"]
    kind = draw.choice(kinds)
    if kind == "function":
        chain.use = f"SELECT {postgresql_function(chain, kind, 'int', '1')}()"
        return
    if kind in ("default", "check"):
        function = postgresql_function(chain, "of", "int", "1")
        name = chain.name(kind)
        extra = f"n int DEFAULT {function}()" if kind == "default" else f"CHECK ({function}() = 1)"
        chain.script.append(f"CREATE TABLE {name} (id int, {extra})")
    elif kind in ("trigger", "cascade"):
        function = postgresql_function(chain, "of", "trigger", "NULL")
        name = chain.name(kind)
        chain.script.append(f"CREATE TABLE {name} (id int PRIMARY KEY)")
        on, event = name, "INSERT"
        if kind == "cascade":
            on, event = f"{name}_child", "DELETE"
            key = f"REFERENCES {name} ON DELETE CASCADE"
            chain.script.append(f"CREATE TABLE {on} (id int {key}); INSERT INTO {name} VALUES (1);"
                                f" INSERT INTO {on} VALUES (1)")  # fmt: skip
        chain.script.append(f"CREATE TRIGGER more AFTER {event} ON {on}"
                            f" FOR EACH ROW EXECUTE FUNCTION {function}()")  # fmt: skip
        if kind == "cascade":
            chain.use = f"DELETE FROM {name} WHERE id = 1"
            return
    elif kind == "rule":
        name = chain.name(kind)
        chain.script.append(f"CREATE TABLE {name} (id int); CREATE RULE more AS ON INSERT TO {name}"
                            f" DO ALSO {chain.use}")  # fmt: skip
    elif kind == "view":
        name = chain.name(kind)
        chain.script.append(f"CREATE VIEW {name} AS SELECT id FROM {chain.target}")
    elif kind == "heir":
        name = chain.name(kind)
        chain.script.append(f"CREATE TABLE {name} (id int);"
                            f" CREATE TABLE {name}_heir () INHERITS ({name})")  # fmt: skip
        function = postgresql_function(chain, "of", "trigger", "NULL")
        chain.script.append(f"CREATE TRIGGER more AFTER DELETE ON {name}_heir"
                            f" FOR EACH ROW EXECUTE FUNCTION {function}()")  # fmt: skip
        chain.use = f"DELETE FROM {name} WHERE id > 0"
        return
    else:
        name = chain.name(kind)
        function = postgresql_function(chain, "of", "trigger", "NULL")
        chain.script.append(f"CREATE TABLE {name} (id int) PARTITION BY LIST (id);"
                            f" CREATE TABLE {name}_part PARTITION OF {name} FOR VALUES IN (7);"
                            f" CREATE TRIGGER more AFTER INSERT ON {name}_part"
                            f" FOR EACH ROW EXECUTE FUNCTION {function}()")  # fmt: skip
    chain.insert(name)


KINDS = {
    SqliteFile: (sqlite_end, sqlite_link),
    MariadbServerDatabase: (mariadb_end, mariadb_link),
    PostgresqlServerDatabase: (postgresql_end, postgresql_link),
}


def made_chain(draw: random.Random, database: AnyDatabase) -> Chain:
    end, link = KINDS[type(database)]
    chain = end(draw)
    for _ in range(draw.randrange(4)):
        link(chain, draw)
    trigger = "CREATE TRIGGER mast_gone AFTER DELETE ON mast FOR EACH ROW "
    if isinstance(database, PostgresqlServerDatabase):
        function = postgresql_function(chain, "first", "trigger", "NULL")
        chain.script.append(f"{trigger} EXECUTE FUNCTION {function}()")
    elif isinstance(database, SqliteFile):
        chain.script.append(f"{trigger} BEGIN {chain.use}; END")
    else:
        chain.script.append(trigger + chain.use)
    return chain


def emptied(made: Callable[[str], AnyDatabase]) -> AnyDatabase:
    """A database with nothing in it."""
    database = made("SELECT 1;")
    if isinstance(database, SqliteFile):
        database.path.unlink()
    elif isinstance(database, MariadbServerDatabase):
        name = database.name
        database.script(f"DROP DATABASE {name}; CREATE DATABASE {name}; USE {name}")
    else:
        database.script("DROP FOREIGN DATA WRAPPER IF EXISTS away CASCADE;"
                        "DROP SCHEMA public CASCADE; CREATE SCHEMA public")  # fmt: skip
    return database


def test_what_a_trigger_reaches_and_no_rollback_undoes_is_refused_through_any_chain(
    yeldro: Yeldro, made: Callable[[str], AnyDatabase], trials: Trials
) -> None:
    """Views, routines, rules, defaults, checks, heirs, partitions, cascades, other triggers."""
    refused = committed = 0
    for number in trials(8, 200):
        draw = random.Random(number)
        database = emptied(made)
        chain = made_chain(draw, database)
        database.script(MASTS + "; ".join(chain.script))
        before = database.contents()
        found = yeldro("run", *WORDS, "--expect", "1", "--yes", db=database.url, code=None)
        if chain.end == "plain":
            committed += 1
            assert found.code == 0, (chain.script, found)
            assert database.value("SELECT count(*) FROM mast") == 1
        else:
            refused += 1
            assert found.code == 3, (chain.script, found)
            assert f"{chain.end}" in found.err, (chain.script, found)
            assert "rolled back" in found.err or "does not count" in found.err
            assert database.contents() == before, chain.script
    assert trials.only_one or (refused and committed)

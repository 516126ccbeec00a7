"""Conditions at random: what runs is what the system itself reads, or the condition is refused."""

from __future__ import annotations

import random
import sqlite3
from collections import Counter

import psycopg
import pymysql
from systems import AnyDatabase
from trials import Trials

from yeldro.core.model.messages.errors import YeldroError
from yeldro.core.planning.cleanup import Cleanup
from yeldro.core.planning.plan import prepare
from yeldro.core.selection.asked import Selection
from yeldro.engines import open_database

NUMBERS = {
    "sqlite": ["abs({n})", "length({t})", "ifnull({n}, {n})", "iif({c}, {n}, {n})", "~{n}",
               "max({n}, {n})", "0x1f", "1e0", "instr({t}, 'a')", "{n} | {n}", "{n} << 1", "+{n}"],
    "postgresql": ["abs({n})", "length({t})", "coalesce({n}, {n})", "greatest({n}, {n})", "~{n}",
                   "position('a' in {t})", "{n} # {n}", "{n} << 1", "({n})::int", "1::int", "+{n}"],
    "mariadb": ["abs({n})", "length({t})", "ifnull({n}, {n})", "if({c}, {n}, {n})", "~{n}",
                "{n} DIV 2", "{n} MOD 3", "b'101'", "0x1f", "{n} ^ {n}", "{n} | {n}", "+{n}"],
}  # fmt: skip
TEXTS = {
    "sqlite": ["lower({t})", "substr({t}, 2)", "{t} || {t}", "[t]", '"t"', "trim({t})"],
    "postgresql": ["lower({t})", "substring({t} from 2)", "{t} || {t}", '"t"', "$$a'b$$", "T",
                   "E'a\\\\b'", "left({t}, 1)", "trim(both 'a' from {t})", "'a'::text"],
    "mariadb": ["lower({t})", "substring({t}, 2)", "concat({t}, {t})", "`t`", '"a"', "'a' 'b'",
                "'\\''", "'\\%'", "x'61'", "left({t}, 1)", "trim({t})"],
}  # fmt: skip
CONDITIONS = {
    "sqlite": ["{n} == {n}", "{t} GLOB 'a*'", "{n} IS {n}", "{t} NOTNULL", "{n} ISNULL",
               "{t} = {t} COLLATE NOCASE", "{c} = {c}", "NOT {n}"],
    "postgresql": ["{t} ~ 'a'", "{t} !~* 'A'", "{t} ILIKE 'A%'", "{t} SIMILAR TO 'a%'",
                   "{n} IS DISTINCT FROM {n}", "{n} = ANY (ARRAY[{n}, 2])", "{c} = {c}",
                   "({n}, {n}) = ({n}, 2)", "{t} ISNULL"],
    "mariadb": ["{t} REGEXP 'a'", "{t} RLIKE 'b'", "{n} <=> {n}", "{c} XOR {c}", "!({c})", "!{n}",
                "{c} && {c}", "BINARY {t} = {t}", "{t} COLLATE utf8mb4_bin = {t}", "{c} = {c}"],
}  # fmt: skip
ANY_NUMBER = ["a", "b", "id", "near.a", "0", "1", "2", "-1", "{n} + {n}", "{n} - {n}", "{n} * 2",
              "-{n}", "({n})", "CASE WHEN {c} THEN {n} ELSE {n} END",
              "CASE {n} WHEN 1 THEN {n} END", "{n} & {n}", "nullif({n}, 0)"]  # fmt: skip
ANY_TEXT = [
    "t",
    "near.t",
    "'a'",
    "''",
    "'A'",
    "'a%'",
    "'it''s'",
    "({t})",
    "NULL",
    "coalesce({t}, 'b')",
]
ANY_CONDITION = [
    "{n} = {n}", "{n} <> {n}", "{n} != {n}", "{n} < {n}", "{n} >= {n}", "{t} = {t}",
    "{t} LIKE 'a%'", "{t} NOT LIKE 'b_'", "{n} IN ({n}, {n})", "{n} NOT IN ({n}, 2)",
    "{t} IN ({t}, 'a')",
    "{n} BETWEEN {n} AND {n}", "{n} NOT BETWEEN {n} AND {n}", "{n} IS NULL", "{t} IS NOT NULL",
    "NOT {c}", "{c} AND {c}", "{c} OR {c}", "({c})", "{c} IS TRUE", "{c} IS NOT FALSE",
    "EXISTS (SELECT 1 FROM near AS o WHERE o.a = near.id AND {c})",
    "id IN (SELECT a FROM near WHERE {c})",
    "{c} or {c} and {c}", "id = {n}", "id = 3",
]  # fmt: skip
SCHEMA = "CREATE TABLE near (id INTEGER PRIMARY KEY, a INTEGER, b INTEGER, t VARCHAR(9))"


def written(chance: random.Random, system: str, kind: str, depth: int) -> str:
    """Return a random expression, with few brackets: `n` a number, `t` a text, `c` a condition."""
    common, own = {"n": (ANY_NUMBER, NUMBERS), "t": (ANY_TEXT, TEXTS),
                   "c": (ANY_CONDITION, CONDITIONS)}[kind]  # fmt: skip
    forms = common + own[system]
    if depth <= 0:
        forms = [form for form in forms if "{" not in form] or ["a = 1"]
    text = chance.choice(forms)
    for inner in "ntc":
        while f"{{{inner}}}" in text:
            text = text.replace(f"{{{inner}}}", written(chance, system, inner, depth - 1), 1)
    return text


def filled(database: AnyDatabase) -> AnyDatabase:
    chance = random.Random(5)
    rows = ", ".join(
        "({}, {}, {}, {})".format(
            place,
            chance.choice(["NULL", 0, 1, 2, 3, -1, 5]),
            chance.choice(["NULL", 0, 1, 2, -2, 7]),
            chance.choice(["NULL", "''", "'a'", "'A'", "'b'", "'a%'", "'ab'", "'it''s'"]),
        )
        for place in range(40)
    )
    database.script(f"INSERT INTO near VALUES {rows}")
    return database


def test_a_random_condition_matches_what_the_system_matches_or_is_refused(
    made, trials: Trials
) -> None:
    """And where it is said to fix the key, one row at most is matched."""
    database = filled(made(SCHEMA))
    system = {"p": "postgresql", "m": "mariadb"}.get(database.url[0], "sqlite")
    seen = Counter[str]()
    for number in trials(30, 400):
        condition = written(random.Random(f"{system} {number}"), system, "c", 3)
        try:
            expected = database.value(f"SELECT count(*) FROM near WHERE {condition}")
        except (sqlite3.Error, psycopg.Error, pymysql.Error):
            seen["not SQL"] += 1
            continue
        try:
            with open_database(database.url).reading() as session:
                prepared = prepare(session, Cleanup(Selection("near", where=condition)))
        except YeldroError:
            seen["refused"] += 1
            continue
        seen["matched"] += 1
        assert prepared.plan.matched == expected, condition
        assert (prepared.plan.at_most or expected) >= expected, condition
    assert seen["matched"] > seen.total() / 5 or trials.only_one, seen

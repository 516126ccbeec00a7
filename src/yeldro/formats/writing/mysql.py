"""What MySQL has of MariaDB's SQL, for scripts that are counted on one and run on the other.

Statements are the same on both, but for functions that only one of them has, and for temporary
tables, which MySQL opens once in a statement (error 1137 of its reference manual).
"""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable

from sqlglot import exp

from yeldro.core.model.errors import Refused
from yeldro.formats.writing.targets import key_tables_in

# Written like functions, and the functions that both manuals describe alike.
# fmt: off
_KNOWN = frozenset({
    "in", "exists", "and", "or", "not", "on", "as", "by", "over", "values", "any", "all", "some",
    "interval", "between", "like", "then", "when", "else", "abs", "ascii", "avg", "bin", "cast",
    "ceil", "ceiling", "char_length", "character_length", "coalesce", "concat", "concat_ws",
    "convert", "count", "curdate", "current_date", "current_timestamp", "date", "date_add",
    "date_format", "date_sub", "datediff", "day", "dayofmonth", "dayofweek", "dayofyear",
    "extract", "field", "find_in_set", "floor", "greatest", "hex", "hour", "if", "ifnull",
    "instr", "isnull", "last_day", "lcase", "least", "left", "length", "locate", "lower", "lpad",
    "ltrim", "max", "md5", "microsecond", "mid", "min", "minute", "mod", "month", "now", "nullif",
    "octet_length", "position", "quarter", "repeat", "replace", "reverse", "right", "round",
    "rpad", "rtrim", "second", "sign", "strcmp", "substr", "substring", "substring_index", "sum",
    "time", "timestampdiff", "to_days", "trim", "truncate", "ucase", "unix_timestamp", "upper",
    "week", "weekday", "year",
})
# fmt: on
_UNITS = re.compile(
    r"""'(?:[^'\\]|''|\\.)*'|"(?:[^"\\]|""|\\.)*"|`(?:[^`]|``)*`|(?P<call>\w+)\s*\("""
    r"""|\b(?P<word>regexp|rlike)\b""",
    re.IGNORECASE | re.DOTALL,
)


def check_functions(text: str) -> None:
    """Refuse a condition with a function or an operator that MySQL may not have, or not so.

    Raises:
        Refused: it has one.
    """
    for found in _UNITS.finditer(text):
        name = found["call"] or found["word"]
        if name and (found["word"] or name.lower() not in _KNOWN):
            raise Refused(
                f"{name} is not known to be the same on MySQL and MariaDB.",
                "Write the condition without it, or use ‹dialect› mariadb for a MariaDB server.",
            )


def opened_once(tree: exp.Expr, named: Callable[[str], str]) -> tuple[exp.Expr, list[str]]:
    """Return a statement in which each key table stands once, and those that make the copies.

    Args:
        named: returns what a script calls a key table.
    """
    changed = tree.copy()
    making = []
    seen: Counter[str] = Counter()
    for table in key_tables_in(changed):
        name = table.name
        seen[name] += 1
        if seen[name] > 1:
            copy = f"{name}_again{seen[name]}"
            making.append(f"DROP TEMPORARY TABLE IF EXISTS {named(copy)}")
            making.append(f"CREATE TEMPORARY TABLE {named(copy)} AS SELECT * FROM {named(name)}")
            table.set("db", None)
            table.set("this", exp.to_identifier(copy))
            if not table.alias:
                table.set("alias", exp.TableAlias(this=exp.to_identifier(name)))
    return changed, making

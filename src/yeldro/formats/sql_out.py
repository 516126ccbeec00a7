"""Writing a cleanup as a SQL script that checks every count, for each database system.

The script has what a run would execute (`execution.script`): the temporary key tables, the steps,
children first, and the proofs. After each statement its count is compared; any other count than the
planned one stops the script and rolls everything back.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

import sqlglot
from sqlglot import exp
from sqlglot.errors import ErrorLevel, SqlglotError

from yeldro.core.execution.run import check_plans
from yeldro.core.execution.script import ScriptStatements, literal_check, script_statements
from yeldro.core.model.errors import Fault, Refused, UnknownName
from yeldro.core.model.expectation import RowRange
from yeldro.core.model.names import one_line
from yeldro.core.planning.job import Job, JobPlan, rows_by_table, what_follows
from yeldro.formats.frames import (
    Frame,
    MariadbFrame,
    OracleFrame,
    PostgresqlFrame,
    SqliteFrame,
    SqlServerFrame,
)

if TYPE_CHECKING:
    from yeldro.core.database.protocol import Database
    from yeldro.core.model.steps import Step

_KEY_TABLE = re.compile(r'("temp"\.|pg_temp\.)?yeldro_keys_(\d+)')
# Literals and quoted names, in which nothing is replaced, except the name "temp" before a dot.
_STANDARD = r"""'(?:[^']|'')*'|"(?!temp"\.)(?:[^"]|"")*\""""
_QUOTED = {
    "sqlite": _STANDARD,
    "postgres": r"[eE]'(?:[^'\\]|''|\\.)*'|" + _STANDARD,
    "mariadb": r"""'(?:[^'\\]|''|\\.)*'|"(?:[^"\\]|""|\\.)*"|`(?:[^`]|``)*`""",
}
_PLAIN = re.compile(r"[a-z_][a-z0-9_]*")
# fmt: off
_RESERVED = frozenset({
    "access", "add", "all", "alter", "and", "any", "as", "asc", "audit", "between", "by", "case",
    "cast", "check", "close", "cluster", "column", "comment", "compress", "connect", "create",
    "current", "date", "decimal", "default", "delete", "desc", "distinct", "drop", "else", "end",
    "exclusive", "exec", "exists", "external", "file", "float", "for", "from", "full", "function",
    "grant", "group", "having", "identified", "identity", "immediate", "in", "increment", "index",
    "initial", "inner", "insert", "integer", "intersect", "into", "is", "join", "key", "kill",
    "left", "level", "like", "lock", "long", "maxextents", "merge", "minus", "mlslabel", "mode",
    "modify", "national", "noaudit", "nocompress", "not", "nowait", "null", "number", "of", "off",
    "offline", "on", "online", "open", "option", "or", "order", "outer", "over", "pctfree",
    "percent", "pivot", "plan", "primary", "prior", "proc", "public", "raw", "read", "references",
    "rename", "resource", "return", "revoke", "right", "row", "rowid", "rownum", "rows", "rule",
    "save", "schema", "select", "session", "set", "share", "size", "smallint", "start",
    "statistics", "successful", "synonym", "sysdate", "system", "table", "textsize", "then", "to",
    "top", "tran", "transaction", "trigger", "uid", "union", "unique", "update", "use", "user",
    "validate", "values", "varchar", "varchar2", "view", "waitfor", "whenever", "where", "while",
    "with",
})
# fmt: on


# Functions that mean the same on every system, and operators of single systems.
_EVERYWHERE = (
    exp.And, exp.Or, exp.Exists, exp.Case, exp.If, exp.Cast, exp.Coalesce, exp.Count, exp.Min,
    exp.Max, exp.Sum, exp.Lower, exp.Upper, exp.Trim, exp.RowNumber, exp.FirstValue,
)  # fmt: skip
_PRIVATE = "yeldro_without_case("
_OWN_OPERATORS = (exp.Glob, exp.RegexpLike, exp.ILike, exp.SimilarTo)


@dataclass(frozen=True)
class _Target:
    """A system that a script can be written for.

    Args:
        dialect: the parser's name for its SQL.
        own: the dialect of the databases whose statements are used as they are.
        opens_once: a statement may name a temporary table once only (MySQL's error 1137).
    """

    frame: Frame
    dialect: str
    own: str = ""
    opens_once: bool = False


FRAMES = {
    "sqlite": _Target(SqliteFrame(), "sqlite", "sqlite"),
    "postgresql": _Target(PostgresqlFrame(), "postgres", "postgres"),
    "mariadb": _Target(MariadbFrame(), "mysql", "mariadb"),
    "mysql": _Target(MariadbFrame(), "mysql", "mariadb", opens_once=True),
    "sqlserver": _Target(SqlServerFrame(), "tsql"),
    "oracle": _Target(OracleFrame(), "oracle"),
}


def script(database: Database, job: Job, name: str | None) -> str:
    """Return the job as a SQL script.

    Args:
        name: one of `FRAMES`, None for the database's own system.

    Raises:
        UsageError: the dialect is not known.
        Refused: a plan is blocked, or cannot be written for that system.
    """
    with database.reading() as session:
        source = session.traits.sql_dialect
        checks = [(literal_check(session, each), each) for each in job.after]
    if name is not None and name not in FRAMES:
        raise UnknownName(f"There is no dialect {name!r}.", name, FRAMES)
    target = FRAMES[name] if name else next(t for t in FRAMES.values() if t.own == source)
    own = target.own == source
    written: list[ScriptStatements] = []
    for cleanup in job.cleanups:
        before = sum(len(each.steps) for each in written)
        enforces = target.frame.enforces
        written.append(script_statements(database, cleanup, before, own=own, enforces=enforces))
    plans = tuple(each.plan for each in written)
    follows = what_follows(plans)
    if any(follows):
        raise Refused(
            "A later remove reads what an earlier one changes, so its count is not known before "
            "that is done.",
            "Write and run one script after the other.",
        )
    check_plans(JobPlan(job.title, plans, follows), job)
    if not any(plan.total for plan in plans) and not checks:
        raise Refused(
            "No row matches, so a script would do nothing, and check nothing.",
            "Look at the rows with 'yeldro preview'.",
        )
    _check_can_be_written(target, written, own)
    writing = _Writing(target, source, own)
    lines = [*_head(target.frame, job, database.shown, written), *target.frame.begin]
    if any(each.deferred for each in written):
        lines.append(target.frame.deferred)
    for place, each in enumerate(written, 1):
        lines += writing.write(place, each)
    for query, check in checks:
        what = f"{check.about or check.query} (expected {check.expected})"
        lines += ["", f"-- {one_line(what)}"]
        lines += target.frame.ask(writing.statement(query, 0), check.expected, what)
    count = sum(len(each.steps) + len(each.proofs) for each in written) + len(checks)
    return "\n".join([*lines, "", *target.frame.end(count)]) + "\n"


def _check_can_be_written(target: _Target, written: Sequence[ScriptStatements], own: bool) -> None:
    for each in written:
        if any(_PRIVATE in text for text in (*each.sets, *(text for _, text in each.steps))):
            raise Refused(
                f"Text of {each.plan.table} is compared without case by a function of Yeldro's "
                f"own, which no other program has.",
                "Use 'yeldro run', or drop ‹ignore_case›.",
            )
        if not own and not each.has_keys:
            raise Refused(
                f"{each.plan.table}, or a table that depends on it, has no key, and nothing else "
                f"identifies its rows on {target.frame.name}.",
                "Give it a key, or write the script for this database's own system.",
            )
        if each.deferred and not target.frame.deferred:
            raise Refused(
                f"The order needs foreign keys that are checked at the commit, and "
                f"{target.frame.name} has none.",
                "Let one column of the cycle accept NULL.",
            )


def _head(frame: Frame, job: Job, shown: str, written: Sequence[ScriptStatements]) -> Iterator[str]:
    """Return what the script is for, as comments."""
    counts = rows_by_table([each.plan for each in written])
    listed = ", ".join(f"{name} {rows:,}" for name, rows in counts.items()) or "none"
    yield f"-- {one_line(job.title)}"
    yield f"-- For {frame.name} {frame.since} or newer: {frame.call}"
    yield f"-- Counted on {one_line(shown)}."
    yield f"-- Rows that go or change: {one_line(listed)}."
    yield "-- Any other count stops the script, and everything is rolled back."


class _Writing:
    """Writes the statements of a cleanup for one system."""

    def __init__(self, target: _Target, source: str, own: bool) -> None:
        self.target = target
        self.source = source
        self.own = own

    def write(self, place: int, cleanup: ScriptStatements) -> Iterator[str]:
        frame = self.target.frame
        sets = cleanup.sets if self.own else tuple(map(self._insert_first, cleanup.sets))
        for statement in self._set_up(sets, place):
            yield ""
            yield from frame.set_up(statement)
        for step, statement in cleanup.steps:
            what = _what(step)
            yield ""
            yield f"-- {one_line(what)}, {_rows(step.rows)}; {one_line(step.because)}"
            yield from frame.step(self.statement(statement, place), step.rows, what)
        for proof in cleanup.proofs:
            yield ""
            yield f"-- There must be no {one_line(proof.about)}"
            query = self.statement(proof.query, place)
            yield from frame.ask(query, RowRange(0, 0), f"there are {proof.about}")

    def statement(self, text: str, place: int) -> str:
        """Return a statement as the script has it."""
        if self.target.opens_once:
            self._check_opened_once(text)
        if self.own:
            return self._renamed(text, place)
        return self._sql(self._translated(self._parsed(text), place))

    def _check_opened_once(self, text: str) -> None:
        """Refuse a statement that names a key table twice."""
        names = [each.name for each in self._parsed(text).find_all(exp.Table)]
        if any(names.count(name) > 1 for name in names if _KEY_TABLE.fullmatch(name)):
            raise Refused(
                "A statement needs a temporary table twice, and MySQL opens it once only.",
                "Use 'yeldro run', or ‹dialect› mariadb for a MariaDB server.",
            )

    def _renamed(self, text: str, place: int) -> str:
        """Return the database's own statement with the script's names of key tables."""
        either = re.compile(f"(?P<quoted>{_QUOTED[self.source]})|{_KEY_TABLE.pattern}", re.DOTALL)

        def rename(found: re.Match[str]) -> str:
            if found["quoted"] is not None:
                return found[0]
            return f"{found[2] or ''}yeldro_{place}_{found[3]}"

        return either.sub(rename, text)

    def _set_up(self, sets: Sequence[str], place: int) -> Iterator[str]:
        """Yield the statements that make and fill the key tables.

        For another system a table is made just before it is first used, with the types of the
        values that go into it.
        """
        if self.own:
            for text in sets:
                yield self.statement(text, place)
            return
        waiting = {_key_table_in(each): each for each in sets if each.startswith("CREATE TEMP")}
        for text in sets:
            if text.startswith("INSERT"):
                for name in _key_tables_in(text):
                    yield from self._made(name, waiting, place, sets)
                yield self._sql(self._translated(self._parsed(text), place))
            elif text.startswith(("UPDATE", "DELETE")) and _key_table_in(text) not in waiting:
                yield self._sql(self._translated(self._parsed(text), place))
        for name in list(waiting):
            yield from self._made(name, waiting, place, sets)

    def _insert_first(self, text: str) -> str:
        """Return `WITH … INSERT INTO …` as `INSERT INTO … WITH …`, which more systems take.

        Raises:
            Refused: the system has no recursion of this form.
        """
        if not text.startswith("WITH "):
            return text
        if self.target.dialect in ("tsql", "oracle"):
            raise Refused(
                f"A table that references itself is followed by a recursion that "
                f"{self.target.frame.name} does not have.",
                "Use 'yeldro run', or write the script for this database's own system.",
            )
        insert = self._parsed(text)
        with_ = insert.args["with_"]
        insert.set("with_", None)
        insert.expression.set("with_", with_)
        return insert.sql(dialect=self.source)

    def _made(
        self, name: str, waiting: dict[str, str], place: int, sets: Sequence[str]
    ) -> Iterator[str]:
        """Yield the statements that make a key table, after those its types come from."""
        text = waiting.pop(name, None)
        if text is None:
            return
        table = self._name(name, place)
        filled = self._first_filled(name, sets)
        temporary = {"tsql": "CREATE TABLE", "oracle": "CREATE PRIVATE TEMPORARY TABLE"}
        create = f"{temporary.get(self.target.dialect, 'CREATE TEMPORARY TABLE')} {table}"
        if filled is None:  # it remains empty
            declared = re.findall(r"[\"`]([^\"`]+)[\"`] (\w+)", text)
            text_type = "VARCHAR(255)"
            if self.target.dialect == "tsql":
                text_type += " COLLATE DATABASE_DEFAULT"
                yield f"DROP TABLE IF EXISTS {table}"
            types = {each: "INTEGER" if "int" in kind.lower() else text_type
                     for each, kind in declared}  # fmt: skip
            yield f"{create} ({', '.join(f'{each} {kind}' for each, kind in types.items())})"
            return
        for other in _key_tables_in(filled[1].sql()):
            yield from self._made(other, waiting, place, sets)
        names, query = filled
        inner = self._sql(self._translated(query, place))
        listed = ", ".join(self._sql(self._translated(exp.column(each), place)) for each in names)
        if self.target.dialect == "tsql":
            yield f"DROP TABLE IF EXISTS {table}"
            # The second half of the union strips the identity property from the columns.
            empty = f"FROM ({inner}) AS yeldro_first ({listed}) WHERE 1 = 0"
            yield f"SELECT {listed} INTO {table} {empty} UNION ALL SELECT {listed} {empty}"
            return
        when = " ON COMMIT DROP DEFINITION" if self.target.dialect == "oracle" else ""
        yield (
            f"{create}{when} AS WITH yeldro_first ({listed}) AS ({inner}) "
            f"SELECT {listed} FROM yeldro_first WHERE 1 = 0"
        )

    def _first_filled(self, name: str, sets: Sequence[str]) -> tuple[list[str], exp.Expr] | None:
        """Return the columns of a key table and the query, with its types, that first fills it."""
        for text in sets:
            if not text.startswith("INSERT") or _key_table_in(text) != name:
                continue
            insert = self._parsed(text)
            names = [each.name for each in insert.this.expressions]
            query = insert.expression.copy()
            if query.args.get("with_"):  # a recursion, which begins with the rows of another
                seeds = next(each for each in _key_tables_in(text) if each != name)
                earlier = self._first_filled(seeds, sets)
                return earlier and (names, earlier[1])
            if not isinstance(query, exp.Select):
                return names, query
            for part in ("where", "distinct", "order"):
                query.set(part, None)
            source = query.args["from_"].this
            if isinstance(source, exp.Table) and _KEY_TABLE.fullmatch(source.name):
                earlier = self._first_filled(source.name, sets)
                return earlier and (names, earlier[1])
            return names, query
        return None

    def _parsed(self, text: str) -> exp.Expr:
        return sqlglot.parse_one(text, read=self.source)

    def _sql(self, tree: exp.Expr) -> str:
        try:
            return tree.sql(
                dialect=self.target.dialect, unsupported_level=ErrorLevel.RAISE, comments=False
            )
        except SqlglotError as error:
            raise Refused(
                f"A statement cannot be written for {self.target.frame.name}: {error}.",
                "Write the script for this database's own system.",
            ) from error

    def _translated(self, tree: exp.Expr, place: int) -> exp.Expr:
        """Compare rows one column at a time and spell names the target's way."""
        changed = tree.transform(_row_by_row)
        for call in changed.find_all(exp.Func, *_OWN_OPERATORS):
            if not isinstance(call, _EVERYWHERE):
                raise Refused(
                    f"{call.sql(self.source)} is {self.source}'s own, and the same on "
                    f"{self.target.frame.name} is not known.",
                    "Write the condition without it, or the script for this database's own system.",
                )
        if self.target.dialect == "oracle":
            _for_oracle(changed)
        for node in changed.find_all(exp.Table, exp.Column):
            if node.args.get("db") and node.text("db") in ("temp", "pg_temp"):
                node.set("db", None)
        for identifier in changed.find_all(exp.Identifier):
            found = _KEY_TABLE.fullmatch(identifier.name)
            if found:
                identifier.set("this", self._name(identifier.name, place))
                identifier.set("quoted", False)
            elif _PLAIN.fullmatch(identifier.name):
                reserved = identifier.name in _RESERVED
                identifier.set("quoted", reserved)
                if reserved and self.target.dialect == "oracle":
                    identifier.set("this", identifier.name.upper())
        return changed

    def _name(self, key_table: str, place: int) -> str:
        number = key_table.rpartition("_")[2]
        mark = "#" if self.target.dialect == "tsql" else "ORA$PTT_"
        if self.target.dialect not in ("tsql", "oracle"):
            mark = ""
        return f"{mark}yeldro_{place}_{number}"


def _for_oracle(tree: exp.Expr) -> None:
    """Name DUAL where nothing is selected from, and shorten texts that cannot be compared there."""
    for query in tree.find_all(exp.Select):
        if not query.args.get("from_"):
            query.set("from_", exp.From(this=exp.to_table("DUAL")))
    for cast in tree.find_all(exp.Cast):
        if cast.to.is_type("text"):
            cast.set("to", exp.DataType.build("VARCHAR(4000)"))


def _key_table_in(text: str) -> str:
    """Return the first key table that a statement names: the one it makes or fills."""
    found = _KEY_TABLE.search(text)
    if found is None:
        raise Fault("a statement names no key table")
    return f"yeldro_keys_{found[2]}"


def _key_tables_in(text: str) -> list[str]:
    return [f"yeldro_keys_{found[2]}" for found in _KEY_TABLE.finditer(text)]


def _row_by_row(node: exp.Expr) -> exp.Expr:
    """Turn `(a, b) IN (SELECT x, y …)` into EXISTS, where a system compares single values only."""
    if not isinstance(node, exp.In) or not isinstance(node.this.unnest(), exp.Tuple):
        return node
    query = node.args.get("query")
    inner = query.unnest() if query is not None else None
    if not isinstance(inner, exp.Select):
        return node
    values = node.this.unnest().expressions
    found = inner.copy()
    names = []
    for place, each in enumerate(found.expressions):
        names.append(f"yeldro_c{place}")
        each.replace(exp.alias_(each.unalias().copy(), names[-1]))
    pairs = [
        exp.EQ(this=exp.column(name, table="yeldro_row"), expression=value.copy())
        for name, value in zip(names, values, strict=True)
    ]
    one = exp.select("1").from_(found.subquery("yeldro_row")).where(exp.and_(*pairs))
    return exp.Exists(this=one)


def _rows(number: int) -> str:
    return "1 row" if number == 1 else f"{number:,} rows"


def _what(step: Step) -> str:
    return f"step {step.n}: {step.action} {step.table}"

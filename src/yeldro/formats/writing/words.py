"""Names and values as each system's SQL has them, for scripts that name rows by their keys.

Only what every setting of a system reads in the same way is written: whole numbers, texts, days,
moments without a zone, and bytes; as new values of columns also decimals and truth values.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import date, datetime
from decimal import Decimal
from itertools import groupby
from typing import TYPE_CHECKING, ClassVar

from yeldro.core.model.messages.errors import Refused

if TYPE_CHECKING:
    from yeldro.core.model.tables.schema import TableName

Value = None | bool | int | Decimal | str | date | datetime | bytes
_REGULAR = re.compile(r"[A-Za-z_][A-Za-z0-9_]*")
_LONGEST_TEXT = 4000  # bytes of a literal in Oracle's SQL
_PIECE = 300  # characters of one literal, so that lines can be broken between them


class Words:
    """How one system writes names and values; the standard's way where a system has no other."""

    system: ClassVar[str]
    folds: ClassVar[str] = ""  # the case of names without quotes: `upper`, `lower`, or kept
    most_values: ClassVar[int] = 400  # that one statement compares
    either: ClassVar[str] = "\n OR "

    def folded(self, name: str) -> str:
        """Return a name as the system has it if it was declared without quotes."""
        if not _REGULAR.fullmatch(name) or not self.folds:
            return name
        return name.upper() if self.folds == "upper" else name.lower()

    def name(self, name: str) -> str:
        """Return a name in quotes."""
        return '"' + name.replace('"', '""') + '"'

    def value(self, value: Value) -> str:
        """Return a value as a literal."""
        if value is None:
            return "NULL"
        if isinstance(value, bool):
            return self.truth(value)
        if isinstance(value, int | Decimal):
            return f"{value:f}" if isinstance(value, Decimal) else str(value)
        if isinstance(value, str):
            return self.text(value)
        if isinstance(value, datetime):
            return self.moment(value)
        return self.day(value) if isinstance(value, date) else self.bytes(value)

    def truth(self, value: bool) -> str:
        return str(int(value))

    def text(self, value: str) -> str:
        return "'" + value.replace("'", "''") + "'"

    def day(self, value: date) -> str:
        return f"DATE '{value.isoformat()}'"

    def moment(self, value: datetime) -> str:
        return f"TIMESTAMP '{value.isoformat(' ')}'"

    def bytes(self, value: bytes) -> str:
        return f"X'{value.hex()}'"

    def refuse(self, problem: str) -> Refused:
        return Refused(
            f"For {self.system} a script {problem}.",
            "Leave those rows out, or run the cleanup where Yeldro reaches the database.",
        )


class SqliteWords(Words):
    system = "SQLite"

    def text(self, value: str) -> str:
        if "\0" in value:
            raise self.refuse("holds a text with a character of number zero, which ends it there")
        return super().text(value)

    def day(self, value: date) -> str:
        return f"'{value.isoformat()}'"

    def moment(self, value: datetime) -> str:
        return f"'{value.isoformat(' ')}'"


class PostgresqlWords(Words):
    system = "PostgreSQL"
    folds = "lower"

    def truth(self, value: bool) -> str:
        return "TRUE" if value else "FALSE"

    def text(self, value: str) -> str:
        if "\0" in value:
            raise self.refuse("holds a text with a character of number zero, which none has there")
        return super().text(value)

    def bytes(self, value: bytes) -> str:
        return rf"'\x{value.hex()}'::bytea"


class MariadbWords(Words):
    system = "MariaDB"

    def name(self, name: str) -> str:
        return "`" + name.replace("`", "``") + "`"

    def text(self, value: str) -> str:
        return super().text(value.replace("\\", "\\\\").replace("\0", "\\0"))


class MysqlWords(MariadbWords):
    system = "MySQL"


class SqlServerWords(Words):
    system = "SQL Server"

    def name(self, name: str) -> str:
        return f"[{name.replace(']', ']]')}]"

    def text(self, value: str) -> str:
        """Return a text of ASCII alone, in which no client sees the end of a batch.

        What is not ASCII stands as its UTF-16 code units, so that the file needs no mark of its
        encoding (NCHAR, Transact-SQL reference).
        """
        pieces = []
        for visible, run in groupby(value, lambda each: " " <= each <= "~"):
            text = "".join(run)
            written = super().text(text)
            pieces += [f"N{written}"] if visible else [f"NCHAR({unit})" for unit in _units(text)]
        return pieces[0] if len(pieces) == 1 else f"({' + '.join(pieces)})" if pieces else "N''"

    def day(self, value: date) -> str:
        return f"CAST('{value.isoformat()}' AS date)"

    def moment(self, value: datetime) -> str:
        return f"CAST('{value.isoformat()}' AS datetime2)"

    def bytes(self, value: bytes) -> str:
        return f"0x{value.hex()}"


class OracleWords(Words):
    system = "Oracle"
    folds = "upper"

    def name(self, name: str) -> str:
        if '"' in name:
            raise self.refuse(f"has the name {name}, and names have no double quotes there")
        return f'"{name}"'

    def text(self, value: str) -> str:
        """Return a text for a client that knows one character set and ends statements by lines."""
        if not value:
            raise self.refuse("holds an empty text, which is NULL there")
        if len(value.encode()) > _LONGEST_TEXT:
            raise self.refuse(f"holds a text of {len(value):,} characters, and a literal has at "
                              f"most {_LONGEST_TEXT:,} bytes there")  # fmt: skip
        if all(" " <= each <= "~" for each in value):
            pieces = [super(OracleWords, self).text(value[at : at + _PIECE])
                      for at in range(0, len(value), _PIECE)]  # fmt: skip
        else:
            coded = [_code(each) for each in value]
            step = _PIECE // 5
            pieces = [f"UNISTR('{''.join(coded[at : at + step])}')"
                      for at in range(0, len(coded), step)]  # fmt: skip
        return pieces[0] if len(pieces) == 1 else f"({' || '.join(pieces)})"

    def bytes(self, value: bytes) -> str:
        if len(value) > _LONGEST_TEXT // 2:
            raise self.refuse(f"holds {len(value):,} bytes, and a literal has at most 2,000 there")
        return f"HEXTORAW('{value.hex()}')"


class AccessWords(Words):
    system = "Access"
    most_values = 90  # a WHERE clause has at most 99 ANDs (Access specifications)
    either = " OR "

    def name(self, name: str) -> str:
        if set("[]!.`\"'") & set(name):
            raise self.refuse(f"has the name {name}, and names have no such signs there")
        return f"[{name}]"

    def truth(self, value: bool) -> str:
        return "True" if value else "False"

    def text(self, value: str) -> str:
        if len(value) > 255:
            raise self.refuse(f"holds a text of {len(value):,} characters, and a key has at most "
                              f"255 there")  # fmt: skip
        return super().text(value)

    def day(self, value: date) -> str:
        return f"#{value.isoformat()}#"

    def moment(self, value: datetime) -> str:
        if value.microsecond:
            raise self.refuse("holds a moment with parts of a second, which no literal has there")
        return f"#{value.isoformat(' ')}#"

    def bytes(self, value: bytes) -> str:
        raise self.refuse(f"holds {len(value):,} bytes, for which there is no literal there")


@dataclass(frozen=True)
class Names:
    """The names of one database in the words of another system.

    Args:
        as_declared: both are of one system, so names differ in nothing.
        lowered: names without quotes are lower case in the database; any other name was declared
            in quotes there, and is not folded.
    """

    words: Words
    as_declared: bool
    lowered: bool = False

    def check_tables(self, meant: Iterable[TableName], known: Iterable[TableName]) -> None:
        """Refuse tables whose names are those of others in the other system.

        Raises:
            Refused: there are two such tables.
        """
        by_name: dict[tuple[str | None, str], set[TableName]] = {}
        for each in known:
            by_name.setdefault((each.schema, self.folded(each.name)), set()).add(each)
        for each in meant:
            same = by_name.get((each.schema, self.folded(each.name)), set()) - {each}
            if same:
                raise self.words.refuse(
                    f"cannot tell {each} and {min(same)} apart, whose names are the same there"
                )

    def written(self, *parts: str | None) -> str:
        """Return a name of several parts in quotes, such as schema, table and column.

        Raises:
            Refused: the system has no such name.
        """
        return ".".join(self.words.name(self.folded(part)) for part in parts if part)

    def folded(self, name: str) -> str:
        """Return a name as it is in the other system's catalogue."""
        if self.as_declared:
            return name
        if not name.isprintable():
            raise self.words.refuse(f"has a name with characters that cannot be seen ({name!r})")
        in_quotes = self.lowered and name != name.lower()
        return name if in_quotes else self.words.folded(name)


def _units(text: str) -> list[int]:
    """Return the UTF-16 code units of a text."""
    coded = text.encode("utf-16-le")
    return [int.from_bytes(coded[at : at + 2], "little") for at in range(0, len(coded), 2)]


def _code(each: str) -> str:
    if " " <= each <= "~" and each != "\\":
        return each.replace("'", "''")
    return "".join(f"\\{unit:04x}" for unit in _units(each))

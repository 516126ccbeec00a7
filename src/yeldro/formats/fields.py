"""The fields of a cleanup, in one table for options, programs, files and schemas.

A field has one name everywhere: `--missing-in` on the command line is `missing_in` in a file and in
a program. `formats.cleanup_values` turns the values of these fields into a cleanup and back.
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from yeldro.core.model.messages.options import spelled

FORMAT = 1
PARAM_TYPES = ("text", "integer", "number", "date", "datetime", "boolean")


@dataclass(frozen=True)
class Field:
    """One field.

    Args:
        kind: what its value is, one of `KINDS`.
        about: what it is for, as a sentence.
        metavar: what an option's help calls its value.
        choices: the only values it may have, if they are few.
    """

    name: str
    kind: str
    about: str
    metavar: str = ""
    required: bool = False
    choices: tuple[str, ...] = ()

    @property
    def option(self) -> str:
        """The name of the option: `--missing-in`."""
        return spelled(self.name)


KINDS = {
    "text": "text in quotes",
    "texts": "a list of texts, or one text",
    "columns": "a list of names, or one text with commas",
    "compared": "a list of names and expressions, or one text with commas",
    "flag": "true or false",
    "count": "a whole number from 0 up",
    "number": "a number from 0 up",
    "rows": 'a number of rows, or a range in quotes such as "1..50"',
    "rows by table": "a table of row counts, such as { reading = 12 }",
    "value": "a single value",
    "table": "a table",
    "tables": "an array of tables",
}

DECISIONS = Field(
    "decisions", "text", "Duplicates: the rows that a person decided in the review that "
    "'yeldro duplicates' wrote.", "FILE"
)  # fmt: skip
EQUALITY = (
    Field("ignore_case", "flag", "Duplicates: compare text without case."),
    Field("trim", "flag", "Duplicates: compare text without outer spaces."),
    Field("null_distinct", "flag", "Duplicates: NULL is equal to nothing."),
    Field("as_text", "flag", "Duplicates: compare types without equality by their text."),
)
DUPLICATES_BY = Field(
    "duplicates_by", "compared", "Surplus rows of each group that is equal on these columns, or "
    "expressions such as lower(trim(name)); groups are formed over the whole table, and one row of "
    "each stays. A name with a comma stands in double quotes.", "COLS"
)  # fmt: skip
KEEP = Field(
    "keep", "texts", "Which row of a group stays: lowest:COL, highest:COL, fullest, referenced, "
    "order:LIST; later rules break ties.", "RULE"
)  # fmt: skip
SELECTION = (
    Field(
        "where", "text", "Rows for which this SQL condition is true; :name stands for a parameter.",
        "SQL"
    ),
    Field(
        "matching", "texts", "Rows that match a row of OTHER: by the foreign key between them, or "
        "column a here equal to b there.", "OTHER[:a=b,…]"
    ),
    Field("missing_in", "texts", "Rows that match no row of OTHER.", "OTHER[:a=b,…]"),
    Field(
        "orphans", "text", "Rows that have no parent row: FOREIGN_KEY is a column, or "
        "child.column.", "FOREIGN_KEY"
    ),
    DUPLICATES_BY,
    KEEP,
    *EQUALITY,
    DECISIONS,
    Field("order_by", "text", "The order in which a limit takes rows, as in SQL.", "LIST"),
    Field("limit", "count", "Only the first N rows in that order.", "N"),
    Field("all_rows", "flag", "Every row of the table; needed if nothing else chooses rows."),
    Field("only_table", "flag", "Without the rows of tables that inherit from it."),
)  # fmt: skip
DEPENDENTS = (
    Field(
        "repoint", "flag", "Duplicates: move dependent rows to the row that stays. Those that "
        "would break a unique key of their own table block, or go if --follow names them."
    ),
    Field(
        "follow", "texts", "Remove dependent rows too: NAME is a table, child.column, or all.",
        "NAME"
    ),
    Field(
        "detach", "texts", "Set the columns of dependent rows to NULL: NAME is a table, "
        "child.column, or all.", "NAME"
    ),
)  # fmt: skip
ALLOW_TRIGGER = Field(
    "allow_trigger", "texts", "Accept the other rows that this trigger changes.", "NAME"
)
NO_WAY_BACK = Field(
    "no_way_back", "texts", "Accept that rows removed from TABLE, which has no transactions, "
    "cannot be rolled back.", "TABLE"
)  # fmt: skip
ADD_CONSTRAINT = Field(
    "add_constraint", "flag", "Duplicates: add the constraint that keeps new ones out."
)
FILL = (
    Field(
        "fill", "columns", "Duplicates: the row that stays takes what it lacks in these columns "
        "from those that go, in the order of the keep rules; all: in every column but keys.",
        "COLS|all"
    ),
    Field("fill_empty", "flag", "With fill: empty text is lacking too, as NULL is."),
    Field(
        "fill_first", "flag", "With fill: where the rows that go disagree, the first gives the "
        "value."
    ),
)  # fmt: skip
EMPTYING = (
    Field("truncate", "flag", "All rows: empty the table by the system's TRUNCATE."),
    Field(
        "keep_survivors", "flag", "Set the rows that stay aside, empty the table, and write them "
        "back: quicker where most rows go."
    ),
    Field(
        "by_partition", "flag", "Empty a partition at once where all of its rows go."
    ),
)  # fmt: skip

CLEANUP = {
    field.name: field
    for field in (
        *SELECTION,
        *DEPENDENTS,
        *FILL,
        ALLOW_TRIGGER,
        NO_WAY_BACK,
        ADD_CONSTRAINT,
        *EMPTYING,
    )
}

BATCHES = (
    Field(
        "batch", "count", "Commit after every N matched rows, each time with all rows that depend "
        "on them.", "N"
    ),
    Field("pause", "number", "Wait between two batches.", "SECONDS"),
    Field(
        "batch_seconds", "number", "Choose the batch size so that no batch holds its locks longer "
        "than this.", "SECONDS"
    ),
)  # fmt: skip
LOCK_WAIT = Field(
    "lock_wait", "number", "How long to wait for other programs' locks. Default: 10.", "SECONDS"
)
TIME_LIMIT = Field(
    "time_limit", "number", "Stop any statement that takes longer, and roll everything back.",
    "SECONDS"
)  # fmt: skip
WITHOUT_ROWS = Field("without_rows", "flag", "A receipt with counts and no row contents.")
COPY_TO = Field(
    "copy_to", "text", "Keep copies of the rows as tables of the same database, not in the "
    "receipt.", "SCHEMA.|PREFIX_"
)  # fmt: skip

TOP = (
    Field("title", "text", "What the cleanup is for, in one line."),
    Field("format", "count", "The version of this format: 1, which is also the default."),
    Field("param", "table", "Values that differ from one run to the next."),
    Field("remove", "tables", "The removals, in this order, in one transaction.", required=True),
    Field("after", "tables", "Checks that must hold at the end; else everything is rolled back."),
    Field("expect_total", "rows", "How many rows must go or change in all removes together."),
    Field("options", "table", "Defaults for the options of the command line."),
)
PARAM = (
    Field("type", "text", "The type of its values.", required=True, choices=PARAM_TYPES),
    Field("about", "text", "What it means, for the person who is asked for it."),
    Field("default", "value", "Its value if none is given."),
)
EXPECTED = (
    Field("expect", "rows", "How many rows must match."),
    Field("expect_in", "rows by table", "How many rows of other tables must go or change."),
    Field("expect_total", "rows", "How many rows must go or change in all tables."),
)
REMOVE = (
    Field("about", "text", "What these rows are, in one line."),
    Field("from", "text", "The table, or a view over one table.", required=True),
    *CLEANUP.values(),
    *EXPECTED,
)
AFTER = (
    Field("about", "text", "What it ensures, as a sentence."),
    Field("query", "text", "A query that gives one number.", required=True),
    Field("expect", "rows", "The numbers it may give.", required=True),
)
OPTIONS = (
    Field("db", "text", "The database: a URL, a path, or a name from yeldro.toml."),
    LOCK_WAIT,
    TIME_LIMIT,
    *BATCHES,
    Field("receipts", "text", "The folder for receipts."),
    WITHOUT_ROWS,
    COPY_TO,
)

_ROWS = {
    "oneOf": [
        {"type": "integer", "minimum": 0},
        {"type": "string", "pattern": r"^\s*(\d[\d_]*|\d[\d_]*\.\.(\d[\d_]*)?|\.\.\d[\d_]*)\s*$"},
    ]
}
_SCHEMAS: dict[str, dict[str, Any]] = {
    "text": {"type": "string"},
    "texts": {"oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
    "columns": {"oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
    "compared": {"oneOf": [{"type": "string"}, {"type": "array", "items": {"type": "string"}}]},
    "flag": {"type": "boolean"},
    "count": {"type": "integer", "minimum": 0},
    "number": {"type": "number", "minimum": 0},
    "rows": _ROWS,
    "rows by table": {"type": "object", "additionalProperties": _ROWS},
    "value": {"type": ["string", "boolean", "number"]},
}


def json_schema() -> dict[str, Any]:
    """Return the format of cleanup files as a JSON Schema (2020-12), for editors."""
    top = _object(TOP)
    top["properties"] |= {
        "param": {"type": "object", "additionalProperties": _object(PARAM)},
        "remove": {"type": "array", "minItems": 1, "items": _object(REMOVE)},
        "after": {"type": "array", "items": _object(AFTER)},
        "options": _object(OPTIONS),
    }
    for field in TOP:
        top["properties"][field.name]["description"] = field.about
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Yeldro cleanup file",
        **top,
    }


def _object(fields: tuple[Field, ...]) -> dict[str, Any]:
    properties = {}
    for field in fields:
        properties[field.name] = {"description": field.about, **_SCHEMAS.get(field.kind, {})}
        if field.choices:
            properties[field.name]["enum"] = list(field.choices)
    return {
        "type": "object",
        "additionalProperties": False,
        "required": [field.name for field in fields if field.required],
        "properties": properties,
    }

"""The keys of a cleanup file: one list for the reader, the writer and the JSON Schema."""

from __future__ import annotations

from typing import Any

from yeldro.formats.toml import Key

FORMAT = 1
PARAM_TYPES = ("text", "integer", "number", "date", "datetime", "boolean")

TOP = (
    Key("title", "text", "What the cleanup is for, in one line."),
    Key("format", "count", "The version of this format; 1, and 1 where it is not said."),
    Key("param", "table", "Values that differ from one time to the next."),
    Key("remove", "tables", "What is removed, in this order, in one transaction.", required=True),
    Key("after", "tables", "What must hold when all is done; else everything is rolled back."),
    Key("expect_total", "rows", "How many rows must go or change in all removes together."),
    Key("options", "table", "What the options of the command line say, unless they say otherwise."),
)
PARAM = (
    Key("type", "text", "The type of its values.", required=True, choices=PARAM_TYPES),
    Key("about", "text", "What it means, for the person who is asked for it."),
    Key("default", "value", "Its value where none is given."),
)
REMOVE = (
    Key("about", "text", "What these rows are, in one line."),
    Key("from", "text", "The table, or a view over one table.", required=True),
    Key("where", "text", "A condition in SQL; :name stands for a parameter."),
    Key("matching", "texts", "Tables a row must match in: OTHER, or OTHER:a=b,c=d."),
    Key("missing_in", "texts", "Tables a row must match nothing in."),
    Key("orphans", "text", "A foreign key whose parent row is missing."),
    Key("duplicates_by", "texts", "Columns on which surplus copies are equal."),
    Key("keep", "texts", "Which row of a group stays; later rules break ties."),
    Key("ignore_case", "flag", "Duplicates: compare text without case."),
    Key("trim", "flag", "Duplicates: compare text without outer spaces."),
    Key("null_distinct", "flag", "Duplicates: NULL is equal to nothing."),
    Key("as_text", "flag", "Duplicates: compare by their text what has no equality."),
    Key("order_by", "text", "With limit: the order, as in SQL."),
    Key("limit", "count", "Only the first so many rows in this order."),
    Key("all_rows", "flag", "Every row of the table; must be said."),
    Key("only_table", "flag", "Without the rows of tables that inherit from it."),
    Key("follow", "texts", "Dependent rows to remove too: a table, child.column, or all."),
    Key("detach", "texts", "Dependent rows whose columns become NULL."),
    Key("repoint", "flag", "Duplicates: move dependent rows to the row that stays."),
    Key("expect", "rows", "How many rows must match."),
    Key("expect_in", "rows by table", "How many rows of other tables must go or change."),
    Key("expect_total", "rows", "How many rows must go or change in all tables."),
    Key("allow_trigger", "texts", "Triggers whose own changes are accepted."),
    Key("no_way_back", "texts", "Tables without transactions that may lose rows for good."),
    Key("add_constraint", "flag", "Make the constraint that keeps duplicates out."),
)
AFTER = (
    Key("about", "text", "What it makes sure of, as a sentence."),
    Key("query", "text", "A query that gives one number.", required=True),
    Key("expect", "rows", "The numbers it may give.", required=True),
)
OPTIONS = (
    Key("db", "text", "The database: a URL, a path, or a name from yeldro.toml."),
    Key("lock_wait", "number", "Seconds to wait for other programs' locks."),
    Key("time_limit", "number", "Seconds that one statement may take."),
    Key("batch", "count", "Matched rows of one batch; each batch is committed on its own."),
    Key("pause", "number", "Seconds to wait between two batches."),
    Key("batch_seconds", "number", "How long one batch may hold its locks."),
    Key("receipts", "text", "The folder for receipts."),
    Key("without_rows", "flag", "A receipt with counts and no row contents."),
    Key("copy_to", "text", "SCHEMA. or PREFIX_ of tables that keep copies of the rows."),
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
    "flag": {"type": "boolean"},
    "count": {"type": "integer", "minimum": 0},
    "number": {"type": "number", "minimum": 0},
    "rows": _ROWS,
    "rows by table": {"type": "object", "additionalProperties": _ROWS},
    "value": {"type": ["string", "boolean", "number"]},
}


def json_schema() -> dict[str, Any]:
    """The format as a JSON Schema (2020-12), for editors."""
    top = _object(TOP)
    top["properties"] |= {
        "param": {"type": "object", "additionalProperties": _object(PARAM)},
        "remove": {"type": "array", "minItems": 1, "items": _object(REMOVE)},
        "after": {"type": "array", "items": _object(AFTER)},
        "options": _object(OPTIONS),
    }
    for key in TOP:
        top["properties"][key.name]["description"] = key.about
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Yeldro cleanup file",
        **top,
    }


def _object(keys: tuple[Key, ...]) -> dict[str, Any]:
    properties = {}
    for key in keys:
        properties[key.name] = {"description": key.about, **_SCHEMAS.get(key.kind, {})}
        if key.choices:
            properties[key.name]["enum"] = list(key.choices)
    return {
        "type": "object",
        "additionalProperties": False,
        "required": [key.name for key in keys if key.required],
        "properties": properties,
    }

"""Every JSON document that the program prints in a test is held against its schema."""

from __future__ import annotations

import json
from collections.abc import Sequence
from functools import cache
from pathlib import Path
from typing import Any

from jsonschema import Draft202012Validator
from referencing import Registry, Resource

FOLDER = Path(__file__).parents[1] / "docs" / "json"


def schema_of(words: Sequence[str], document: Any) -> str:
    """Return the name of the schema for the document of a command line."""
    if isinstance(document, dict) and document.keys() == {"error"}:
        return "error"
    if words[0] == "survey":
        if "--config" in words:
            return "settings"
        return "survey" if "tables" in document else "table"
    if words[0] == "duplicates":
        return "duplicates" if "--by" in words else "repeats"
    if words[0] == "receipt":
        return {"list": "receipts", "show": "receipt", "check": "restore"}[words[1]]
    return "run" if words[0] == "rehearse" else words[0]


def check_document(words: Sequence[str], document: Any) -> None:
    """Fail where a document is not as its schema says."""
    _validator(schema_of(words, document)).validate(document)


@cache
def _validator(name: str) -> Draft202012Validator:
    def read(each: str) -> Any:
        return json.loads((FOLDER / each).read_text(encoding="utf-8"))

    parts = "parts.schema.json"
    registry: Registry[Any] = Registry().with_resource(parts, Resource.from_contents(read(parts)))
    return Draft202012Validator(read(f"{name}.schema.json"), registry=registry)

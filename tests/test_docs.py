"""The documents: what is written from the program is current, and no link is dead."""

from __future__ import annotations

import json
import re
import sqlite3
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest

import yeldro
from yeldro.core.model.messages import errors
from yeldro.core.receipts.format import TABLES

REPOSITORY = Path(__file__).parents[1]
SOURCE = Path(yeldro.__file__).parent
PAGES = sorted(
    path.relative_to(REPOSITORY)
    for path in (*REPOSITORY.glob("*.md"), *(REPOSITORY / "docs").rglob("*.md"))
)
LINK = re.compile(r"\]\(([^()\s]+)\)")


def test_the_pages_that_help_shows_are_those_of_the_documents() -> None:
    shown = REPOSITORY / "src" / "yeldro" / "cli" / "topics"
    assert {page.name: page.read_text() for page in shown.iterdir()} == {
        name: (REPOSITORY / "docs" / name).read_text() for name in ("how-to.md", "words.md")
    }


def test_the_reference_and_the_manual_are_what_the_commands_declare() -> None:
    script = REPOSITORY / "docs" / "write_reference.py"
    assert subprocess.run([sys.executable, script, "--check"], check=False).returncode == 0


@pytest.mark.parametrize("page", ["tutorial.md", "how-to.md"])
def test_the_outputs_in_the_documents_are_those_of_the_commands(page: str) -> None:
    words = [sys.executable, REPOSITORY / "docs" / "run_examples.py", "--check", page]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")


def test_every_file_document_code_and_table_has_its_entry(tmp_path: Path) -> None:
    """Keys of cleanup files, JSON documents, exit codes, error codes, and tables of receipts."""
    files, documents, receipts, reference = (
        (REPOSITORY / "docs" / f"{name}.md").read_text()
        for name in ("cleanup-files", "json", "receipts", "reference")
    )
    schema = json.loads((SOURCE / "formats" / "cleanup.schema.json").read_text())
    assert len(keys := set(keys_of(schema))) > 30
    named = set(re.findall(r"`\[*(\w+)[^`]*`", files))
    assert keys - named == set()
    for document in (REPOSITORY / "docs" / "json").iterdir():
        assert f"json/{document.name})" in documents, document.name
    with sqlite3.connect(tmp_path / "receipt.sqlite") as file:
        file.executescript(f"{TABLES}; COMMIT")
        for (table,) in file.execute("SELECT name FROM sqlite_master WHERE type = 'table'"):
            assert f"`{table}`" in receipts, table
            for column in file.execute("SELECT name FROM pragma_table_info(?)", (table,)):
                assert f"`{column[0]}`" in receipts, (table, column)
    kinds = [kind for kind in vars(errors).values()
             if isinstance(kind, type) and issubclass(kind, errors.YeldroError)]  # fmt: skip
    assert all(f"{kind.exit_code} " in reference for kind in kinds)
    told = {kind.code for kind in kinds if kind is not errors.YeldroError}
    assert [code for code in told if f"`{code}`" not in documents] == []


def keys_of(schema: object) -> Iterator[str]:
    """Yield the names of all properties in a schema."""
    if isinstance(schema, dict):
        for name, inner in schema.items():
            if name == "properties":
                yield from inner
            yield from keys_of(inner)
    elif isinstance(schema, list):
        for inner in schema:
            yield from keys_of(inner)


@pytest.mark.parametrize("page", PAGES, ids=str)
def test_no_link_is_dead(page: Path) -> None:
    """Neither to a file nor to a heading; nothing is loaded from elsewhere."""
    text = re.sub(r"(?ms)^```.*?^```", "", (REPOSITORY / page).read_text())
    for link in LINK.findall(text):
        if re.match(r"[a-z]+:", link):
            continue
        path, _, heading = link.partition("#")
        target = (REPOSITORY / page).parent / path if path else REPOSITORY / page
        assert target.exists(), link
        if heading:
            assert heading in headings(target), link


def headings(page: Path) -> set[str]:
    """Return the names of a page's headings in links."""
    text = re.sub(r"(?ms)^```.*?^```", "", page.read_text())
    titles = re.findall(r"(?m)^#+ (.*)$", text)
    return {re.sub(r"[^\w\- ]", "", title.lower()).replace(" ", "-") for title in titles}

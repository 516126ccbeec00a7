"""The documents: what is written from the program is current, and no link is dead."""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import pytest

REPOSITORY = Path(__file__).parents[1]
PAGES = sorted(
    path.relative_to(REPOSITORY)
    for path in (*REPOSITORY.glob("*.md"), *(REPOSITORY / "docs").rglob("*.md"))
)
LINK = re.compile(r"\]\(([^()\s]+)\)")


def test_the_reference_is_what_the_commands_declare() -> None:
    script = REPOSITORY / "docs" / "write_reference.py"
    assert subprocess.run([sys.executable, script, "--check"], check=False).returncode == 0


@pytest.mark.parametrize("page", ["tutorial.md", "how-to.md"])
def test_the_outputs_in_the_documents_are_those_of_the_commands(page: str) -> None:
    words = [sys.executable, REPOSITORY / "docs" / "run_examples.py", "--check", page]
    done = subprocess.run(words, capture_output=True, text=True, check=False)
    assert (done.returncode, done.stdout, done.stderr) == (0, "", "")


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

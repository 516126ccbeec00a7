"""Help: options under headings, examples that work, and where to begin."""

from __future__ import annotations

import re
import shlex
import shutil
from pathlib import Path

import click
import pytest
from conftest import Yeldro

from yeldro.cli.declared import help as layout
from yeldro.cli.main import COMMANDS, every_command

HEADINGS = ("WHAT", "Which rows", "Duplicates", "What depends on them", "How many", "How",
            "Where, and in what form", "For example")  # fmt: skip
DOCS = Path(__file__).parents[1] / "docs"
ASKS = ("run alert --where \"level = 'notice'\"", "receipt forget last", "restore last")


ALL = {words: each for words, each in every_command() if isinstance(each, layout.Command)}
EXAMPLES = [(name, example) for name, command in ALL.items() for example in command.examples]


SAVED, REMOVED, LOOKED = ALL["plan"].examples[1], ALL["run"].examples[1], "preview alert --all-rows"
FIRST = {"receipt": REMOVED, "restore": REMOVED}  # what must be done before an example


@pytest.fixture(scope="module")
def whole_demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("whole")
    Yeldro(folder)("demo", "made", "--only-data")
    return folder / "made" / "buoys.db"


@pytest.mark.parametrize(("name", "example"), EXAMPLES)
def test_an_example_works_on_the_demo(
    whole_demo: Path, yeldro: Yeldro, name: str, example: str
) -> None:
    assert example.startswith(name)
    shutil.copy(whole_demo, yeldro.folder / "buoys.db")
    yeldro.environment["XDG_STATE_HOME"] = yeldro.environment["XDG_DATA_HOME"] = str(yeldro.folder)
    first = FIRST.get(name.split(maxsplit=1)[0])
    if example.endswith("twice.json") and example != SAVED:
        first = SAVED
    if example.endswith("--from-last"):
        first = LOOKED
    if first:
        yeldro(*shlex.split(first), db="buoys.db")
    db = None if name == "demo" else "buoys.db"
    done = yeldro(*shlex.split(example), db=db, code=2 if example in ASKS else 0)
    assert done.out or name in ("new", "receipt export", "receipt forget") or example in ASKS


@pytest.mark.parametrize("name", ALL)
def test_every_option_stands_under_a_heading_and_the_headings_are_in_order(
    yeldro: Yeldro, name: str
) -> None:
    told = yeldro(*name.split(), "--help").out
    found = [
        line.removesuffix(":") for line in told.splitlines() if line.removesuffix(":") in HEADINGS
    ]
    assert found == [heading for heading in HEADINGS if heading in found]
    assert found[-1] == "For example"
    assert len(ALL[name].examples) == 2
    assert ("WHAT" in found) is any(each.name == "what" for each in ALL[name].params)
    for option in ALL[name].params:
        if isinstance(option, click.Option):
            assert isinstance(option, layout.Option), option.name
            assert told.count(f"\n  {', '.join(option.opts)} ") == 1, option.name
    assert "Repeatable" not in told


def test_the_name_alone_says_in_five_lines_where_to_begin(yeldro: Yeldro) -> None:
    lines = yeldro().out.splitlines()
    assert len(lines) == 5
    for line in lines[1:]:
        words = line.split()
        assert words[0] == "yeldro"
        assert words[1] in COMMANDS or words[1] == "--help"


def test_every_recipe_is_a_topic_and_shown_as_it_stands_in_the_documents(yeldro: Yeldro) -> None:
    page = (DOCS / "how-to.md").read_text()
    named = re.findall(r"(?m)^<!-- yeldro help (\S+) -->$", page)
    assert len(named) == len(re.findall("(?m)^## ", page)) == len(set(named) - set(COMMANDS))
    listed = yeldro("help").out
    for name in named:
        shown = yeldro("help", name).out
        title = shown.split("\n", 1)[0]
        assert f" {title}\n" in listed.partition(f"  {name} ")[2]
        commands = re.findall(
            r"(?m)^\$ (.*)$", page.partition(f"## {title}\n")[2].split("\n## ")[0]
        )
        assert all(f"$ {each}".rstrip(" \\")[:70] in shown for each in commands)


def test_help_explains_words_and_commands(yeldro: Yeldro) -> None:
    assert "Ledger\n\nThe database's own count" in yeldro("help", "words").out
    assert yeldro("help", "run").out == yeldro("run", "--help").out
    assert "yeldro receipt" in yeldro("help", "receipt").out
    assert "Did you mean undo?" in yeldro("help", "unde", code=2).err

"""The rooms of the program and the arrows between them, read from its imports."""

from __future__ import annotations

import ast
import os
import re
import subprocess
import sys
from collections.abc import Iterator
from pathlib import Path

import pytest
from systems import SqliteFile

import yeldro
from yeldro.completion.known import COMMANDS
from yeldro.formats import fields

SOURCE = Path(yeldro.__file__).parent
# Each room, from the ground up; a module may import from its own room and from lower ones.
ROOMS = [
    "completion",
    "core.model.messages",
    "core.model.tables",
    "core.model.work",
    "core.model",
    "core.database",
    "core.receipts",
    "core.changes",
    "core.selection",
    "core.planning.following",
    "core.planning.merging",
    "core.planning.ripple",
    "core.planning",
    "core.execution",
    "core.restore.staged",
    "core.restore.comparing",
    "core.restore",
    "core.inspection",
    "engines",
    "formats",
    "report",
    "api",
    "cli.terminal",
    "cli.given",
    "cli.commands",
    "cli.declared",
    "cli",
]
RESTORE = {room for room in ROOMS if room.startswith("core.restore")}
PLANNING = {room for room in ROOMS if room.startswith("core.planning")}
# Rooms that do not know one another, whatever their place in the list.
APART = {
    "core.inspection": {"core.receipts", "core.changes", "core.execution"} | RESTORE,
    "engines": {f"core.{room}" for room in ("selection", "receipts", "changes", "execution",
                                            "inspection")} | PLANNING | RESTORE,
    "report": {"engines"},
    "formats": {"engines"},
}  # fmt: skip


def modules() -> dict[str, Path]:
    """Every module of the program, by its name without the first part."""
    found = {}
    for path in SOURCE.rglob("*.py"):
        name = ".".join(path.relative_to(SOURCE).with_suffix("").parts)
        found[name.removesuffix("__init__").rstrip(".")] = path
    return found


def imports(path: Path, known: dict[str, Path]) -> Iterator[str]:
    """Yield the modules of the program that a file imports, wherever in it."""
    for node in ast.walk(ast.parse(path.read_text())):
        if isinstance(node, ast.ImportFrom) and (node.module or "").startswith("yeldro"):
            package = str(node.module).removeprefix("yeldro").lstrip(".")
            for alias in node.names:
                inner = f"{package}.{alias.name}".lstrip(".")
                yield inner if inner in known else package


def room_of(name: str) -> str | None:
    return next((room for room in ROOMS if f"{name}.".startswith(f"{room}.")), None)


def arrows() -> Iterator[tuple[str, str]]:
    known = modules()
    for name, path in known.items():
        for other in imports(path, known):
            if other and other != name:
                yield name, other


def test_every_arrow_runs_down() -> None:
    wrong = [
        f"{name} imports {other}"
        for name, other in arrows()
        if (room := room_of(name)) and (below := room_of(other))
        if ROOMS.index(below) > ROOMS.index(room) or below in APART.get(room, ())
    ]
    assert not wrong, "\n".join(wrong)


CHANGING = {  # what changes users' rows, or opens or commits a transaction in which they change
    "writing", "change_at_once", "remove_copies", "change_one", "remove_one", "put_back",
    "truncate", "keep_only", "empty_partitions",
}  # fmt: skip
OWN_TABLES = {  # rooms in which an UPDATE or a DELETE is one of Yeldro's own temporary tables
    "core.planning.merging.unique_conflicts",
    "core.restore.staged.staged_rows",
    "core.restore.staged.net_changes",
}


def test_rows_change_in_one_room_alone() -> None:
    """Elsewhere sessions are opened for reading, in which the system itself refuses a change."""
    outside = set()
    for name, path in modules().items():
        if name.startswith(("core.changes.", "engines.", "demo.")):
            continue
        for node in ast.walk(ast.parse(path.read_text())):
            if not (isinstance(node, ast.Call) and isinstance(node.func, ast.Attribute)):
                continue
            called, of = node.func.attr, node.func.value
            builds = isinstance(of, ast.Name) and of.id == "sa" and called in ("update", "delete")
            if called in CHANGING or (builds and name not in OWN_TABLES):
                outside.add((name, called))
    assert outside == set()


def test_every_module_of_the_core_is_in_a_room() -> None:
    outside = [name for name in modules() if name.startswith("core.") and room_of(name) is None]
    assert outside == []


def test_no_modules_import_one_another_in_a_circle() -> None:
    leads_to: dict[str, set[str]] = {}
    for name, other in arrows():
        leads_to.setdefault(name, set()).add(other)
    left = {name: set(others) for name, others in leads_to.items()}
    while free := [name for name, others in left.items() if not others & left.keys()]:
        for name in free:
            del left[name]
    assert left == {}


def test_no_room_is_crowded() -> None:
    """About twelve modules, so that a reader sees at once what a room holds."""
    for room in ROOMS:
        files = [name for name in modules() if name.rpartition(".")[0] == room]
        assert len(files) <= 16, room


def test_a_receipt_is_read_without_a_database_library() -> None:
    heavy = ["sqlalchemy", "sqlglot", "rich"]
    code = "import sys; import yeldro.core.receipts.reader; "
    code += f"print([each for each in {heavy} if each in sys.modules])"
    done = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True)
    assert done.stdout.strip() == "[]"


HEAVY = ["sqlalchemy", "sqlglot", "rich", "asyncio"]
LOADED = [  # a command line, its exit code, and what of the heavy packages it may load
    ("--help", 0, ""),
    ("plan --help", 0, ""),
    ("receipt list --help", 0, ""),
    ("plan --bogus", 2, ""),
    ("pln", 2, ""),
    ("receipt list", 0, "rich"),
    ("receipt list --json", 0, ""),
    ("plan", 2, ""),
    ("run alert --expect many", 2, ""),
    ("preview alert --where level=:x --param x", 2, ""),
    ("survey", 0, "sqlalchemy rich asyncio"),
    ("survey --json", 0, "sqlalchemy asyncio"),
    ("duplicates reading --by sensor_id,taken_at", 0, "sqlalchemy rich asyncio"),
    ("orphans", 0, "sqlalchemy rich asyncio"),
    ("preview alert --missing-in buoy", 0, "sqlalchemy rich asyncio"),
    ("plan alert --all-rows", 0, "sqlalchemy rich asyncio"),
]


@pytest.mark.parametrize(("line", "code", "allowed"), LOADED)
def test_a_command_loads_only_what_it_needs(
    demo: SqliteFile, tmp_path: Path, line: str, code: int, allowed: str
) -> None:
    """SQLAlchemy itself loads asyncio; SQL is parsed only where somebody has written some."""
    program = (
        "import sys; from yeldro.cli.main import execute; code = execute(sys.argv[1:]);"
        f"print(code, *[name for name in {HEAVY} if name in sys.modules])"
    )
    places = {"YELDRO_DB": str(demo.path), "YELDRO_RECEIPTS": str(tmp_path / "none")}
    done = subprocess.run(
        [sys.executable, "-c", program, *line.split()],
        capture_output=True, text=True, check=True, env=os.environ | places,
    )  # fmt: skip
    told, *loaded = done.stdout.splitlines()[-1].split()
    assert told == str(code)
    assert set(loaded) <= set(allowed.split())


def test_the_picture_of_the_rooms_is_drawn_from_these_imports() -> None:
    script = SOURCE.parent.parent / "docs" / "draw_rooms.py"
    assert subprocess.run([sys.executable, script, "--check"], check=False).returncode == 0


TYPED = re.compile(r"(?<!\S)--[a-z]|yeldro [a-z]+")  # options and commands as they are typed
WITH_HELP = {"fields.py", "cleanup_writer.py"}  # for a person at the command line


def test_only_the_command_line_writes_options_and_commands() -> None:
    """Messages below it name them as ‹follow› and ⟨survey reading⟩; comments show them typed."""
    found = []
    for room in ("core", "engines", "formats"):
        for path in (SOURCE / room).rglob("*.py"):
            tree = ast.parse(path.read_text())
            documented = {
                id(node.body[0].value)
                for node in ast.walk(tree)
                if isinstance(node, ast.Module | ast.ClassDef | ast.FunctionDef)
                if isinstance(node.body[0], ast.Expr)
            }
            found += [
                f"{path.name}:{node.lineno}: {node.value}"
                for node in ast.walk(tree)
                if isinstance(node, ast.Constant) and isinstance(node.value, str)
                if id(node) not in documented and TYPED.search(node.value)
                if path.name not in WITH_HELP
            ]
    assert found == []


def test_every_choice_and_every_command_named_in_a_message_is_known() -> None:
    sources = "".join(path.read_text() for path in SOURCE.rglob("*.py"))
    declared = (SOURCE / "cli" / "declared").glob("*.py")
    texts = "".join(path.read_text() for path in declared)
    options = {field.name for field in (*fields.CLEANUP.values(), *fields.OPTIONS)}
    options |= {option.replace("-", "_") for option in re.findall(r'"--([a-z-]+)"', texts)}
    for name, known in ((r"‹([a-z_]+)›", options), (r"⟨([a-z]+)", set(COMMANDS))):
        named = set(re.findall(name, sources))
        assert named
        assert named <= known


def test_every_test_that_the_docs_name_exists() -> None:
    root = SOURCE.parents[1]
    defined = {
        name
        for path in (root / "tests").glob("test_*.py")
        for name in re.findall(r"^def (test_\w+)", path.read_text(), re.MULTILINE)
    }
    for path in (root / "docs" / "guarantees.md", root / "SECURITY.md"):
        named = set(re.findall(r"`(test_\w+)`", path.read_text()))
        assert named
        assert named <= defined, path.name


def test_every_file_that_the_docs_name_exists() -> None:
    docs = SOURCE.parents[1] / "docs"
    named = {
        (path.name, name)
        for path in docs.glob("*.md")
        for name in re.findall(r"`((?:core|engines|formats|report|cli)/[\w/]+\.py)`",
                               path.read_text())
    }  # fmt: skip
    assert named
    assert [pair for pair in sorted(named) if not (SOURCE / pair[1]).exists()] == []

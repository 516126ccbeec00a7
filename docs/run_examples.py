"""Run the commands in the documents on the demo, and write what they print below them.

python docs/run_examples.py               writes the outputs in docs/tutorial.md and docs/how-to.md,
                                          and the pages that `yeldro help` shows
python docs/run_examples.py --check PAGE  fails if they are not up to date, and shows where

A block of commands begins with ```console. Each page begins with a new demo in an empty folder, and
its commands run one after another. Times and the ids of receipts are written the same every time.
"""

from __future__ import annotations

import difflib
import importlib
import os
import pkgutil
import re
import shlex
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Mapping
from pathlib import Path

import yeldro
from yeldro.cli.main import execute

DOCS = Path(__file__).parent
WIDTHS = {DOCS / "tutorial.md": 100, DOCS / "how-to.md": 76}  # the latter fits a terminal's help
SHOWN = (DOCS / "how-to.md", DOCS / "words.md")
TOPICS = DOCS.parent / "src/yeldro/cli/topics"
BLOCK = re.compile(r"(?ms)^```console\n(.*?)^```$")
SAME = (
    (r"\d{8}-\d{6}-(\w+)-[0-9a-f]{6}(?=\.receipt)", r"20260301-120000-\1-0f1e2d"),
    (r"(?m)^((?:Next: yeldro )?(?:restore|receipt(?: \w+)?) +)[0-9a-f]{6}\b", r"\g<1>0f1e2d"),
    (r"\d{4}-\d\d-\d\d \d\d:\d\d:\d\d(?= UTC)", "2026-03-01 12:00:00"),
    (r"UTC by \w+, in .*", "UTC by you, in less than 2 s"),
    (r"\(\d+\.\d kB\)", "(100.0 kB)"),
)  # fmt: skip


def load() -> None:
    """Load all of the program, so that no command has to."""
    for module in pkgutil.walk_packages(yeldro.__path__, "yeldro."):
        if not module.name.endswith("__main__"):
            importlib.import_module(module.name)


def written(page: Path) -> str:
    """Return a page with the outputs of its commands."""
    with tempfile.TemporaryDirectory() as folder:
        _run("yeldro demo . --only-data", folder, WIDTHS[page])
        return BLOCK.sub(lambda block: _block(block[1], folder, WIDTHS[page]), page.read_text())


def _block(text: str, folder: str, wide: int) -> str:
    commands = re.findall(r"(?ms)^\$ (.*?)$(?=\n|\Z)", text.replace("\\\n", "\\\x00"))
    parts = []
    for command in commands:
        typed = command.replace("\x00", "\n")
        printed = _run(typed, folder, wide)
        parts.append(f"$ {typed}\n{printed}")
    return "```console\n" + "\n".join(parts) + "```"


def _run(command: str, folder: str, wide: int) -> str:
    programs = f"{Path(sys.executable).parent}{os.pathsep}{os.environ['PATH']}"
    environment = {name: value for name, value in os.environ.items() if "YELDRO" not in name}
    environment |= {"PATH": programs, "COLUMNS": str(wide), "YELDRO_DB": "buoys.db",
                    "YELDRO_RECEIPTS": "receipts", "XDG_STATE_HOME": folder}  # fmt: skip
    code, printed = (_forked if _is_alone(command) else _in_shell)(command, folder, environment)
    for pattern, same in SAME:
        printed = re.sub(pattern, same, printed)
    return printed + (f"(exit code {code})\n" if code else "")


def _is_alone(command: str) -> bool:
    """True for the program alone, which a copy of this process can be."""
    words = _words(command)
    return words[0] == "yeldro" and not any(set(each) <= {*"();<>|&"} for each in words)


def _words(command: str) -> list[str]:
    parts = shlex.shlex(command.replace("\\\n", " "), posix=True, punctuation_chars=True)
    parts.whitespace_split = True
    return [*parts]


def _in_shell(command: str, folder: str, environment: Mapping[str, str]) -> tuple[int, str]:
    done = subprocess.run(
        ["bash", "-c", command], cwd=folder, env=environment, text=True, check=False,
        stdout=subprocess.PIPE, stderr=subprocess.STDOUT,
    )  # fmt: skip
    return done.returncode, done.stdout


def _forked(command: str, folder: str, environment: Mapping[str, str]) -> tuple[int, str]:
    """Carry the command out in a copy of this process, which has loaded the program already."""
    sys.stdout.flush()
    with tempfile.TemporaryFile("w+") as printed:
        child = os.fork()
        if not child:
            for stream in (1, 2):
                os.dup2(printed.fileno(), stream)
            os.chdir(folder)
            os.environ.clear()
            os.environ.update(environment)
            code = execute(_words(command)[1:])
            sys.stdout.flush()
            os._exit(code)
        _, status = os.waitpid(child, 0)
        printed.seek(0)
        return os.waitstatus_to_exitcode(status), printed.read()


def main() -> int:
    """Write the pages, or compare them."""
    load()
    stale = 0
    for page in (page for page in WIDTHS if page.name in sys.argv or "--check" not in sys.argv):
        before, after = page.read_text(), written(page)
        if "--check" in sys.argv:
            shown = difflib.unified_diff(before.split("\n"), after.split("\n"), page.name, "now",
                                         lineterm="", n=1)  # fmt: skip
            print("\n".join(shown), end="")
            stale += before != after
        else:
            page.write_text(after)
    if "--check" not in sys.argv:
        for page in SHOWN:
            shutil.copy(page, TOPICS)
    return int(stale > 0)


if __name__ == "__main__":
    sys.exit(main())

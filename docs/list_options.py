"""Write what a completion must know of commands and options, from their declarations.

python docs/list_options.py          writes src/yeldro/completion/known.py
python docs/list_options.py --check  fails if that file is not up to date
"""

from __future__ import annotations

import re
import subprocess
import sys
from pathlib import Path

import click

from yeldro.cli.commands.topics import titles
from yeldro.cli.main import COMMANDS, every_command
from yeldro.core.selection.asked import KEEP_RULES
from yeldro.formats.writing.targets import TARGETS

KNOWN = Path(__file__).parents[1] / "src/yeldro/completion/known.py"
KINDS = {
    "columns": "--by --show --duplicates-by",
    "order": "--order-by",
    "rule": "--keep",
    "sql": "--where",
    "pairs": "--matching --missing-in",
    "dependents": "--follow --detach",
    "foreign key": "--orphans",
    "trigger": "--allow-trigger",
    "table": "--no-way-back --table --only --accept-difference",
    "database": "--db --of --into",
    "parameter": "--param-null",
    "value": "--param",
    "expectation": "--expect",
    "dialect": "--dialect",
    "file": "--sql --map --output --report",
    "folder": "--receipts --to",
}
ARGUMENTS = {"what": "what", "table": "table", "receipt": "receipt", "file": "file",
             "folder": "folder", "shell": "shell", "topic": "topic"}  # fmt: skip
ABOUT_RULES = {
    "lowest": "the row with the lowest value stays",
    "highest": "the row with the highest value stays",
    "fullest": "the row with the most values stays",
    "referenced": "a row that others reference stays",
    "order": "the first row in this order stays",
}


def written() -> str:
    kinds = {name: kind for kind, names in KINDS.items() for name in names.split()}
    commands: dict[str, tuple[tuple[str, ...], tuple[str, ...], str]] = {}
    options: dict[str, tuple[str, bool, str]] = {}
    groups: dict[str, str] = {}
    for words, command in every_command():
        group = words.split()[0]
        if group != words and group not in groups:
            groups[group] = COMMANDS[group][1]
            commands[group] = ((), (), groups[group])
        own = [each for each in command.params if isinstance(each, click.Option)]
        for each in own:
            spelled = max(each.opts, key=len)
            kind = "flag" if each.is_flag else kinds.get(spelled, "nothing")
            told = re.split(r"[.;:,](?: |$)", (each.help or "").removeprefix("Duplicates: "))[0]
            options.setdefault(spelled, (kind, each.multiple, told))
        taken = tuple(
            ARGUMENTS[str(each.name)] for each in command.params if isinstance(each, click.Argument)
        )
        says = COMMANDS[words][1] if words in COMMANDS else command.get_short_help_str(200)
        commands[words] = (taken, tuple(max(each.opts, key=len) for each in own), says)
    rules = [(f"{rule.partition(':')[0]}{':' if ':' in rule else ''}",
              ABOUT_RULES[rule.partition(":")[0]]) for rule in KEEP_RULES]  # fmt: skip
    source = f'''"""What commands and options there are; docs/list_options.py writes this file."""

# command: the kinds of its arguments, its options, what it does
COMMANDS: dict[str, tuple[tuple[str, ...], tuple[str, ...], str]] = {commands!r}
GROUPS = {groups!r}

# option: the kind of its value, if it may be repeated, what it says
OPTIONS: dict[str, tuple[str, bool, str]] = {options!r}

RULES = {rules!r}
DIALECTS = {sorted(TARGETS)!r}
SHELLS = ["bash", "zsh", "fish"]
TOPICS = {list(titles().items())!r}
'''
    formatting = [Path(sys.executable).with_name("ruff"), "format", "-q", "-"]
    done = subprocess.run(formatting, check=True, input=source, capture_output=True, text=True,
                          cwd=KNOWN.parent)  # fmt: skip
    return done.stdout


if __name__ == "__main__":
    if "--check" in sys.argv:
        sys.exit(KNOWN.read_text() != written())
    KNOWN.write_text(written())

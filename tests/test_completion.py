"""The Tab key: commands, options and live names, asked in the real shells."""

from __future__ import annotations

import os
import random
import shlex
import socket
import subprocess
import sys
from collections.abc import Callable, Iterator
from pathlib import Path

import pexpect
import pytest
from conftest import PROGRAM, Yeldro
from hypothesis import given
from hypothesis import strategies as st
from systems import AnyDatabase, SqliteFile

from yeldro.completion.line import Line

REPOSITORY = Path(__file__).parents[1]
HEAVY = ("click", "sqlalchemy", "sqlglot", "rich", "typing", "pathlib", "subprocess", "json",
         "yeldro.core", "yeldro.cli", "yeldro.engines", "yeldro.formats")  # fmt: skip


def ask(folder: Path, line: str, db: str = "", shell: str = "fish", **more: str) -> list[str]:
    """Return the program's answer to a shell, without what the words mean."""
    environment = {name: value for name, value in os.environ.items() if "YELDRO" not in name}
    environment |= {"YELDRO_DB": db, "YELDRO_TAB_SECONDS": "60"} | more
    done = subprocess.run([PROGRAM, "completion", "words", shell, line], capture_output=True,
                          text=True, cwd=folder, env=environment, check=True)  # fmt: skip
    assert done.stderr == ""
    return [each.partition("\t")[0] for each in done.stdout.splitlines()[1:]]


PROGRAMS = {
    "bash": ["bash", "--norc", "--noprofile", "-i"],
    "zsh": ["zsh", "-f", "-i"],
    "fish": ["fish", "--no-config", "-i"],
}
PREPARED = {
    "bash": "bind 'set enable-bracketed-paste off'; eval \"$(yeldro completion bash)\"; "
    'PS1="R""DY> "',
    "zsh": "autoload -U compinit; compinit -u -D; unsetopt zle_bracketed_paste; "
    'eval "$(yeldro completion zsh)"; PS1="R""DY> "',
    "fish": 'yeldro completion fish | source; function fish_prompt; echo -n "R""DY> "; end',
}


class Shell:
    """A shell at a terminal in which the Tab key is pressed."""

    def __init__(self, name: str, folder: Path, db: str) -> None:
        program = folder / "bin" / "yeldro"
        program.parent.mkdir()
        program.write_text(f"""#!/bin/sh
            if [ "$1" = completion ]; then exec {shlex.quote(str(PROGRAM))} "$@"; fi
            echo BEGIN; for each in "$@"; do printf '<%s>\\n' "$each"; done; echo END
        """)
        program.chmod(0o755)
        environment = {"PATH": f"{program.parent}:{os.environ['PATH']}", "HOME": str(folder),
                       "TERM": "xterm", "LC_ALL": "C.UTF-8", "YELDRO_DB": db,
                       "YELDRO_RECEIPTS": str(folder / "receipts")}  # fmt: skip
        command, *words = PROGRAMS[name]
        self.child = pexpect.spawn(command, words, env=environment, encoding="utf-8", timeout=30,
                                   dimensions=(50, 250), cwd=folder)  # fmt: skip
        self.child.sendline(PREPARED[name])
        self.child.expect("RDY> ")

    def type(self, keys: str) -> list[str]:
        """Return the words that the program is called with after these keys."""
        self.child.send(f"{keys}\r")
        self.child.expect("BEGIN\r?\n(.*?)END\r?\n")
        found: str = self.child.match[1]
        return [line[1:-1] for line in found.splitlines()]


@pytest.fixture(params=["bash", "zsh", "fish"])
def shell(request: pytest.FixtureRequest, tmp_path: Path) -> Iterator[Callable[[str], Shell]]:
    started: list[Shell] = []

    def start(db: str) -> Shell:
        started.append(Shell(request.param, tmp_path, db))
        return started[0]

    yield start
    started[0].child.close(force=True)


def test_the_tab_key_completes_in_every_shell(
    shell: Callable[[str], Shell], yeldro: Yeldro, demo: SqliteFile
) -> None:
    done = yeldro("run", "alert", "--where", "id = 7", "--expect", "1", "--yes", db=demo.url)
    receipt = done.out.split("receipts/")[1].split(".receipt")[0].split("-")[-1]
    (yeldro.folder / "old buoys.toml").write_text('[[remove]]\n[param.cutoff]\ntype = "date"\n')
    sh = shell(demo.url)
    assert sh.type("yeldro surv\tread\t--ro\t3") == ["survey", "reading", "--rows", "3"]
    assert sh.type("yeldro duplicates reading --by sensor_id,ta\t")[-1] == "sensor_id,taken_at"
    assert sh.type("yeldro plan reading --keep low\tsens\t")[-1] == "lowest:sensor_id"
    assert sh.type("yeldro plan buoy --follow part_\t.\t")[-1] == "part_used.buoy_id,visit_no"
    assert sh.type("yeldro plan buoy --expect rea\t3")[-1] == "reading=3"
    assert sh.type("yeldro plan alert --orphans alert.re\t")[-1] == "alert.reading_id"
    assert sh.type("yeldro receipt sh\tla\t") == ["receipt", "show", "last"]
    assert sh.type(f"yeldro restore {receipt[:4]}\t") == ["restore", receipt]
    assert sh.type("yeldro plan old\t--param cu\t2020") == [
        "plan", "old buoys.toml", "--param", "cutoff=2020",
    ]  # fmt: skip
    assert sh.type("true | X=1 yeldro orph\t") == ["orphans"]
    for quote in "'\"":
        typed = f"yeldro preview reading --where {quote}id < 5 and val\t > 1{quote}"
        assert sh.type(typed)[-1] == "id < 5 and value > 1"


@pytest.mark.parametrize("seed", [1])
def test_any_name_comes_into_the_line_as_it_is(
    shell: Callable[[str], Shell], file_made, seed: int
) -> None:
    choose = random.Random(seed)
    signs = " '\"$`\\;&()*?!~#|<>{}[],.=:%^@+-_ab1üß漢é"
    names = {
        letter: letter + "".join(choose.choices(signs, k=6)) + "z"
        for letter in "cdefghijklmnopqrstuvwxy"
    }
    tables = "".join(
        'CREATE TABLE "{}" (id INTEGER);'.format(name.replace('"', '""')) for name in names.values()
    )
    sh = shell(file_made(tables).url)
    for letter, name in names.items():
        assert sh.type(f"yeldro orphans {letter}\t") == ["orphans", name]


def test_names_come_from_every_system(made: Callable[[str], AnyDatabase], tmp_path: Path) -> None:
    database = made("""
        CREATE TABLE mast (id INTEGER PRIMARY KEY, tall INTEGER, UNIQUE (id, tall));
        CREATE TABLE lamp (id INTEGER PRIMARY KEY, mast_id INTEGER, mast_tall INTEGER,
            FOREIGN KEY (mast_id, mast_tall) REFERENCES mast (id, tall));
        CREATE VIEW lit AS SELECT id FROM lamp;
    """)
    url = database.url
    assert ask(tmp_path, "yeldro plan ", url) == ["lamp", "lit", "mast"]
    assert ask(tmp_path, "yeldro survey ", url) == ["lamp", "mast"]
    assert ask(tmp_path, "yeldro preview lamp --show ", url) == ["id", "mast_id", "mast_tall"]
    assert ask(tmp_path, "yeldro preview lit --order-by ", url) == ["id", "asc", "desc"]
    keys = ["all", "lamp", "lamp.mast_id,mast_tall"]
    assert ask(tmp_path, "yeldro plan mast --follow ", url) == keys
    assert ask(tmp_path, "yeldro plan lamp --missing-in mast:mast_id=t", url) == [
        "mast:mast_id=tall"
    ]
    key = ask(tmp_path, "yeldro plan lamp --orphans ", url)
    assert key == keys[2:]
    yeldro = Yeldro(tmp_path)
    yeldro("plan", "lamp", "--orphans", *key, db=url)
    yeldro("plan", "mast", "--all-rows", "--follow", keys[2], db=url)


def test_triggers_schemas_and_a_hostile_name_on_the_servers(network: AnyDatabase, tmp_path) -> None:
    assert "part_used.buoy_id,visit_no" in ask(tmp_path, "yeldro run buoy --follow p", network.url)
    assert ask(tmp_path, "yeldro run buoy --allow-trigger ", network.url) == []
    assert ask(tmp_path, 'yeldro preview "buoy\'; DROP TABLE tag" --show ', network.url) == []
    assert network.value("SELECT count(*) FROM tag") == 6


def test_what_was_said_is_not_offered_again_and_values_follow_their_option(
    demo: SqliteFile, tmp_path: Path
) -> None:
    def asked(line: str) -> list[str]:
        return ask(tmp_path, f"yeldro {line}", demo.url)

    options = asked("plan buoy --all-rows --follow visit --")
    assert "--all-rows" not in options
    assert "--follow" in options
    assert "--help" in options
    assert asked("plan buoy --follow=vis") == ["--follow=visit", "--follow=visit.buoy_id",
                                               "--follow=visit.technician_id"]  # fmt: skip
    assert asked("plan buoy -- --") == []
    assert asked("plan buoy reading ") == []
    assert asked("plan buoy --limit ") == []
    assert asked("nothing ") == []
    assert asked("completion ") == ["bash", "zsh", "fish"]
    assert asked("plan buoy --where \"name = 'a") == []
    assert asked('plan buoy --where "id < :a and id > :b" --param ') == ["a=", "b="]
    assert asked("receipt ") == ["list", "show", "check", "forget", "export"]
    assert asked("script alert --dialect ora") == ["oracle"]
    assert asked("duplicates alert --keep ")[:3] == ["lowest:", "highest:", "fullest"]
    assert asked("DUPL") == ["duplicates"]
    assert asked("survey READ") == ["reading"]


def test_databases_of_the_project_file_are_offered_and_asked(
    tmp_path: Path, demo: SqliteFile
) -> None:
    (tmp_path / "inner").mkdir()
    (tmp_path / "yeldro.toml").write_text(
        f'db = "sea"\nreceipts = "kept"\n[database.sea]\nurl = "{demo.path.name}"\n'
        '[database.lake]\nurl = "postgresql://nobody@127.0.0.1:9/none"\n'
    )
    inner = tmp_path / "inner"
    assert ask(inner, "yeldro survey --db ") == ["sea", "lake"]
    assert ask(inner, "yeldro survey vis") == ["visit"]
    assert ask(inner, "yeldro survey vis --db lake ") == []
    assert ask(inner, "yeldro survey --db lake vis") == []
    (tmp_path / "kept").mkdir()
    (tmp_path / "kept" / "20260102-030405-buoy-abc123.receipt.sqlite").touch()
    assert ask(inner, "yeldro receipt show ") == ["last", "abc123"]
    (tmp_path / "yeldro.toml").write_text("not [ toml")
    assert ask(inner, "yeldro survey --db ") == []


@pytest.mark.parametrize("system", ["postgresql", "mariadb"])
def test_a_server_that_does_not_answer_is_not_waited_for(tmp_path: Path, system: str) -> None:
    with socket.create_server(("127.0.0.1", 0)) as silent:
        port = silent.getsockname()[1]
        line = [str(PROGRAM), "completion", "words", "bash", "yeldro plan "]
        environment = os.environ | {"YELDRO_DB": f"{system}://nobody@127.0.0.1:{port}/none"}
        done = subprocess.run(line, env=environment, capture_output=True, check=False, cwd=tmp_path,
                              timeout=100)  # fmt: skip
    assert (done.returncode, done.stdout, done.stderr) == (0, b"", b"")
    assert ask(tmp_path, "yeldro plan ", f"{system}://nobody@127.0.0.1:9/none") == []


def test_any_limit_is_silent(network: AnyDatabase, tmp_path: Path) -> None:
    for limit in ("", "soon", "-1", "nan", "1e400"):
        found = ask(tmp_path, "yeldro survey buoy", network.url, YELDRO_TAB_SECONDS=limit)
        assert found in ([], ["buoy", "buoy_tag"]), limit
    assert found


def test_a_completion_on_sqlite_loads_nothing_heavy(demo: SqliteFile) -> None:
    program = (
        "import sys, os\n"
        "known = set(sys.modules)\n"
        "sys.argv = ['yeldro', 'completion', 'words', 'bash', 'yeldro plan b']\n"
        "leave = os._exit\nos._exit = lambda code: (print(sorted(set(sys.modules) - known)), "
        "sys.stdout.flush(), leave(code))\n"
        "from yeldro.__main__ import main\nmain()"
    )
    done = subprocess.run([sys.executable, "-c", program], capture_output=True, text=True,
                          check=True, env=os.environ | {"YELDRO_DB": demo.url})  # fmt: skip
    assert "buoy" in done.stdout
    for name in HEAVY:
        assert f"'{name}'" not in done.stdout
    assert "'sqlite3'" in done.stdout


def test_what_a_completion_knows_is_what_the_commands_declare() -> None:
    script = REPOSITORY / "docs" / "list_options.py"
    assert subprocess.run([sys.executable, script, "--check"], check=False).returncode == 0


@pytest.mark.parametrize("name", ["bash", "zsh", "fish"])
def test_the_script_says_where_to_put_it(yeldro: Yeldro, name: str) -> None:
    out = yeldro("completion", name).out
    assert f"yeldro completion {name}" in "\n".join(out.splitlines()[:4])
    if name != "fish":
        assert subprocess.run([name, "-n"], input=out, text=True, check=False).returncode == 0


@given(st.lists(st.text(st.characters(codec="utf-8", exclude_characters="\0\n"), max_size=8),
                min_size=1, max_size=5))  # fmt: skip
def test_a_line_is_cut_as_a_shell_cuts_it(words: list[str]) -> None:
    line = Line(" ".join(["yeldro", *map(shlex.quote, words)]))
    assert [*line.words, line.current] == ["yeldro", *words]
    doubled = (
        '"{}"'.format("".join(f"\\{c}" if c in '"\\$`' else c for c in word)) for word in words
    )
    line = Line(" ".join(["a; b | yeldro", *doubled]))
    assert [*line.words, line.current] == ["yeldro", *words]
    assert line.quote == ""

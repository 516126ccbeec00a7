"""Whatever is typed, stored or handed over: nothing but the described rows ever goes."""

from __future__ import annotations

import contextlib
import io
import json
import random
from pathlib import Path

import pytest
from conftest import Yeldro
from systems import AnyDatabase, SqliteFile
from trials import Trials

from yeldro.cli.main import execute

FILTERS = [
    "id = 1; DELETE FROM buoy", "id = 1 -- ", "id = 1 /* */ ; DROP TABLE buoy",
    "id = (DELETE FROM buoy RETURNING 1)", "'' = ''''; DROP TABLE buoy; --'", "1 = 1", "TRUE",
    "id = load_extension('x')", "writefile('x', 'y') = id", "readfile('/etc/passwd') IS NOT NULL",
    "pg_sleep(999) IS NULL", "sleep(999) = 0", "benchmark(10000000000, md5('x')) = 0",
    "pg_read_file('/etc/passwd') <> ''", "load_file('/etc/passwd') <> ''",
    "lo_import('/etc/passwd') = id", "setval('s', 1) = id", "nextval('s') = id",
    "id = 1 INTO OUTFILE '/tmp/x'", "id IN (SELECT id FROM buoy INTO OUTFILE '/tmp/x')",
    "id = 1 FOR UPDATE", "id = @x := 1", "dblink('a', 'b') IS NULL", "xp_cmdshell('x') = id",
    "id = 1 OR id IN (SELECT get_lock('a', 1) FROM buoy)", "pg_terminate_backend(1) = (id = 1)",
    "query_to_xml('DELETE FROM buoy', true, true, '') IS NULL", "id = 1 /*! OR 1 = 1 */",
    "id = 1 UNION SELECT 1", "id = $1", "id = %s", "id = ?", "\x00", "id = '\\'; DROP TABLE buoy;'",
]  # fmt: skip


@pytest.mark.parametrize("place", range(0, len(FILTERS), 6))
def test_no_filter_does_more_than_compare(yeldro: Yeldro, network: AnyDatabase, place: int) -> None:
    before = network.contents()
    for text in FILTERS[place : place + 6]:
        if "\x00" in text:
            continue  # no program can be given one
        done = yeldro("plan", "buoy", "--where", text, db=network.url, code=None)
        if "\\'" in text and done.code == 0:
            assert "No row matches" in done.out  # where a backslash escapes, it is all one text
            continue
        assert done.code in (2, 3), (text, done)
        assert done.err.startswith("Nothing was changed."), text
    assert network.contents() == before


STRANGE = 'a "b"\n\x1b[31m;--'


def test_rows_and_names_can_not_drive_the_terminal(yeldro: Yeldro, file_made) -> None:
    name = STRANGE.replace('"', '""')
    long = "x" * 100_000
    database = file_made(f"""
        CREATE TABLE "{name}" (id INTEGER PRIMARY KEY, "{name}" TEXT);
        INSERT INTO "{name}" VALUES (1, '{name}'), (2, CAST(x'ff1b5b41' AS TEXT)), (3, '{long}');
    """)
    for words in (("survey",), ("survey", STRANGE), ("preview", STRANGE, "--all-rows"),
                  ("plan", STRANGE, "--all-rows"), ("script", STRANGE, "--all-rows"),
                  ("rehearse", STRANGE, "--all-rows"),
                  ("duplicates", STRANGE, "--by", STRANGE)):  # fmt: skip
        done = yeldro(*words, db=database.url)
        if words[0] != "script":
            assert "\x1b" not in done.out + done.err, words
        assert len(done.out) < 20_000
    yeldro("run", STRANGE, "--all-rows", "--expect", "3", "--yes", db=database.url)
    assert "\x1b" not in yeldro("receipt", "show", "last").out
    yeldro("restore", "last", "--yes")
    assert database.value(f'SELECT count(*) FROM "{name}"') == 3


def test_nothing_made_of_pieces_is_a_fault(
    yeldro: Yeldro, demo: SqliteFile, tmp_path: Path, trials: Trials
) -> None:
    """Files of all formats and filters, cut, doubled and mixed: refused or looked at."""
    plan, job, given = tmp_path / "plan.json", tmp_path / "job.toml", tmp_path / "in.sql"
    _look(["plan", "alert", "--where", "id = 1", "-o", str(plan)], demo)
    toml = (
        'title = "x"\n[param.p]\ntype = "integer"\ndefault = 3\n[[remove]]\nfrom = "alert"\n'
        'where = "id = :p"\nexpect_in = { alert = "0..9" }\n'
        '[[after]]\nquery = "select 1"\nexpect = 1'
    )
    statements = "DELETE a FROM alert a JOIN buoy b ON b.id = a.buoy_id WHERE b.id IN (1, 2);"
    seeds = {plan: plan.read_text(), job: toml, given: statements}
    yeldro("run", "alert", "--where", "id = 1", "--expect", "1", "--yes", db=demo.url)
    (kept,) = yeldro.receipts.iterdir()
    whole = kept.read_bytes()
    before = demo.contents()
    for number in trials(80, 5000):
        chance = random.Random(number)
        path = chance.choice([plan, job, given, kept, None])
        if path is kept:
            kept.write_bytes(_with_wrong_bytes(whole, chance))
            _look(["receipt", chance.choice(["check", "show"]), str(kept)], demo)
            continue
        if path is None:
            condition = _mixed("id = 1 AND (level = 'a' OR taken IS NULL) -- x", chance)
            _look(["plan", "alert", f"--where={condition}"], demo)
            continue
        text = _mixed(seeds[path], chance)
        if path is plan and chance.random() < 0.5:
            text = _resealed(text)
        path.write_text(text, errors="surrogatepass")
        _look(["plan", *(["--sql"] if path is given else []), str(path)], demo)
    assert demo.contents() == before


def _look(words: list[str], demo: SqliteFile) -> None:
    """Run a command that only looks, in this process; a fault in Yeldro fails the test."""
    out, err = io.StringIO(), io.StringIO()
    with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        code = execute([*words, *(["--db", demo.url] if words[1] != "show" else [])])
    given = Path(words[-1]).read_bytes() if Path(words[-1]).is_file() else b""
    assert code in (0, 2, 3, 4, 5), f"{words}\n{given!r}\n{err.getvalue()}"


def _with_wrong_bytes(whole: bytes, chance: random.Random) -> bytes:
    """Return a file that was cut short, or of which some bytes are others."""
    if chance.random() < 0.2:
        return whole[: chance.randrange(len(whole))]
    wrong = bytearray(whole)
    for _ in range(chance.choice([1, 3, 30])):
        wrong[chance.randrange(len(wrong))] = chance.randrange(256)
    return bytes(wrong)


def _mixed(text: str, chance: random.Random) -> str:
    """Return the text with a few pieces cut, doubled, moved or replaced."""
    pieces = [
        *"'\"\\\n;{[=:(\t%,", "--", "/*", "]]", "\u202e", "NULL", "9" * 30, "-1", "SELECT", "true",
        "..", "\U0001f6a2", "1e999",
    ]  # fmt: skip
    for _ in range(chance.randint(1, 4)):
        a, b = sorted(chance.randrange(len(text) + 1) for _ in range(2))
        b = min(b, a + 12)
        piece = chance.choice([*pieces, text[a:b] * 2, ""])
        text = text[:a] + piece + text[chance.choice([a, b]) :]
    return text


def _resealed(text: str) -> str:
    """Return a plan that was changed by somebody who knows how its digest is made."""
    import hashlib

    try:
        document = json.loads(text)
        document.pop("seal", None)
        written = json.dumps(document, sort_keys=True, separators=(",", ":"))
        document["seal"] = hashlib.sha256(written.encode()).hexdigest()
        return json.dumps(document)
    except (ValueError, AttributeError, RecursionError):
        return text

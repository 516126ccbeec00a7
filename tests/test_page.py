"""The page to hand over: what it says, and how it works in a browser."""

from __future__ import annotations

import hashlib
import json
import re
import shutil
import subprocess
import sys
from pathlib import Path

import pytest
from browser import Browser
from conftest import PROGRAM, Yeldro
from selenium.webdriver.common.keys import Keys
from systems import SqliteFile

GONE = ("buoy", "--where", "retired_on < :day", "--param", "day=2022-01-01")
FOLLOWED = (*GONE, "--follow", "visit", "--follow", "deployment")
WIDTHS = [(400, "dark"), (1280, "light")]


@pytest.fixture(scope="module")
def pages(tmp_path_factory: pytest.TempPathFactory, _demo_file: Path) -> dict[str, Path]:
    """A page of each kind, about the demo."""
    folder = tmp_path_factory.mktemp("pages")
    yeldro = Yeldro(folder)
    shutil.copy(_demo_file, folder / "buoys.db")
    db = "buoys.db"
    yeldro("plan", *GONE, "--report", "blocked.html", db=db, code=3)
    yeldro("plan", *FOLLOWED, "-o", "plan.json", "--report", "plan.html", db=db)
    yeldro("run", "plan.json", "--yes", "--report", "run.html", db=db)
    yeldro("receipt", "show", "--report", "receipt.html")
    yeldro("plan", *FOLLOWED, "--map", "map.html", db=db)
    names = ("blocked", "plan", "run", "receipt", "map")
    return {name: folder / f"{name}.html" for name in names}


@pytest.mark.parametrize(("width", "scheme"), WIDTHS)
@pytest.mark.parametrize("name", ["blocked", "plan", "run", "receipt", "map"])
def test_a_page_is_sound_at_every_width_and_in_both_schemes(
    browser: Browser, pages: dict[str, Path], name: str, width: int, scheme: str
) -> None:
    browser.open(pages[name], width, scheme)
    assert browser.driver.get_log("browser") == []
    assert browser.run("return document.documentElement.scrollWidth") <= width
    assert browser.run("return performance.getEntriesByType('resource').length") == 0
    colour = browser.run("return getComputedStyle(document.body).backgroundColor")
    assert colour == ("rgb(17, 23, 28)" if scheme == "dark" else "rgb(255, 255, 255)")
    browser.driver.execute_cdp_cmd("Page.setBypassCSP", {"enabled": True})
    browser.driver.refresh()
    assert browser.violations() == []
    browser.driver.execute_cdp_cmd("Page.setBypassCSP", {"enabled": False})


def test_rows_are_sorted_and_filtered_by_the_keyboard(
    browser: Browser, yeldro: Yeldro, file_made
) -> None:
    rows = ", ".join(
        f"({n}, {'NULL' if n == 5 else (n * 7) % 30}, 'name {n}')" for n in range(1, 13)
    )
    database = file_made(f"""
        CREATE TABLE buoy (id INTEGER PRIMARY KEY, depth INTEGER, name TEXT);
        INSERT INTO buoy VALUES {rows};
    """)
    yeldro("plan", "buoy", "--all-rows", "--report", "rows.html", db=database.url)
    browser.open(yeldro.folder / "rows.html")

    def depths() -> list[str]:
        shown = browser.all("#rows-1 tbody tr")
        return [
            row.find_elements("css selector", "td")[1].text for row in shown if row.is_displayed()
        ]

    before = depths()
    numbers = sorted((each for each in before if each != "NULL"), key=int)
    focus = browser.driver.switch_to
    for _ in range(100):
        focus.active_element.send_keys(Keys.TAB)
        if focus.active_element.text.startswith("depth"):
            break
    focus.active_element.send_keys(Keys.ENTER)
    assert depths() == [*numbers, "NULL"]
    assert browser.all("th[aria-sort=ascending]")[0].text.startswith("depth")
    focus.active_element.send_keys(Keys.SPACE)
    assert depths() == [*reversed(numbers), "NULL"]
    assert browser.all("th[aria-sort=descending]")[0].text.startswith("depth")
    field = browser.all("#rows-1-filter")[0]
    field.send_keys("NAME 1")
    assert len(depths()) == 4
    assert browser.texts("[data-of=rows-1]") == ["4 of 12 rows shown"]
    field.send_keys(Keys.BACKSPACE * 6)
    assert len(depths()) == 12
    assert browser.texts("[data-of=rows-1]") == [""]


HOSTILE = [
    "<script>window.owned = 1</script>",
    "</title><script>window.owned = 2</script>",
    '"><img src=x onerror="window.owned = 3">',
    "{{ 7 * 7 }}{% raw %}",
    "</style></pre></textarea>--><svg onload='window.owned = 4'>",
    "javascript:window.owned=5",
    "$\\frac{1}{2}$ _ ^ \\u202e\u202e $x",
]


@pytest.mark.parametrize("hostile", HOSTILE)
def test_hostile_names_and_values_are_text(
    browser: Browser, yeldro: Yeldro, file_made, hostile: str
) -> None:
    name, value = hostile.replace('"', '""'), hostile.replace("'", "''")
    database = file_made(f"""
        CREATE TABLE "{name}" (id INTEGER PRIMARY KEY, "said {name}" TEXT);
        INSERT INTO "{name}" VALUES (1, '{value}');
        CREATE TABLE note (id INTEGER PRIMARY KEY, up INTEGER
            REFERENCES "{name}" (id) ON DELETE CASCADE, said TEXT);
        INSERT INTO note VALUES (7, 1, '{value}');
    """)
    quoted = json.dumps(hostile)
    (yeldro.folder / "cleanup.toml").write_text(
        f"title = {quoted}\n[[remove]]\nfrom = {quoted}\nall_rows = true\n"
    )
    words = ("--expect", "total=2", "--yes", "--report", "run.html")
    yeldro("run", "cleanup.toml", *words, db=database.url)
    yeldro("receipt", "show", "--report", "receipt.html")
    for page in ("run.html", "receipt.html"):
        browser.open(yeldro.folder / page)
        assert browser.driver.get_log("browser") == []
        assert browser.run("return window.owned") is None
        assert browser.run("return document.scripts.length") == 1
        assert browser.run("return document.images.length") == 0
        shown = browser.run("return document.body.textContent")
        assert hostile.replace("\u202e", "⟨202E⟩") in shown
        assert browser.driver.title.endswith(hostile.replace("\u202e", "⟨202E⟩").strip())


def test_a_page_says_what_was_planned_done_and_how_to_undo_it(
    browser: Browser, yeldro: Yeldro, demo: SqliteFile
) -> None:
    network, words = demo, (*FOLLOWED, "--expect", "1..")
    plan = yeldro("plan", *words, "--json", db=network.url).one()
    yeldro("plan", *words, "-o", "p.json", "--report", "plan.html", db=network.url)
    tables = sorted({step["table"] for step in plan["steps"]})
    before = {name: network.value(f"SELECT count(*) FROM {name}") for name in tables}
    contents = network.contents()
    browser.open(yeldro.folder / "plan.html")
    assert browser.texts(".kind, .verdict") == [
        "PLAN", f"{plan['total']:,} rows would go or change. Nothing was changed."
    ]  # fmt: skip
    digest = hashlib.sha256((yeldro.folder / "p.json").read_bytes()).hexdigest()
    assert digest in browser.texts("dd")
    assert any(each.startswith("matched rows") for each in browser.texts("main tbody td"))
    steps = [[cell.text for cell in row.find_elements("css selector", "td")][:4]
             for row in browser.all("#step-table tbody tr")]  # fmt: skip
    assert steps == [[str(step["n"]), step["action"], step["table"], f"{step['rows']:,}"]
                     for step in plan["steps"]]  # fmt: skip
    assert "COMMIT" in browser.texts("pre.sql")[0]
    assert len(browser.all("svg.map")) == len(browser.all("svg.chart")) == 1
    yeldro("run", "p.json", "--yes", "--report", "run.html", db=network.url)
    browser.open(yeldro.folder / "run.html")
    assert digest in browser.texts("dd")
    assert browser.texts(".verdict") == [f"Committed: {plan['total']:,} rows gone or changed."]
    told = [[each.text for each in row.find_elements("css selector", "th, td")]
            for row in browser.all("[aria-label='Rows of each table'] tbody tr")]  # fmt: skip
    assert {row[0]: (row[1], row[4]) for row in told} == {
        name: (f"{before[name]:,}", f"{network.value(f'SELECT count(*) FROM {name}'):,}")
        for name in tables
    }
    undo = browser.texts("pre.command")[0]
    subprocess.run(["bash", "-c", undo.replace("yeldro", str(PROGRAM), 1) + " --yes"], check=True,
                   env=yeldro.environment, cwd=yeldro.folder, capture_output=True)  # fmt: skip
    assert network.contents() == contents
    browser.open(yeldro.folder / "run.html", media="print")
    assert not any(each.is_displayed() for each in browser.all(".filter"))


def test_a_receipt_page_needs_no_database_and_shows_stored_rows(
    browser: Browser, yeldro: Yeldro, demo: SqliteFile
) -> None:
    yeldro("run", "alert", "--where", "id < 4", "--expect", "3", "--yes", db=demo.url)
    demo.path.unlink()
    yeldro("receipt", "show", "--report", "r.html")
    browser.open(yeldro.folder / "r.html")
    assert browser.texts(".kind, .verdict") == ["RECEIPT", "3 rows were gone or changed."]
    assert [each.split()[0] for each in browser.texts("#rows-1 tbody tr")] == ["1", "2", "3"]
    assert browser.texts("#ledger-table tbody td")[:2] == ["alert", "3"]


@pytest.mark.parametrize(
    ("file", "code", "said"),
    [("there.html", 3, "exists already"), ("page.pdf", 2, "*.html"), ("none/page.html", 2, "none")],
)
def test_a_page_that_cannot_be_written_is_told_before_anything_is_done(
    yeldro: Yeldro, demo: SqliteFile, file: str, code: int, said: str
) -> None:
    (yeldro.folder / "there.html").write_text("mine")
    before = demo.contents()
    words = ("alert", "--all-rows", "--expect", "300", "--yes", "--report", file)
    told = yeldro("run", *words, db=demo.url, code=code).err
    assert told.startswith("Nothing was changed.")
    assert re.search(re.escape(said), told)
    assert demo.contents() == before
    assert (yeldro.folder / "there.html").read_text() == "mine"


def test_a_page_that_fails_after_the_commit_does_not_deny_the_commit(
    yeldro: Yeldro, demo: SqliteFile
) -> None:
    fill = "import os, sys; import yeldro.report.page.files as files\n" + (
        "files.written = lambda page: (_ for _ in ()).throw(OSError('the disk is full'))\n"
        "from yeldro.cli.main import main; sys.argv[0] = 'yeldro'; main()"
    )
    done = subprocess.run(
        [sys.executable, "-c", fill, "run", "alert", "--where", "id < 4", "--expect", "3", "--yes",
         "--report", "page.html", "--db", demo.url], capture_output=True, text=True, check=False,
        cwd=yeldro.folder, env=yeldro.environment)  # fmt: skip
    assert done.returncode == 5
    assert "Committed: 3 rows gone or changed" in done.stdout
    assert done.stderr.startswith("Committed: the rows are gone")
    assert "Only the page page.html could not be written: the disk is full" in done.stderr
    assert demo.value("SELECT count(*) FROM alert") == 297
    again = done.stderr.rpartition("receipt: ")[2].strip().replace("FILE.html", "page.html")
    yeldro(*again.split()[1:])
    assert "RECEIPT" in (yeldro.folder / "page.html").read_text().upper()

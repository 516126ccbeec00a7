"""The documents as a site: it needs nothing else, reads well at each width, and finds words."""

from __future__ import annotations

import subprocess
import sys
import threading
from collections.abc import Iterator
from functools import partial
from http.server import SimpleHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path

import pytest
from browser import Browser

REPOSITORY = Path(__file__).parents[1]
PAGES = sorted({"index.html"} | {f"{page.stem}.html" for page in REPOSITORY.glob("docs/*.md")})


class _Silent(SimpleHTTPRequestHandler):
    def log_message(self, *_words: object) -> None:
        pass


@pytest.fixture(scope="module")
def site(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The address of the site, built anew; a page that is not listed, or a dead link, fails."""
    folder = tmp_path_factory.mktemp("site")
    words = [sys.executable, "-m", "mkdocs", "build", "--strict", "--site-dir", folder]
    done = subprocess.run(words, cwd=REPOSITORY, capture_output=True, text=True, check=False)
    assert done.returncode == 0, done.stderr
    server = ThreadingHTTPServer(("127.0.0.1", 0), partial(_Silent, directory=str(folder)))
    threading.Thread(target=server.serve_forever, daemon=True).start()
    yield f"http://127.0.0.1:{server.server_port}"
    server.shutdown()


@pytest.mark.parametrize("width", [400, 1280])
def test_every_page_loads_nothing_from_elsewhere_and_fits(
    browser: Browser, site: str, width: int
) -> None:
    for page in PAGES:
        browser.open(f"{site}/{page}", width)
        loaded = browser.run("return performance.getEntriesByType('resource').map((e) => e.name)")
        assert [url for url in loaded if not url.startswith(site)] == [], page
        assert browser.run("return document.documentElement.scrollWidth") <= width, page
        said = [each for each in browser.driver.get_log("browser") if each["level"] != "INFO"]
        assert said == [], page


def test_text_and_links_can_be_read(browser: Browser, site: str) -> None:
    browser.open(f"{site}/systems.html")
    assert [found for found in browser.violations() if found[0] == "color-contrast"] == []


def test_a_word_is_found(browser: Browser, site: str) -> None:
    browser.open(f"{site}/index.html?q=survivors")
    browser.driver.implicitly_wait(30)
    found = [each.get_attribute("href") for each in browser.all("#mkdocs-search-results h3 a")]
    assert any("words.html" in each for each in found), found

"""A browser without a window, with a checker of accessibility."""

from __future__ import annotations

import shutil
from pathlib import Path
from typing import Any

from selenium import webdriver

AXE = Path(__file__).with_name("node_modules") / "axe-core" / "axe.min.js"
SILENT = (
    "--headless", "--no-sandbox", "--disable-gpu", "--disable-quic", "--no-first-run",
    "--disable-background-networking", "--disable-component-update", "--disable-sync",
)  # fmt: skip


class Browser:
    """Chromium without a window."""

    def __init__(self) -> None:
        options = webdriver.ChromeOptions()
        options.binary_location = shutil.which("chromium") or ""
        for argument in SILENT:
            options.add_argument(argument)
        options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
        service = webdriver.ChromeService(shutil.which("chromedriver") or "")
        self.driver = webdriver.Chrome(options=options, service=service)

    def open(
        self, page: Path | str, width: int = 1280, scheme: str = "light", media: str = ""
    ) -> None:
        size = {"width": width, "height": 900, "deviceScaleFactor": 1, "mobile": False}
        self.driver.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", size)
        wanted = {"features": [{"name": "prefers-color-scheme", "value": scheme}], "media": media}
        self.driver.execute_cdp_cmd("Emulation.setEmulatedMedia", wanted)
        self.driver.get(page.as_uri() if isinstance(page, Path) else page)

    def run(self, script: str, *arguments: Any) -> Any:
        return self.driver.execute_script(script, *arguments)

    def all(self, selector: str) -> list[Any]:
        return self.driver.find_elements("css selector", selector)

    def texts(self, selector: str) -> list[str]:
        return [each.text for each in self.all(selector)]

    def violations(self) -> list[Any]:
        """What the accessibility checker finds; it is let past the page's own policy."""
        done = "const done = arguments[arguments.length - 1];"
        told = "all.violations.map((one) => [one.id, one.nodes[0].html])"
        found = f"axe.run().then((all) => done({told}))"
        result: list[Any] = self.driver.execute_async_script(f"{AXE.read_text()};{done}{found}")
        return result

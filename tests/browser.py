"""Headless Chromium on files of this machine, for the tests of the page and for its bench. It reaches no network."""

from __future__ import annotations

import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from selenium import webdriver
from selenium.webdriver.chrome.service import Service
from selenium.webdriver.chrome.webdriver import WebDriver
from selenium.webdriver.support.ui import WebDriverWait

CHROMIUM, DRIVER = shutil.which("chromium"), shutil.which("chromedriver")

ARGUMENTS = (
    "--headless=new --no-sandbox --disable-gpu --disable-quic --no-first-run --disable-background-networking "
    "--disable-component-update --disable-sync --hide-scrollbars --window-size=1280,800"
)


@contextmanager
def browser(profile: Path) -> Iterator[WebDriver]:
    """A browser with a new profile in this folder."""
    options = webdriver.ChromeOptions()
    options.binary_location = CHROMIUM or "chromium is not installed"
    for argument in (*ARGUMENTS.split(), f"--user-data-dir={profile}"):
        options.add_argument(argument)
    options.set_capability("goog:loggingPrefs", {"browser": "ALL"})
    driver = webdriver.Chrome(options=options, service=Service(DRIVER or "chromedriver"))
    try:
        yield driver
    finally:
        driver.quit()


def show(driver: WebDriver, path: Path) -> None:
    """Open a page, and wait until its items are there."""
    driver.get(path.as_uri())
    WebDriverWait(driver, 30).until(lambda one: " of " in one.find_element("id", "status").text)


def scheme(driver: WebDriver, which: str) -> None:
    """Light or dark, as the system would ask for it."""
    features = [{"name": "prefers-color-scheme", "value": which}]
    driver.execute_cdp_cmd("Emulation.setEmulatedMedia", {"features": features})

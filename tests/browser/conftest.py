"""The real page in Debian's Chromium."""

from __future__ import annotations

import os
from collections.abc import Iterator

import pytest
from playwright.sync_api import Browser, BrowserContext, Page, expect, sync_playwright

from tests.support.processes import ServerProcess

ARGUMENTS = [
    "--no-sandbox",
    "--disable-gpu",
    "--disable-background-networking",
    "--disable-component-update",
    "--disable-sync",
    "--no-first-run",
]


PATIENCE_MS = float(os.environ.get("BROWSER_PATIENCE_S", "45")) * 1000
"""Beside emulated VMs that boot on the same two cores. Less is handy while texts change."""
expect.set_options(timeout=PATIENCE_MS)


@pytest.fixture(scope="module")
def browser() -> Iterator[Browser]:
    with sync_playwright() as playwright:
        found = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        yield found
        found.close()


@pytest.fixture
def context(browser: Browser) -> Iterator[BrowserContext]:
    found = browser.new_context(
        viewport={"width": 1280, "height": 800}, permissions=["clipboard-read", "clipboard-write"]
    )
    found.set_default_timeout(PATIENCE_MS)
    yield found
    found.close()


@pytest.fixture
def page(context: BrowserContext, server: ServerProcess) -> Iterator[Page]:
    """Signed in; a fault on the page fails the test."""
    found = context.new_page()
    faults: list[str] = []
    found.on("pageerror", lambda error: faults.append(str(error)))
    found.goto(server.url)
    found.get_by_label("Access key").fill(server.key)
    found.get_by_role("button", name="Sign in").click()
    found.get_by_role("link", name="Estate").wait_for()
    yield found
    assert faults == []

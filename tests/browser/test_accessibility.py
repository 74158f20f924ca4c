"""Every view under axe in both themes, narrow and at 200 %, and by its keyboard alone."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from nimble_stone.cli.seeding import know_machines
from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan

AXE = Path(__file__).parents[2] / "web/node_modules/axe-core/axe.min.js"
VIEWS = {
    "overview": "/",
    "plans": "/plans",
    "plans from a table": "/plans?see=table",
    "shared values": "/plans?see=values",
    "plan": "/plans/access",
    "plan: sizing": "/plans/access?ask=sizing",
    "plan: placement": "/plans/access?ask=places",
    "plan: failure impact": "/plans/access?ask=losses",
    "plan: time": "/plans/access?ask=time",
    "run": "/plans/access/run",
    "acceptance": "/plans/access/acceptance",
    "runs": "/runs",
    "estate": "/estate",
    "estate: readiness": "/estate?see=fitness",
    "estate: networks": "/estate?see=networks",
    "estate: pools": "/estate?see=pools",
    "estate: drives": "/estate?see=drives",
    "estate: preparation": "/estate?see=groundwork",
    "estate: run limits": "/estate?see=limits",
    "host": "/estate/hosts/gannet",
    "packages": "/packages",
    "kits": "/kits",
    "kit": "/kits/skerry",
    "keyring": "/keyring",
    "guide": "/help/guide",
}
NAMES = [*VIEWS, "package", "machine", "older run"]
PARTS = [NAMES[0:7], NAMES[7:14], NAMES[14:20], NAMES[20:]]
"""A test each: on a slow machine none lasts for minutes."""


@pytest.fixture(scope="module")
def run(client: Client, lab: LabProcess) -> str:
    """A plan that was run, and machines, so that every view has something to show."""
    know_machines(client, lab.plan)
    ready_plan(client, demo.PLAN.replace("name: western", "name: access"))
    found = str(client.call("POST", "/api/plans/access/run")["run"])
    assert ended(client, found)["state"] == "done"
    return found


@pytest.fixture(scope="module")
def views(client: Client, run: str) -> dict[str, str]:
    """Name of a view → its path."""
    sha = client.call("GET", "/api/packages")[0]["sha256"]
    return VIEWS | {
        "package": f"/packages/{sha}",
        "machine": "/estate/machines/basalt",
        "older run": f"/plans/access/run?run={run}",
    }


def settled(page: Page, server: ServerProcess, path: str) -> None:
    page.goto(f"{server.url}{path}")
    page.get_by_role("navigation", name="Main").wait_for()
    page.locator("main h1, main h2, main table").first.wait_for()
    expect(page.get_by_text("Loading …")).to_have_count(0)
    # parts of the page are fetched one after the other: until nothing has come for a while
    page.evaluate(
        """() => new Promise((done) => {
             const count = () => performance.getEntriesByType('resource').length;
             let seen = count(), still = 0;
             const timer = setInterval(() => {
               still = count() === seen ? still + 1 : 0;
               seen = count();
               if (still >= 4) { clearInterval(timer); done(); }
             }, 100);
           })"""
    )
    expect(page.get_by_text("Loading …")).to_have_count(0)


EVERYTHING = ["wcag2a", "wcag2aa", "wcag21a", "wcag21aa", "wcag22aa", "best-practice"]
COLOURS = ["color-contrast", "link-in-text-block"]
"""All that a theme changes: the document is the same one."""


def violations(page: Page) -> list[str]:
    """What axe finds in what is shown, in both themes."""
    # a statement: its value would be the whole of axe, sent over piece by piece
    page.evaluate(f"{AXE.read_text()};0")
    found = _by_axe(page, {"type": "tag", "values": EVERYTHING})
    was = page.evaluate("document.documentElement.dataset.theme")
    page.evaluate("document.documentElement.dataset.theme = 'dark'")
    found += _by_axe(page, {"type": "rule", "values": COLOURS})
    page.evaluate("was => { document.documentElement.dataset.theme = was }", was)
    return found


def _by_axe(page: Page, only: dict[str, Any]) -> list[str]:
    found: dict[str, Any] = page.evaluate("only => axe.run(document, {runOnly: only})", only)
    # the bars of a run's steps are as long as the steps took: WCAG 2.5.8 excepts what is essential
    return [
        f"{one['id']}: {node['html'][:160]} ({re.sub(chr(10), ' ', node['failureSummary'])[:200]})"
        for one in found["violations"]
        for node in one["nodes"][:3]
        if not (one["id"] == "target-size" and 'class="bar' in node["html"])
    ]


def sideways(page: Page) -> list[str]:
    """What makes the page wider than 640 px, which is also 1280 px at 200 %."""
    size = page.viewport_size
    page.set_viewport_size({"width": 640, "height": 800})
    page.wait_for_function("innerWidth === 640")
    width = page.evaluate(
        "() => new Promise((done) => requestAnimationFrame(() => requestAnimationFrame("
        "() => done(document.scrollingElement.scrollWidth))))"
    )
    out = page.evaluate(
        """() => [...document.querySelectorAll('main *')].filter((one) => {
             const box = one.getBoundingClientRect();
             if (box.width === 0 || box.right <= 641) return false;
             for (let up = one.parentElement; up; up = up.parentElement)
               if (getComputedStyle(up).overflowX !== 'visible') return false;
             return true;
           }).slice(0, 3).map((one) => one.outerHTML.slice(0, 120))"""
    )
    assert size is not None
    page.set_viewport_size(size)
    return [f"{width} px wide"] * (width > 640) + list(out)


@pytest.mark.parametrize("names", PARTS, ids=lambda names: names[0])
def test_axe_finds_nothing_in_any_view_and_none_scrolls_sideways(
    page: Page, server: ServerProcess, views: dict[str, str], names: list[str]
) -> None:
    """Seen once each: loading takes longest."""
    found = {}
    for name in names:
        settled(page, server, views[name])
        if wrong := violations(page) + sideways(page):
            found[name] = wrong
    assert not found, json.dumps(found, indent=1)


def test_axe_finds_nothing_in_dialogs_and_at_the_door(
    page: Page, server: ServerProcess, views: dict[str, str]
) -> None:
    found = {}
    for path, opened in (
        ("/plans/access", "Tables"),
        ("/plans/access", "Columns"),
        ("/plans/access", "plan file"),
        ("/plans/access/run", "Roll back …"),
        ("/estate", "Add …"),
        ("/estate", "Prepare …"),
        ("/estate?see=networks", "New network"),
        ("/estate?see=pools", "New pool"),
        ("/plans", "Copy to another bay …"),
        ("/packages", "Import from URL …"),
    ):
        settled(page, server, path)
        page.get_by_role("button", name=opened).first.click()
        expect(page.get_by_role("dialog")).to_be_visible()
        if wrong := violations(page):
            found[opened] = wrong
    page.keyboard.press("Escape")
    page.keyboard.press("Control+k")
    expect(page.get_by_role("dialog")).to_be_visible()
    if wrong := violations(page):
        found["Ctrl K"] = wrong
    page.context.clear_cookies()
    page.goto(server.url)
    expect(page.get_by_label("Access key")).to_be_focused()
    if wrong := violations(page):
        found["sign-in"] = wrong
    assert not found, json.dumps(found, indent=1)


def test_dialogs_give_focus_back_and_letters_can_be_switched_off(
    page: Page, server: ServerProcess, run: str
) -> None:
    settled(page, server, "/plans/access")
    tables = page.get_by_role("button", name="Tables")
    tables.focus()
    page.keyboard.press("Enter")
    expect(page.get_by_role("dialog")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog")).to_have_count(0)
    expect(tables).to_be_focused()
    # from the sheet `/` leads to the filter, and inside a cell it is typed
    page.get_by_label("The sheet").focus()
    page.keyboard.press("/")
    expect(page.get_by_label("Filter")).to_be_focused()
    page.keyboard.press("Escape")
    page.get_by_label("The sheet").focus()
    page.keyboard.press("F2")
    page.keyboard.press("/")
    expect(page.get_by_label("Name of access-lead")).to_have_value("access-lead/")
    page.keyboard.press("Escape")
    page.keyboard.press("?")
    page.get_by_label("Single characters work as shortcuts").uncheck()
    page.keyboard.press("Escape")
    page.get_by_label("The sheet").focus()
    page.keyboard.press("/")
    expect(page.get_by_label("Filter")).not_to_be_focused()
    page.keyboard.press("?")
    expect(page.get_by_role("dialog")).to_have_count(0)
    page.evaluate("localStorage.clear()")


def test_anything_is_found_by_name(
    page: Page, server: ServerProcess, run: str, lab: LabProcess
) -> None:
    settled(page, server, "/")
    for typed, choice, where in (
        ("gannet", "host gannet", "/estate/hosts/gannet"),
        ("access-arc-1", "node access-arc-1", "/plans/access?node=archive-1&column=name"),
        (run, f"run {run}", f"/plans/access/run?run={run}"),
        ("Gauge Col", "package Gauge Collector 4.2.0", "/packages/"),
        ("glossary", "page Glossary", "/help/glossary"),
    ):
        page.keyboard.press("Control+k")
        page.get_by_role("combobox", name="Command").fill(typed)
        page.get_by_role("option", name=re.compile(f"^{re.escape(choice)}")).first.click()
        expect(page).to_have_url(re.compile(re.escape(where)))


def tab_to(page: Page, name: str, role: str = "") -> None:
    """Press Tab until something of that name has the focus."""
    for _ in range(120):
        page.keyboard.press("Tab")
        found = page.evaluate(
            """() => { const one = document.activeElement; return [one.getAttribute('aria-label')
            ?? one.labels?.[0]?.innerText ?? one.innerText ?? '', one.tagName.toLowerCase()] }"""
        )
        if found[0].strip().startswith(name) and role in found[1]:
            return
    raise AssertionError(f"“{name}” is not reached by Tab")


def test_the_tour_by_keyboard_alone(page: Page, server: ServerProcess, client: Client) -> None:
    """A plan is made, answered, checked and run, and its acceptance read, without a pointer."""
    settled(page, server, "/plans")
    tab_to(page, "New plan", "button")
    page.keyboard.press("Enter")
    expect(page.get_by_label("Name")).to_be_focused()
    page.keyboard.type("keys")
    tab_to(page, "Create plan", "button")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/plans/keys"))
    sheet = page.get_by_label("The sheet")
    expect(sheet).to_be_visible()
    for label in ("Set Station group", "Set Admin password", "Read and accept the licence"):
        tab_to(page, label, "button")
        page.keyboard.press("Enter")
        if "Station" in label:
            expect(page.get_by_label("Station group of every node")).to_be_focused()
            page.keyboard.type("west")
            page.keyboard.press("Enter")
            expect(sheet).to_be_focused()
            continue
        dialog = page.get_by_role("dialog")
        expect(dialog).to_be_visible()
        if "password" in label:
            tab_to(page, "Generate", "button")
            page.keyboard.press("Enter")
            expect(dialog.get_by_label("Admin password")).not_to_have_value("")
            page.keyboard.press("Shift+Tab")
            expect(dialog.get_by_role("button", name="Save to keyring")).to_be_focused()
        else:
            page.keyboard.type("Mara Lindqvist")
        page.keyboard.press("Enter")
        expect(dialog).to_have_count(0)
    tab_to(page, "Check and run", "button")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/plans/keys/run"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("checks passed", timeout=120_000)
    tab_to(page, "Acceptance", "a")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("acceptance checks passed")
    # what a screen reader is told of the page: landmarks, headings and a table with its cells
    tree = page.locator("body").aria_snapshot()
    for told in ("banner", 'navigation "Main"', "main", 'heading "All', 'complementary "Details"'):
        assert told in tree, tree[:1500]

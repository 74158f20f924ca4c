"""How much somebody has to do: every click, and every field that is typed in, counts as one."""

from __future__ import annotations

import re

from playwright.sync_api import Locator, Page, expect

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.support.processes import ServerProcess, wait_for


class Hand:
    """What a person does, counted."""

    def __init__(self) -> None:
        self.done: list[str] = []

    def click(self, what: Locator) -> None:
        what.click()
        self.done.append(f"click {what}")

    def type(self, where: Locator, text: str, *, enter: bool = True) -> None:
        where.fill(text)
        if enter:
            where.press("Enter")
        self.done.append(f"type {text}")


def no_plans(client: Client) -> None:
    for row in client.call("GET", "/api/plans"):
        client.call("DELETE", f"/api/plans/{row['id']}")


def main_button(page: Page) -> Locator:
    """The one thing to be done next."""
    return page.locator('main button[data-kind="main"]').first


def test_a_newcomers_first_plan_is_proved_in_at_most_12_interactions(
    page: Page, server: ServerProcess, client: Client
) -> None:
    no_plans(client)
    page.goto(server.url)
    hand = Hand()
    hand.click(page.get_by_role("navigation", name="Main").get_by_role("link", name="Plans"))
    hand.click(page.get_by_role("button", name="New plan"))
    page.get_by_label("Kit").select_option(label="Gauge Collector")  # by itself where it is alone
    page.get_by_label("Bay").select_option("kelda-main")
    hand.type(page.get_by_label("Name"), "first")
    expect(page.get_by_role("heading", level=1)).to_contain_text("blocker")
    while True:
        button = main_button(page)
        expect(button).to_be_enabled()
        label = button.inner_text()
        hand.click(button)
        if label == "Check and run":
            break
        dialog = page.get_by_role("dialog")
        cell = page.get_by_label(re.compile("^Station group of"))
        expect(dialog.or_(cell).first).to_be_visible()
        if cell.count():
            hand.type(cell, "west")
        elif dialog.get_by_label("Accepted by").count():
            hand.type(dialog.get_by_label("Accepted by"), "Mara Lindqvist")
        else:
            hand.click(dialog.get_by_role("button", name="Generate"))
            hand.click(dialog.get_by_role("button", name="Save to keyring"))
        expect(dialog).to_have_count(0)
        expect(cell).to_have_count(0)
        page.wait_for_function("() => !document.querySelector('[aria-busy=true]')")
    expect(page).to_have_url(re.compile("/plans/first/run"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("checks passed", timeout=120_000)
    assert len(hand.done) <= 12, hand.done


def test_a_second_cluster_takes_at_most_4(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans")
    hand = Hand()
    hand.click(page.get_by_role("button", name="Copy to another bay …"))
    dialog = page.get_by_role("dialog")
    hand.type(dialog.get_by_label("As"), "second")
    expect(page).to_have_url(re.compile("/plans/second"))
    expect(main_button(page)).to_have_text("Check and run")
    hand.click(main_button(page))
    expect(page).to_have_url(re.compile("/plans/second/run"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("checks passed", timeout=120_000)
    assert len(hand.done) <= 4, hand.done


def test_four_clusters_from_a_table_run_in_at_most_10(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(server.url)
    hand = Hand()
    hand.click(page.get_by_role("navigation", name="Main").get_by_role("link", name="Plans"))
    hand.click(page.get_by_role("link", name="from a table"))
    rows = "".join(
        f"{name}\tness-two\tness-survey\t{name}\t2\n" for name in ("tarn", "beck", "rill", "burn")
    )
    table = page.get_by_label("Table of plans")
    hand.type(table, f"name\tbay\tpool\tstation\tcount.archive\n{rows}", enter=False)
    licence = page.get_by_label("Licences accepted by")
    hand.type(licence, "Mara Lindqvist")
    button = page.get_by_role("button", name="Create and run 4")
    expect(button).to_be_enabled()
    hand.click(button)
    expect(page).to_have_url(re.compile("/runs$"))
    assert len(hand.done) <= 10, hand.done
    own = ("tarn", "beck", "rill", "burn")

    def all_done() -> bool:
        runs = [run["state"] for run in client.call("GET", "/api/runs") if run["plan"] in own]
        return runs == ["done"] * 4

    wait_for(all_done, 180, "four clusters")
    assert demo.PASSWORD not in page.content()

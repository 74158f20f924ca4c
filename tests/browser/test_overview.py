"""The first page and the list of runs."""

from __future__ import annotations

import re

from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.support.processes import ServerProcess, ready_plan, wait_for


def heading(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_role("heading", level=1)


def test_the_overview_groups_plans_by_what_is_to_be_done(
    page: Page, server: ServerProcess, client: Client
) -> None:
    for row in client.call("GET", "/api/plans"):
        client.call("DELETE", f"/api/plans/{row['id']}")
    page.goto(server.url)
    expect(heading(page)).to_contain_text("No plans.")
    expect(page.get_by_role("link", name="Add hosts")).to_be_visible()
    ready_plan(client, demo.PLAN.replace("name: western", "name: first"))
    ready_plan(client, demo.PLAN.replace("name: western", "name: second"))
    planned = page.get_by_role("region", name="Not deployed")
    # a change is seen without a reload
    expect(planned.get_by_role("link")).to_have_count(2)
    run = client.call("POST", "/api/plans/first/run")["run"]
    wait_for(lambda: client.call("GET", f"/api/runs/{run}")["state"] == "done", 120)
    deployed = page.get_by_role("region", name="Deployed", exact=True)
    card = deployed.get_by_role("link")
    expect(card).to_contain_text("deployed, checks passed")
    expect(card.locator("i.deployed")).to_have_count(3)
    expect(heading(page)).to_contain_text("1 cluster deployed, 1 plan not deployed")
    card.click()
    expect(page).to_have_url(re.compile("/plans/first/run"))


def test_runs_are_listed_filtered_and_opened(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/runs")
    expect(heading(page)).to_contain_text("1 run. None in progress.")
    expect(page.get_by_role("row")).to_have_count(2)
    page.get_by_label("Filter runs").fill("no such run")
    expect(page.get_by_text("No run matches.")).to_be_visible()
    page.get_by_label("Filter runs").fill("rollout passed")
    page.get_by_role("row").get_by_role("link").click()
    expect(page).to_have_url(re.compile("/plans/first/run"))


def test_plans_are_found_ordered_and_deleted_unless_deployed(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans")
    body = page.locator("tbody").get_by_role("row")
    expect(body).to_have_count(2)
    page.get_by_label("Filter plans").fill("second")
    expect(body).to_have_count(1)
    page.get_by_label("Filter plans").fill("")
    header = page.get_by_role("columnheader", name="State")
    header.get_by_role("button").click()
    expect(header).to_have_attribute("aria-sort", "ascending")
    expect(body.first).to_contain_text("first")
    header.get_by_role("button").click()
    expect(body.first).to_contain_text("second")
    dialog = page.get_by_role("dialog")
    body.filter(has_text="first").get_by_role("button", name="Delete …").click()
    dialog.get_by_role("button", name="Delete plan").click()
    # its cluster is deployed
    expect(page.get_by_text("Roll the run back first.")).to_be_visible()
    body.filter(has_text="second").get_by_role("button", name="Delete …").click()
    dialog.get_by_role("button", name="Cancel").click()
    expect(body).to_have_count(2)
    body.filter(has_text="second").get_by_role("button", name="Delete …").click()
    dialog.get_by_role("button", name="Delete plan").click()
    expect(body).to_have_count(1)
    assert [row["id"] for row in client.call("GET", "/api/plans")] == ["first"]

"""What stands, changed from its page: one node more, one less, one put back, one made again."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from tests.engine.test_growing import by_hand
from tests.engine.test_runs import ours, plan_text
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for

pytestmark = pytest.mark.usefixtures("client")


def test_a_deployment_is_changed_from_its_page(
    page: Page, server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("quay"))
    first = client.call("POST", "/api/plans/quay/run")["run"]
    assert ended(client, first)["state"] == "done"
    title = page.get_by_role("heading", level=1)
    page.goto(f"{server.url}/plans/quay")
    expect(title).to_contain_text("This plan has a run")
    page.get_by_role("button", name="One archive more").click()
    expect(title).to_have_text("3 nodes deployed: 1 to add.")
    expect(page.locator('[data-node="archive-3"]')).to_have_attribute("data-state", "planned")
    expect(page.locator('[data-node="archive-1"]')).to_have_attribute("data-state", "done")
    page.get_by_role("button", name="Check and change").click()
    expect(title).to_contain_text("4 of 4 nodes deployed. All")
    expect(page.get_by_text("deployed, unchanged")).to_have_count(3)
    # the plan's page knows at once that it is built
    page.get_by_role("link", name="Plan", exact=True).click()
    expect(title).to_contain_text("This plan has a run")
    expect(page.locator('[data-node="archive-3"]')).to_have_attribute("data-state", "done")
    # what somebody did by hand is found, and put back
    arc = next(n for n in client.call("GET", "/api/plans/quay")["nodes"] if n["id"] == "archive-1")
    by_hand(lab, arc["host"], "destroy", arc["name"])
    page.goto(f"{server.url}/plans/quay")
    page.get_by_role("button", name="Read now").click()
    expect(page.get_by_text("shut off")).to_be_visible()
    page.get_by_role("button", name="Accept …").first.click()
    page.get_by_label("Reason").fill("moved to another rack")
    page.get_by_role("button", name="Accept", exact=True).click()
    expect(page.get_by_text("moved to another rack")).to_be_visible()
    page.get_by_role("button", name="Put back 1 node").click()
    expect(title).to_contain_text("4 of 4 nodes deployed. All")
    # one less: what is deleted is said, and the plan's name typed
    page.goto(f"{server.url}/plans/quay")
    page.get_by_role("button", name="One archive less").click()
    expect(title).to_have_text("4 nodes deployed: 1 to remove.")
    page.get_by_role("button", name="Check and change").click()
    dialog = page.get_by_role("dialog")
    expect(dialog).to_contain_text("Deletes 1 VM with its disks.")
    expect(dialog.get_by_label("VMs that are deleted")).to_have_text("quay-arc-3")
    expect(dialog.get_by_role("button", name="Check and change")).to_be_disabled()
    dialog.get_by_label("Plan’s name").fill("quay")
    page.keyboard.press("Enter")
    expect(title).to_contain_text("3 of 3 nodes deployed. All")
    expect(page.get_by_text("removed", exact=True)).to_be_visible()
    # one made again
    page.goto(f"{server.url}/plans/quay?node=archive-2")
    page.get_by_role("button", name="Make quay-arc-2 again …").click()
    expect(dialog).to_contain_text("Data on its disks is lost")
    dialog.get_by_label("Plan’s name").fill("quay")
    dialog.get_by_role("button", name="Make it again").click()
    expect(title).to_contain_text("3 of 3 nodes deployed. All")
    # all of it goes, by its name only
    page.goto(f"{server.url}/plans/quay")
    page.get_by_role("button", name="Retire all 3 nodes …").click()
    expect(dialog).to_contain_text("Deletes 3 VMs with their disks and config ISOs.")
    expect(dialog).to_contain_text("3 addresses and the name records")
    retire = dialog.get_by_role("button", name="Retire 3 nodes")
    expect(retire).to_be_disabled()
    dialog.get_by_label("Plan’s name").fill("quay")
    retire.click()
    expect(dialog).not_to_be_visible()
    wait_for(lambda: not client.call("GET", "/api/deployments/quay/retiring")["left"], 60, "quay")
    wait_for(lambda: ours(lab) == [], 30, "all to be gone")
    client.call("DELETE", "/api/plans/quay")

"""A node that shows another host key: both are shown on its plan's page, and one is confirmed."""

from __future__ import annotations

import pytest
from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from tests.engine.test_growing import by_hand
from tests.engine.test_runs import ours, plan_text
from tests.support.processes import LabProcess, ServerProcess, ended, ready_plan, wait_for

pytestmark = pytest.mark.usefixtures("client")


def test_another_key_of_a_node_is_compared_and_pinned_on_its_plans_page(
    page: Page, server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    ready_plan(client, plan_text("moor"))
    run = client.call("POST", "/api/plans/moor/run")["run"]
    assert ended(client, run)["state"] == "done"
    page.goto(f"{server.url}/plans/moor?node=archive-1&column=name")
    page.get_by_role("button", name="Keys …").click()
    dialog = page.get_by_role("dialog", name="Keys of moor-arc-1")
    expect(dialog).to_contain_text("SSH host key, port 22")
    expect(dialog).to_contain_text("the same")
    expect(dialog.get_by_role("button", name="Pin the new key")).to_have_count(0)
    page.keyboard.press("Escape")
    node = next(n for n in client.call("GET", "/api/plans/moor")["nodes"] if n["id"] == "archive-1")
    lab.turn("all", guests={node["name"]: "other-key"})
    by_hand(lab, node["host"], "destroy", node["name"])
    by_hand(lab, node["host"], "start", node["name"])
    place = "/api/deployments/moor/nodes/archive-1/keys"
    found = wait_for(
        lambda: next((k for k in client.call("GET", place)["keys"] if k["shown"]), None),
        what="a key",
    )
    page.get_by_role("button", name="Keys …").click()
    expect(dialog).to_contain_text(found["pinned"])
    expect(dialog).to_contain_text(found["shown"])
    expect(dialog).to_contain_text("Compare the fingerprint on the node’s console first.")
    dialog.get_by_role("button", name="Pin the new key").click()
    expect(dialog).to_contain_text("the same")
    expect(dialog).not_to_contain_text(found["pinned"])
    page.keyboard.press("Escape")
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))
    assert ours(lab) == []

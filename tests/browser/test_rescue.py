"""VMs that others made are adopted from the page; a host is given up that does not come back."""

from __future__ import annotations

from playwright.sync_api import BrowserContext, expect

from tests.engine.test_adopting import found, second
from tests.engine.test_lost_host import VIRSH
from tests.engine.test_runs import plan_text
from tests.support.processes import LabProcess, ServerProcess, ready_plan
from tests.support.raw import ssh

__all__ = ["found", "second"]


def test_vms_are_adopted_and_a_lost_host_is_given_up(
    context: BrowserContext, second: ServerProcess, lab: LabProcess, found: dict[str, str]
) -> None:
    ready_plan(second.client(), plan_text("quay"))
    page = context.new_page()
    page.goto(second.url)
    page.get_by_label("Access key").fill(second.key)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Estate").wait_for()
    page.goto(f"{second.url}/plans/quay")
    title, dialog = page.get_by_role("heading", level=1), page.get_by_role("dialog")
    expect(title).to_contain_text("Nimble Stone did not create it")
    page.get_by_role("button", name="Adopt it as this node, or rename the node").first.click()
    for node, name in (("lead-1", "quay-lead"), ("archive-1", "quay-arc-1")):
        chosen = dialog.get_by_label(f"VM of {node}")
        expect(chosen).to_have_value(f"{found[name]}/{name}")
    dialog.get_by_label("VM of lead-1").select_option("")
    expect(dialog.get_by_role("button", name="Adopt 2 VMs")).to_be_enabled()
    dialog.get_by_label("VM of lead-1").select_option(f"{found['quay-lead']}/quay-lead")
    dialog.get_by_role("button", name="Adopt 3 VMs").click()
    expect(title).to_contain_text("3 of 3 nodes deployed. All")

    host = found["quay-arc-1"]
    ssh(lab, host, f"{VIRSH} destroy quay-arc-1", "")
    lab.turn(host, unreachable=True)
    page.goto(f"{second.url}/plans/quay")
    page.get_by_role("button", name="Check against hosts").click()
    page.get_by_role("button", name="Lost for good …").click()
    expect(dialog).to_contain_text(f"{host} does not answer. If it is lost for good")
    expect(dialog).to_contain_text("under the same names and addresses: quay-arc-1 on ")
    dialog.get_by_label("Plan’s name").fill("quay")
    dialog.get_by_role("button", name="Make them again elsewhere").click()
    expect(title).to_contain_text("3 of 3 nodes deployed. All")
    lab.turn(host, unreachable=False)
    page.goto(f"{second.url}/estate/hosts/{host}")
    page.get_by_role("button", name="Refresh").click()
    expect(page.get_by_text(f"was left here when {host} was lost")).to_be_visible()

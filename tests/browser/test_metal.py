"""From blank machines to a cluster, in the browser: what stands in the way is one button, and the
run is watched on the wall.
"""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from playwright.sync_api import Page, expect

from nimble_stone.lab.scenario import demo
from tests.support.machines import Place, machine_scene
from tests.support.processes import ServerProcess


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Place]:
    with machine_scene(tmp_path_factory.mktemp("metal")) as found:
        client = found[2]
        plan = client.call("POST", "/api/plans", {"text": demo.METAL})
        body = {"column": "admin_password", "value": "Tide-tables 1893"}
        client.call("POST", "/api/plans/keel/secret", body | {"version": plan["version"]})
        yield found


@pytest.fixture(scope="module")
def server(place: Place) -> ServerProcess:
    return place[1]


@pytest.mark.timeout(900)
def test_six_blank_machines_become_a_cluster(page: Page, place: Place) -> None:
    lab, server, _ = place
    page.goto(f"{server.url}/plans/keel")
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_contain_text("6 nodes on 6 machines. Not inspected: basalt, chert, gneiss")
    page.get_by_role("button", name="Inspect them on the estate page").first.click()
    dialog = page.get_by_role("dialog")
    # the plan's machines are ticked, and no other
    expect(dialog.get_by_role("checkbox", name="tuff")).to_be_checked()
    expect(dialog.get_by_role("checkbox", name="flint")).not_to_be_checked()
    dialog.get_by_role("button", name="Inspect 6 machines").click()
    expect(heading).to_contain_text("All 24 steps on 6 machines done", timeout=90_000)
    page.goto(f"{server.url}/plans/keel")
    expect(heading).to_contain_text("Ready to run")
    head = page.get_by_role("columnheader")
    expect(head.filter(has_text="Machine")).to_be_visible()
    expect(head.filter(has_text="System drive").first).to_be_visible()
    expect(head.filter(has_text="Datastore")).to_have_count(0)
    # one on each machine for the system, two for data, one that holds an old archive
    drives = page.locator(".wall .drive")
    expect(drives.and_(page.locator(".system"))).to_have_count(6)
    expect(drives.and_(page.locator(".data"))).to_have_count(12)
    expect(drives.and_(page.locator(".held"))).to_have_count(1)
    # idle drives are offered; all of them are too few for no one
    page.get_by_role("button", name="Use all as data disk").first.click()
    expect(drives.and_(page.locator(".data"))).to_have_count(6 * 9 - 1)
    page.get_by_role("button", name="Undo").click()
    expect(drives.and_(page.locator(".data"))).to_have_count(12)
    page.get_by_role("button", name="Check and run").click()
    expect(heading).to_contain_text("6 of 6 nodes deployed", timeout=120_000)
    assert all(lab.show()["machines"][name]["power"] == "On" for name in ("basalt", "tuff"))
    # a bare machine's console is its controller's
    expect(page.get_by_text("serial console")).to_have_count(0)
    _next_plan_is_for_what_was_built(page, server)
    page.get_by_role("button", name="Roll back").click()
    expect(dialog).to_contain_text("Removes 6 hosts from the estate.")
    expect(dialog).to_contain_text("Switches basalt, chert, gneiss, granite, slate, tuff off")
    dialog.get_by_label("Plan’s name").fill("keel")
    dialog.get_by_role("button", name="Switch off 6 machines").click()
    expect(heading).to_contain_text("6 machines are off", timeout=60_000)


def _next_plan_is_for_what_was_built(page: Page, server: ServerProcess) -> None:
    """The run's page leads to a new plan on its hosts; host and machine lead to one another."""
    run = page.url
    expect(page.get_by_text("6 nodes are hosts of the estate")).to_be_visible()
    page.get_by_role("link", name="New plan on them").click()
    expect(page.get_by_role("combobox", name="Bay")).to_have_value("keel")
    page.goto(f"{server.url}/estate/hosts/keel-sto-1")
    page.get_by_role("link", name="basalt", exact=True).click()
    heading = page.get_by_role("heading", level=1)
    expect(heading).to_contain_text("basalt carries keel-sto-1, power on")
    page.get_by_role("link", name="keel-sto-1", exact=True).click()
    expect(page).to_have_url(f"{server.url}/estate/hosts/keel-sto-1")
    page.goto(f"{server.url}/estate/machines/flint")
    page.get_by_role("radio", name="network").check()
    page.reload()
    expect(page.get_by_role("radio", name="network")).to_be_checked()
    page.get_by_role("radio", name="virtual media").check()
    page.goto(run)
    expect(heading).to_contain_text("6 of 6 nodes deployed")

"""From an empty estate to one that is known and mended, in the browser: added, scanned, judged,
repaired, prepared, drawn.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from playwright.sync_api import Browser, Page, expect

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo, medium
from tests.support.processes import LabProcess, ServerProcess, lab_and_server, small_package

HOSTS = (
    "[kelda-main]\ngannet 10.44.1.11\nfulmar 10.44.1.12\nskua 10.44.1.13\npetrel"
    " 10.44.1.14\n[ness-two]\ntern 10.45.1.15\nwhimbrel 10.45.1.16\ndunlin 10.45.1.17\nknot"
    " 10.45.1.18\n"
)


@pytest.fixture(scope="module")
def place(
    tmp_path_factory: pytest.TempPathFactory,
) -> Iterator[tuple[LabProcess, ServerProcess, Client]]:
    with lab_and_server(tmp_path_factory.mktemp("estate"), more_hosts=2, reachable=True) as found:
        lab, running, client = found
        medium.write(running.data / "inspection.iso")
        # networks only
        client.call(
            "POST",
            "/api/estate",
            demo.estate_file(lab.plan).model_copy(update={"hosts": ()}).model_dump(mode="json"),
        )
        yield found


@pytest.fixture(scope="module")
def lab(place: tuple[LabProcess, ServerProcess, Client]) -> LabProcess:
    return place[0]


@pytest.fixture(scope="module")
def server(place: tuple[LabProcess, ServerProcess, Client]) -> ServerProcess:
    return place[1]


@pytest.fixture
def page(browser: Browser, server: ServerProcess) -> Iterator[Page]:
    context = browser.new_context(viewport={"width": 1280, "height": 800})
    context.set_default_timeout(20_000)
    found = context.new_page()
    faults: list[str] = []
    found.on("pageerror", lambda error: faults.append(str(error)))
    found.goto(server.url)
    found.get_by_label("Access key").fill(server.key)
    found.get_by_role("button", name="Sign in").click()
    found.get_by_role("link", name="Estate").wait_for()
    found.goto(f"{server.url}/estate")
    yield found
    assert faults == []
    context.close()


def heading(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_role("heading", level=1)


def test_a_new_user_adds_ten_hosts_and_seven_machines_mends_a_bay_and_knows_what_is_left(
    page: Page, server: ServerProcess, lab: LabProcess
) -> None:
    expect(heading(page)).to_contain_text("No hosts yet")
    page.get_by_role("button", name="Add hosts and machines").click()
    more = "".join(f"{host.name} {host.address}\n" for host in lab.plan.hosts[8:])
    page.get_by_label("Names or addresses").fill(HOSTS + f"[outfield]\n{more}")
    expect(page.get_by_role("dialog")).to_contain_text("10 hosts")
    page.get_by_label("Keyring entry").fill("birds")
    page.get_by_label("Its value").fill(demo.PASSWORD)
    page.get_by_label("Site").fill("Kelda")
    page.get_by_role("button", name="Check 10 logins").click()
    expect(page.get_by_text("10 of 10 can be added")).to_be_visible(timeout=30_000)
    page.get_by_role("button", name="Pin these keys, add 10").click()
    expect(heading(page)).to_contain_text("10 hosts", timeout=30_000)

    page.get_by_role("button", name="Add …").click()
    page.get_by_role("button", name="scan a range").click()
    page.get_by_label("Addresses: at most 4,096").fill("10.44.3.99-108")
    page.get_by_role("button", name="Scan", exact=True).click()
    expect(page.get_by_text("7 new ones")).to_be_visible(timeout=30_000)
    page.get_by_role("button", name="Add 7 addresses to the list").click()
    expect(page.get_by_role("dialog")).to_contain_text("7 machines")
    names = [one.name for one in demo.plan().machines]
    box = page.get_by_label("Names or addresses")
    box.fill(
        "[kelda-metal]\n"
        + "\n".join(
            f"{name} {line}" for name, line in zip(names, box.input_value().split(), strict=True)
        )
    )
    page.get_by_label("Keyring entry").fill(demo.BMC_CREDENTIAL)
    page.get_by_role("button", name="Check 7 logins").click()
    expect(page.get_by_text("7 of 7 can be added")).to_be_visible(timeout=40_000)
    expect(page.get_by_role("row").filter(has_text="10.44.3.105")).to_contain_text("expired")
    page.get_by_role("button", name="Pin these keys, add 7").click()
    expect(heading(page)).to_contain_text("10 hosts and 7 machines", timeout=40_000)

    page.get_by_role("button", name=re.compile("^readiness")).click()
    expect(
        page.get_by_role("row").filter(has_text="knot").get_by_role("img", name="caution")
    ).to_have_count(2)
    page.locator("tbody").filter(has_text="ness-two").get_by_role(
        "button", name=re.compile("fix 3 rules")
    ).click()
    expect(page.get_by_role("dialog")).to_contain_text("3 steps on 2 hosts")
    page.get_by_role("dialog").get_by_text("name records").last.click()
    expect(page.get_by_role("dialog")).to_contain_text("tee -a /etc/hosts")
    page.get_by_role("button", name="Run on knot and whimbrel").click()
    page.wait_for_url("**/estate/groundwork/**")
    expect(heading(page)).to_contain_text("All 3 steps on 2 hosts done", timeout=30_000)
    expect(page.get_by_role("log", name="Transcript")).to_contain_text("$ LC_ALL=C timeout")
    page.get_by_role("link", name="Show remaining problems").click()
    expect(page.get_by_role("row").filter(has_text="knot")).to_be_visible()
    expect(
        page.get_by_role("row").filter(has_text="knot").get_by_role("img", name="caution")
    ).to_have_count(0)
    expect(heading(page)).to_contain_text(re.compile(r"[\d.]+ TiB memory\s+available"))
    page.get_by_role("button", name="datastores").click()
    expect(page.locator("svg[aria-label^='The estate by bytes']")).to_contain_text("TiB")


def test_the_wall_changes_its_reading_and_is_filtered_by_typing(page: Page) -> None:
    for label, reading in (
        ("vCPU", "vcpu"),
        ("datastores", "bytes"),
        ("age of facts", "age"),
        ("findings", "findings"),
        ("memory", "memory"),
    ):
        page.get_by_role("button", name=label, exact=True).click()
        expect(page.locator(f"svg[aria-label^='The estate by {reading}']")).to_be_visible()
    expect(page.locator("g[data-name]")).to_have_count(17)
    page.get_by_label("Filter").fill("metal")
    expect(page.locator("g[data-name]")).to_have_count(7)
    page.get_by_label("Filter").fill("knot")
    expect(page.locator("g[data-name]")).to_have_count(1)
    page.get_by_label("Filter").fill("")
    page.locator("g[data-name='skua']").click(force=True)
    expect(page.get_by_role("link", name="Open skua")).to_be_visible()


def test_a_rule_is_switched_off_for_a_bay_with_a_reason(page: Page) -> None:
    page.goto(page.url.split("?")[0] + "?see=fitness")
    page.get_by_role("button", name="Does not swap").click()
    dialog = page.get_by_role("dialog", name="Does not swap")
    dialog.get_by_role("combobox").select_option("ness-two")
    dialog.get_by_label("Disable in this bay").check()
    expect(dialog.get_by_role("button", name="Save")).to_be_disabled()
    dialog.get_by_label("Reason").fill("replaced in March")
    dialog.get_by_role("button", name="Save").click()
    expect(dialog).to_contain_text("switched off — “replaced in March”")
    expect(dialog).to_contain_text("All hosts pass")
    dialog.get_by_role("button", name="Reset to default").click()
    expect(dialog).to_contain_text("tern")


def test_a_host_is_drawn_and_a_disk_wiped_only_after_its_name_was_typed(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/estate/hosts/petrel")
    expect(page.get_by_role("img", name="Interfaces, bridges and networks")).to_contain_text(
        "eno2.420"
    )
    expect(page.locator("[data-use=remains]")).to_contain_text("remains of a RAID")
    page.get_by_role("button", name="Wipe it if the data is not needed.").click()
    page.get_by_role("dialog").get_by_role("checkbox").check()
    go = page.get_by_role("button", name="Run on petrel")
    expect(page.get_by_role("dialog")).to_contain_text("cannot be rolled back")
    expect(go).to_be_disabled()
    page.get_by_label("Type petrel /dev/sdc").fill("petrel /dev/sdb")
    expect(page.get_by_role("dialog")).to_contain_text("1 refused")
    expect(go).to_be_disabled()
    page.get_by_label("Type petrel /dev/sdc").fill("petrel /dev/sdc")
    expect(go).to_be_enabled()
    go.click()
    expect(heading(page)).to_contain_text("refreshed.", timeout=30_000)
    page.get_by_role("link", name="petrel", exact=True).click()
    expect(page.locator("[data-use=remains]")).to_have_count(0)


def test_a_datastore_is_made_on_a_free_disk_and_taken_back(
    page: Page, server: ServerProcess
) -> None:
    page.get_by_role("button", name="Prepare …").click()
    dialog = page.get_by_role("dialog", name="Prepare hosts")
    dialog.get_by_role("button", name="on a free disk").click()
    dialog.get_by_role("checkbox", name="gannet").first.check()
    dialog.locator(".disks").get_by_role("checkbox").first.check()
    # the disk carries this run's mark from its first second
    expect(dialog).to_contain_text("mkfs.ext4 -q -U")
    dialog.get_by_role("button", name="Run on gannet").click()
    expect(heading(page)).to_contain_text("refreshed.", timeout=30_000)
    page.get_by_role("button", name="Roll back …").click()
    page.get_by_role("button", name="Roll back on 1 host").click()
    expect(heading(page)).to_contain_text("Rolled back on", timeout=30_000)
    run = page.url.rpartition("/")[2].partition("?")[0]
    page.get_by_role("button", name="Run again …").click()
    dialog = page.get_by_role("dialog", name=f"Run {run} again")
    expect(dialog).to_contain_text("1 step on 1 host")
    dialog.get_by_role("button", name="Run on gannet").click()
    page.wait_for_url(lambda url: run not in url)
    expect(heading(page)).to_contain_text("refreshed.", timeout=30_000)
    page.get_by_role("button", name="Roll back …").click()
    page.get_by_role("button", name="Roll back on 1 host").click()
    expect(heading(page)).to_contain_text("Rolled back on", timeout=30_000)
    page.goto(f"{server.url}/estate?see=groundwork")
    expect(page.get_by_role("row").filter(has_text=run)).to_contain_text("rolled back")


def test_networks_are_drawn_with_their_gaps_and_a_machine_is_switched_on(
    page: Page, server: ServerProcess, lab: LabProcess
) -> None:
    page.goto(f"{server.url}/estate?see=networks")
    expect(page.get_by_role("row").filter(has_text="fulmar")).to_contain_text("MTU 1500")
    expect(page.get_by_role("row").filter(has_text="skua")).to_contain_text("bond0.420")
    page.goto(f"{server.url}/estate/machines/gneiss")
    expect(heading(page)).to_contain_text("gneiss is bare metal, power off")
    page.get_by_role("button", name="Power on …").click()
    switch = page.get_by_role("button", name="Power on", exact=True)
    expect(switch).to_be_disabled()
    page.get_by_label("Type gneiss").fill("gneiss")
    switch.click()
    expect(heading(page)).to_contain_text("power on", timeout=30_000)
    assert lab.show()["machines"]["gneiss"]["power"] == "On"


def test_machines_are_inspected_and_what_is_inside_is_seen(
    page: Page, server: ServerProcess, lab: LabProcess
) -> None:
    page.goto(f"{server.url}/estate")
    page.get_by_role("button", name="Inspect …").click()
    dialog = page.get_by_role("dialog")
    # what can be inspected is ticked; flint has no virtual media
    expect(dialog.get_by_role("checkbox", name="slate")).to_be_checked()
    expect(dialog.get_by_role("checkbox", name="flint")).not_to_be_checked()
    dialog.get_by_role("checkbox", name="flint").check()
    expect(dialog).to_contain_text("its controller has no virtual media")
    expect(dialog.get_by_role("status")).to_have_text("Cannot be inspected: flint.")
    dialog.get_by_role("checkbox", name="flint").uncheck()
    for name in ("basalt", "chert", "granite", "tuff"):
        dialog.get_by_role("checkbox", name=name).uncheck()
    # gneiss is on since the test before: its restart is confirmed by its name
    dialog.get_by_role("checkbox", name="gneiss").check()
    begin = dialog.get_by_role("button", name="Inspect 2 machines")
    expect(begin).to_be_disabled()
    dialog.get_by_label("Type its name to confirm").fill("gneiss")
    begin.click()
    expect(heading(page)).to_contain_text("All 8 steps on 2 machines done", timeout=60_000)
    page.get_by_role("link", name="slate").click()
    inside = page.get_by_role("row")
    expect(inside.filter(has_text="ens1f0")).to_contain_text("port 1")
    expect(inside.filter(has_text="ens1f0")).to_contain_text("leaf-1.kelda.holm.example")
    expect(inside.filter(has_text="nvme7n1")).to_contain_text("nvme7n1p1 ext4 “old-archive”")
    expect(page.get_by_label("Details")).to_contain_text("nvme7n1 holds something")
    assert lab.show()["machines"]["gneiss"]["power"] == "On"


def test_a_drive_is_wiped_and_an_image_written_to_it_after_its_machine_was_typed(
    page: Page,
    server: ServerProcess,
    place: tuple[LabProcess, ServerProcess, Client],
    lab: LabProcess,
    tmp_path: Path,
) -> None:
    place[2].upload(small_package(tmp_path, mib=24), lambda *_: None)
    page.goto(f"{server.url}/estate/machines/slate")
    page.get_by_role("button", name="Wipe drives …").click()
    dialog = page.get_by_role("dialog")
    wipe = dialog.get_by_role("button", name="Wipe 1 drive")
    dialog.get_by_role("checkbox", name="nvme7n1").check()
    expect(wipe).to_be_disabled()
    dialog.get_by_label("Type slate 1 drive to confirm").fill("slate 2 drives")
    expect(wipe).to_be_disabled()
    dialog.get_by_label("Type slate 1 drive to confirm").fill("slate 1 drive")
    wipe.click()
    expect(heading(page)).to_contain_text("All 4 steps on 1 machine done", timeout=60_000)
    page.get_by_role("link", name="slate").click()
    drive = page.get_by_role("row").filter(has_text="nvme7n1")
    expect(drive).to_contain_text("blank")
    page.get_by_role("button", name="Write image …").click()
    dialog.get_by_label("Package").select_option(label="Gauge Collector 4.2.0")
    dialog.get_by_role("radio", name="nvme7n1").check()
    dialog.get_by_label("Type slate 1 drive to confirm").fill("slate 1 drive")
    # slowly, so that its progress is seen
    lab.turn("slate", slow_link=2e6)
    dialog.get_by_role("button", name="Write image").click()
    progress = page.locator("main").get_by_text(re.compile(r"[KM]iB of .* at .*B/s, .* left$"))
    expect(progress).to_be_visible(timeout=60_000)
    lab.turn("slate", slow_link=0)
    expect(heading(page)).to_contain_text("All 5 steps on 1 machine done", timeout=60_000)
    page.get_by_role("link", name="slate").click()
    expect(drive).to_contain_text("dos")
    assert lab.show()["machines"]["slate"]["written"]


def test_it_stands_on_a_small_and_a_large_screen(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    for width, height in ((1280, 800), (1440, 900)):
        page.set_viewport_size({"width": width, "height": height})
        for path in (
            "/estate",
            "/estate?see=fitness",
            "/estate?see=networks",
            "/estate/hosts/skua",
            "/estate/machines/flint",
        ):
            page.goto(server.url + path)
            heading(page).wait_for()
            assert page.evaluate(
                "document.documentElement.scrollWidth <= innerWidth &&"
                " document.documentElement.scrollHeight <= innerHeight"
            ), path


def test_columns_too_narrow_for_their_name_are_named_under_the_pointer(
    page: Page, server: ServerProcess
) -> None:
    page.set_viewport_size({"width": 640, "height": 800})
    page.goto(f"{server.url}/estate")
    column = page.locator("svg [data-name=skua]")
    column.wait_for()
    expect(page.locator("svg [data-name=skua] .name")).to_have_count(0)  # no place for it
    column.hover()
    expect(page.locator(".lens")).to_contain_text("skua")
    heading(page).hover()
    expect(page.locator(".lens")).to_have_count(0)

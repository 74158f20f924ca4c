"""Designing in the browser: the ledger's five questions, tables, many plans, shared values, two
people at one plan.
"""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from openpyxl import Workbook
from playwright.sync_api import Page, expect

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess, ServerProcess, ready_plan, wait_for

pytestmark = pytest.mark.usefixtures("client")
SHARED = (
    "nimble-stone: values/1\nname: kelda\ntitle: Kelda\nvalues:\n  station: west\n  ntp:"
    " 10.44.0.5\n"
)


@pytest.fixture(autouse=True)
def plan(client: Client) -> None:
    """A plan of its own for each test, and nothing left of the one before."""
    for row in client.call("GET", "/api/plans"):
        client.call("DELETE", f"/api/plans/{row['id']}")
    ready_plan(client, demo.PLAN.replace("name: western", "name: design"))


def heading(page: Page):  # type: ignore[no-untyped-def]
    return page.get_by_role("heading", level=1)


def test_sizing_proposes_while_typing_and_is_taken_over(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/plans/design?ask=sizing")
    ledger = page.get_by_label("Details", exact=True)
    page.get_by_label("Gauges").fill("300")
    expect(ledger).to_contain_text("2 × large")
    expect(ledger).to_contain_text("Smaller is not enough")
    page.get_by_label("Gauges").fill("90000")
    expect(ledger).to_contain_text("no size is enough")
    expect(page.get_by_role("button", name="Apply to plan")).to_be_disabled()
    page.get_by_label("Gauges").fill("300")
    page.get_by_role("button", name="Apply to plan").click()
    expect(page.get_by_role("button", name="Applied to plan")).to_be_visible()
    expect(page.get_by_label("Size of archive")).to_have_value("large")
    page.reload()
    expect(page.get_by_label("Gauges")).to_have_value("300")


def test_how_data_is_kept_is_chosen_beside_what_it_comes_to(
    page: Page, server: ServerProcess, client: Client, tmp_path: Path
) -> None:
    from nimble_stone.lab.scenario import products

    (tmp_path / "ballast.ova").write_bytes(products.ova(products.PRODUCTS["ballast"], mib=1))
    client.upload(tmp_path / "ballast.ova", lambda *_: None)
    client.call(
        "POST",
        "/api/plans",
        {
            "text": (
                "nimble-stone: plan/1\nname: keel\nkit: ballast\npackage: Ballast 1.9.2\nbay:"
                " kelda-main\nvalues: {pool: kelda-survey, net.copying.pool: kelda-storage}\n"
            )
        },
    )
    page.goto(f"{server.url}/plans/keel")
    ledger = page.get_by_label("Details", exact=True)
    expect(ledger).to_contain_text("512 GiB usable of 1 TiB. 1 host can fail without data loss")
    page.goto(f"{server.url}/plans/keel?ask=sizing")
    expect(ledger.get_by_role("button", name="4 + 2 parity")).to_be_disabled()
    ledger.get_by_role("button", name="3 copies").click()
    expect(ledger.get_by_role("button", name="2 copies")).to_be_enabled()
    ledger.get_by_role("button", name="overview").click()
    expect(ledger).to_contain_text("2 hosts")
    assert "copies: '3'" in client.text("/api/plans/keel/file")


def test_a_bays_free_drives_are_laid_out_by_a_rule(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/estate?see=drives")
    page.get_by_label("Drives of").select_option("kelda-main")
    expect(page.get_by_role("row").filter(has_text="2 copies")).to_contain_text("TiB")
    page.get_by_label("of each machine at most").fill("1")
    # one each
    expect(page.get_by_text(re.compile(r"^(\d+) drives on \1 machines"))).to_be_visible()
    page.get_by_label("each at least").fill("999999")
    expect(page.get_by_text("has no matching free disk")).to_be_visible()


def test_a_host_is_emptied_from_its_page(page: Page, server: ServerProcess, client: Client) -> None:
    host = client.call("GET", "/api/plans/design")["nodes"][0]["host"]
    page.goto(f"{server.url}/estate/hosts/{host}")
    page.get_by_role("button", name="See where its nodes would go").click()
    node = page.get_by_role("row").filter(has_text="design-lead")
    expect(node).to_contain_text("only its plan changes")
    page.get_by_role("button", name=f"Exclude {host} from design").click()
    expect(page.get_by_text("Excluded from design.")).to_be_visible()
    assert client.call("GET", "/api/plans/design")["avoid"] == [host]
    page.get_by_role("button", name=f"Use {host} again").click()
    expect(page.get_by_role("button", name=f"Exclude {host} from design")).to_be_visible()
    assert client.call("GET", "/api/plans/design")["avoid"] == []


def test_a_lost_host_is_seen_on_the_wall_and_in_the_matrix(
    page: Page, server: ServerProcess, client: Client
) -> None:
    lead = next(
        node["host"]
        for node in client.call("GET", "/api/plans/design")["nodes"]
        if node["id"] == "lead-1"
    )
    page.goto(f"{server.url}/plans/design?ask=losses")
    ledger = page.get_by_label("Details", exact=True)
    expect(ledger).to_contain_text("lead down")
    ledger.get_by_role("button", name=re.compile(lead)).first.click()
    expect(page.locator(".host.lost")).to_have_count(1)
    expect(ledger).to_contain_text("Room elsewhere: design-lead")
    pair = ledger.get_by_label(re.compile("stops or loses data")).first
    pair.click()
    expect(page.locator(".host.lost")).to_have_count(2)
    ledger.get_by_role("button", name="placement").click()
    expect(page.locator(".host.lost")).to_have_count(0)


def test_why_here_pin_evict_and_balance(page: Page, server: ServerProcess, client: Client) -> None:
    page.goto(f"{server.url}/plans/design?ask=places&node=archive-1&column=host")
    ledger = page.get_by_label("Details", exact=True)
    here = next(
        node["host"]
        for node in client.call("GET", "/api/plans/design")["nodes"]
        if node["id"] == "archive-1"
    )
    expect(ledger).to_contain_text(f"Why is design-arc-1 on {here}?")
    expect(ledger).to_contain_text("has a node of this role already")
    told = ledger.locator("li:has(.bar)").evaluate_all(
        "rows => rows.map(r => [r.querySelector('i').offsetWidth /"
        " r.querySelector('.bar').clientWidth, parseInt(r.querySelector('.mono').textContent) /"
        " 100])"
    )
    assert told
    # bars are as long as they say
    assert all(abs(drawn - said) < 0.03 for drawn, said in told), told
    page.get_by_role("button", name="set", exact=True).click()
    expect(ledger).to_contain_text("set manually")
    expect(ledger).to_contain_text("1 node pinned")
    page.get_by_role("button", name=f"Empty {here}").click()
    expect(ledger).to_contain_text("Excluded:")
    expect(ledger).not_to_contain_text(f"Why is design-arc-1 on {here}?")
    page.get_by_role("button", name=f"Use {here} again").click()
    expect(ledger).not_to_contain_text("Excluded:")
    version = client.call("GET", "/api/plans/design")["version"]
    crowd = [
        {"path": ["roles", "relay", "count"], "value": 3},
        *(
            {"path": ["nodes", f"relay-{n}", key], "value": value}
            for n in (1, 2, 3)
            for key, value in (("host", "petrel"), ("size", "large"))
        ),
    ]
    client.call("PATCH", "/api/plans/design", {"version": version, "edits": crowd})
    page.reload()
    expect(ledger).to_contain_text("the fullest host goes from")
    page.get_by_role("button", name=re.compile(r"Make (this move|these \d moves)")).click()
    expect(ledger).to_contain_text("Already balanced.")


def test_consequences_move_while_typing_and_go_with_escape(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design?node=archive-1&column=address")
    version = client.call("GET", "/api/plans/design")["version"]
    page.get_by_role("grid").focus()
    page.keyboard.type("10.44.20.1")
    expect(page.get_by_text("Preview.")).to_be_visible()
    # the gateway's: a blocker, while it is typed
    expect(heading(page)).to_contain_text("10.44.20.1")
    page.keyboard.press("Escape")
    expect(heading(page)).to_contain_text("Ready to run")
    assert client.call("GET", "/api/plans/design")["version"] == version
    # How many there are: stones come and go with the digits.
    number = page.get_by_label("Number of archive nodes")
    number.fill("4")
    expect(page.locator(".stone")).to_have_count(5)
    number.press("Escape")
    expect(page.locator(".stone")).to_have_count(3)
    expect(number).to_have_value("2")
    assert client.call("GET", "/api/plans/design")["version"] == version
    # One value for every node, kept by Enter.
    page.get_by_role("grid").focus()
    page.keyboard.press("Control+Home")
    page.get_by_role("gridcell", name="small").first.wait_for()
    page.get_by_role("row").filter(has_text="every node").get_by_role("gridcell").nth(1).click()
    page.get_by_role("row").filter(has_text="design-arc-1").get_by_text("medium").click()
    page.keyboard.type("large")
    expect(page.get_by_role("row").filter(has_text="design-arc-1")).to_contain_text("64 GiB")
    page.keyboard.press("Enter")
    expect(page.get_by_text("Preview.")).to_have_count(0)
    expect(page.get_by_role("row").filter(has_text="design-arc-1")).to_contain_text("64 GiB")
    assert client.call("GET", "/api/plans/design")["version"] == version + 1


def test_a_dragged_stone_moves_the_ledger_before_it_is_let_go(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design")
    here = {node["id"]: node["host"] for node in client.call("GET", "/api/plans/design")["nodes"]}
    stone, there = page.locator(".stone[data-node=archive-1]"), here["archive-2"]
    box, goal = (
        stone.bounding_box(),
        page.locator(".host").filter(has_text=there).first.bounding_box(),
    )
    assert box is not None
    assert goal is not None
    page.mouse.move(box["x"] + 40, box["y"] + 8)
    page.mouse.down()
    page.mouse.move(goal["x"] + 60, goal["y"] + 60, steps=6)
    row = page.get_by_role("row").filter(has_text="design-arc-1")
    expect(row).to_contain_text(there)
    # they stand apart: the other one gives way
    expect(page.get_by_role("row").filter(has_text="design-arc-2")).not_to_contain_text(there)
    page.keyboard.press("Escape")
    expect(row).to_contain_text(here["archive-1"])
    page.mouse.up()
    assert {
        node["id"]: node["host"] for node in client.call("GET", "/api/plans/design")["nodes"]
    } == here


def test_undo_takes_ones_own_change_back_not_somebody_elses(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design")
    page.get_by_role("button", name="One archive more").click()
    expect(page.locator(".stone")).to_have_count(4)
    version = client.call("GET", "/api/plans/design")["version"]
    client.call(
        "PATCH",
        "/api/plans/design",
        {"version": version, "edits": [{"path": ["title"], "value": "Renamed by somebody"}]},
    )
    page.get_by_role("button", name="Undo").click()
    expect(page.locator(".stone")).to_have_count(3)
    found = client.call("GET", "/api/plans/design")
    assert (found["title"], len(found["nodes"])) == ("Renamed by somebody", 3)
    page.get_by_role("button", name="Redo").click()
    expect(page.locator(".stone")).to_have_count(4)


def test_what_placement_keeps_to_and_what_is_included_is_set_on_the_page(
    page: Page, server: ServerProcess, client: Client
) -> None:
    client.call("PUT", "/api/values/kelda", {"text": SHARED})
    page.goto(f"{server.url}/plans/design?ask=places")
    page.get_by_label("Include shared values").select_option("kelda")
    expect(page.get_by_role("button", name="Remove kelda")).to_be_visible()
    page.get_by_label("Host failures to tolerate").select_option("1")
    expect(page.get_by_label("Host failures to tolerate")).to_have_value("1")
    field = page.get_by_label("Max vCPUs per thread")
    field.fill("1")
    expect(page.get_by_text("Preview.")).to_be_visible()
    field.press("Escape")
    expect(field).to_have_value("4")
    field.fill("2.5")
    field.press("Enter")
    wait_for(
        lambda: "overcommit: 2.5" in client.text("/api/plans/design/file"),
        10,
        "the edit to be kept",
    )
    expect(field).to_have_value("2.5")
    text = client.text("/api/plans/design/file")
    assert "include: [kelda]" in text
    assert "survive: 1" in text
    page.get_by_role("button", name="Remove kelda").click()
    expect(page.get_by_role("button", name="Remove kelda")).to_have_count(0)
    wait_for(
        lambda: "include" not in client.text("/api/plans/design/file"), 10, "the edit to be kept"
    )
    client.call("DELETE", "/api/values/kelda")


def test_a_row_being_typed_in_stays_though_it_no_longer_fits_the_filter(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design?node=archive-1&column=name")
    version = client.call("GET", "/api/plans/design")["version"]
    page.get_by_label("Filter", exact=True).fill("design-arc-1")
    page.get_by_role("row").filter(has_text="design-arc-1").get_by_role("gridcell").first.click()
    page.get_by_role("grid").focus()
    page.keyboard.type("other")
    expect(page.get_by_text("Preview.")).to_be_visible()
    field = page.get_by_label(re.compile("^Name of"))
    expect(field).to_be_focused()
    page.keyboard.type("-name")
    expect(field).to_have_value("other-name")
    page.keyboard.press("Escape")
    expect(page.get_by_role("row").filter(has_text="design-arc-1")).to_be_visible()
    # nothing half-typed was kept
    assert client.call("GET", "/api/plans/design")["version"] == version


def test_an_undo_that_is_refused_does_not_stand_before_earlier_ones(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design")
    page.get_by_role("button", name="One relay more").click()
    expect(page.locator(".stone")).to_have_count(4)
    page.get_by_role("button", name="One archive more").click()
    expect(page.locator(".stone")).to_have_count(5)
    client.call(
        "PATCH",
        "/api/plans/design",
        {
            "version": client.call("GET", "/api/plans/design")["version"],
            "edits": [{"path": ["roles", "archive", "count"], "value": 4}],
        },
    )
    page.get_by_role("button", name="Undo").click()
    expect(page.get_by_text("this was changed again")).to_be_visible()
    # the relay, which nobody else touched
    page.get_by_role("button", name="Undo").click()
    wait_for(
        lambda: (
            [n["role"] for n in client.call("GET", "/api/plans/design")["nodes"]]
            == ["lead", *["archive"] * 4]
        ),
        10,
        "the earlier change to be taken back",
    )


def test_a_cell_is_filled_down_by_its_corner(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design?node=lead-1&column=address")
    page.get_by_role("grid").focus()
    page.keyboard.type("10.44.20.50")
    page.keyboard.press("Enter")
    expect(page.get_by_role("row").filter(has_text="design-lead")).to_contain_text("10.44.20.50")
    page.keyboard.press("ArrowUp")
    corner, last = (
        page.get_by_title("Pull down to fill").bounding_box(),
        page.get_by_role("row")
        .filter(has_text="design-arc-2")
        .get_by_role("gridcell")
        .nth(3)
        .bounding_box(),
    )
    assert corner is not None
    assert last is not None
    page.mouse.move(corner["x"] + 3, corner["y"] + 3)
    page.mouse.down()
    page.mouse.move(last["x"] + 20, last["y"] + 9, steps=5)
    page.mouse.up()
    expect(page.get_by_role("row").filter(has_text="design-arc-2")).to_contain_text("10.44.20.52")
    wait_for(
        lambda: (
            [
                node["cells"]["address"]["value"]
                for node in client.call("GET", "/api/plans/design")["nodes"]
            ]
            == ["10.44.20.50", "10.44.20.51", "10.44.20.52"]
        ),
        10,
        "the fill to arrive",
    )
    page.keyboard.press("Control+z")  # one fill is one change
    expect(page.get_by_role("row").filter(has_text="design-arc-2")).not_to_contain_text(
        "10.44.20.52"
    )


def test_time_tells_chances_and_the_last_change(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/plans/design?ask=time")
    ledger = page.get_by_label("Details", exact=True)
    expect(ledger).to_contain_text("90% of simulated runs")
    page.get_by_role("button", name="One archive more").click()
    expect(ledger).to_contain_text("1 node of role archive more: design-arc-3")


def test_a_table_is_laid_over_the_sheet_and_wrong_cells_are_told(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    book = Workbook()
    assert book.active is not None
    for row in (
        ["node", "Address", "Size"],
        ["lead-1", "10.44.20.60", "colossal"],
        ["design-arc-1", "10.44.20.61", "large"],
    ):
        book.active.append(row)
    book.save(tmp_path / "t.xlsx")
    page.goto(f"{server.url}/plans/design")
    page.get_by_role("button", name="Tables").click()
    page.get_by_label("Table file").set_input_files(tmp_path / "t.xlsx")
    dialog = page.get_by_role("dialog", name="Import and export")
    expect(dialog).to_contain_text("3 cells would change")
    expect(dialog.get_by_role("row").filter(has_text="colossal")).to_contain_text(
        "is not one of small, medium, large"
    )
    page.get_by_role("button", name="Change 3 cells").click()
    expect(page.get_by_role("row").filter(has_text="design-arc-1")).to_contain_text("10.44.20.61")
    # what did not land stays in view, as it was typed
    expect(dialog).to_contain_text("colossal")
    with page.expect_download() as download:
        dialog.get_by_role("link", name="design.xlsx").click()
    assert Path(download.value.path()).read_bytes()[:2] == b"PK"


def test_four_clusters_from_a_table_and_one_shared_change(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans?see=values")
    page.get_by_role("button", name="New shared values").click()
    page.get_by_label("Text of the shared values").fill(SHARED)
    expect(page.get_by_text("No plan includes it yet")).to_be_visible()
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("button", name="Kelda", exact=False).first).to_be_visible()
    page.get_by_role("link", name="from a table").click()
    page.get_by_label("Kit").select_option("gauge-collector")
    page.get_by_role("checkbox", name="Kelda").check()
    page.get_by_role("button", name="Start with 4 rows").click()
    expect(page.get_by_role("row").filter(has_text="south")).to_contain_text("10.44.20.")
    page.get_by_role("button", name="Create 4 plans").click()
    for name in ("Northern", "Eastern", "Southern", "Western"):
        expect(page.get_by_role("link", name=name, exact=True)).to_be_visible()
    firsts = {
        client.call("GET", f"/api/plans/{name}")["nodes"][0]["cells"]["address"]["value"]
        for name in ("north", "east", "south", "west")
    }
    assert len(firsts) == 4
    page.get_by_role("link", name="shared values").click()
    page.get_by_label("Text of the shared values").fill(SHARED.replace("10.44.0.5", "10.44.0.8"))
    expect(page.get_by_text("NTP: 10.44.0.5 → 10.44.0.8 for every node")).to_have_count(4)
    page.get_by_role("button", name="Save; 4 plans follow").click()
    expect(page.get_by_text("Included by")).to_contain_text("north")
    assert client.call("GET", "/api/plans/east")["nodes"][0]["cells"]["ntp"]["value"] == "10.44.0.8"
    page.goto(f"{server.url}/estate?see=pools")
    expect(page.get_by_label("Pool kelda-survey")).to_contain_text("north: 3")


def test_a_plan_is_carried_over(page: Page, server: ServerProcess, client: Client) -> None:
    page.goto(f"{server.url}/plans")
    page.get_by_role("button", name="Copy to another bay …").click()
    dialog = page.get_by_role("dialog")
    dialog.get_by_label(re.compile("^To")).select_option("ness-two")
    dialog.get_by_label(re.compile("^As")).fill("design-ness")
    dialog.get_by_label(re.compile("^kelda-survey")).select_option("ness-survey")
    dialog.get_by_role("button", name="Copy plan").click()
    page.wait_for_url("**/plans/design-ness")
    assert {node["host"] for node in client.call("GET", "/api/plans/design-ness")["nodes"]} <= {
        "tern",
        "whimbrel",
        "dunlin",
    }


def test_two_people_at_one_place_decide_and_nothing_is_lost(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans/design?node=*&column=station")
    page.get_by_role("grid").press("Enter")
    field = page.get_by_label("Station group of every node")
    field.fill("mine")
    expect(page.get_by_text("changes 3 of 3 nodes")).to_be_visible()
    version = client.call("GET", "/api/plans/design")["version"]
    client.call(
        "PATCH",
        "/api/plans/design",
        {"version": version, "edits": [{"path": ["values", "station"], "value": "theirs"}]},
    )
    field.press("Enter")
    dialog = page.get_by_role("dialog", name="Edit conflict")
    expect(dialog).to_contain_text("west → theirs for every node")
    expect(dialog).to_contain_text("every node, Station group: mine")
    # it wants a decision: a stray key drops nothing
    page.keyboard.press("Escape")
    expect(dialog).to_contain_text("every node, Station group: mine")
    page.get_by_role("button", name="Use mine").click()
    expect(dialog).to_be_hidden()
    page.wait_for_function("() => !document.querySelector('[aria-busy=true]')")
    assert (
        client.call("GET", "/api/plans/design")["nodes"][0]["cells"]["station"]["value"] == "mine"
    )


def test_the_five_products_are_begun_in_the_page(
    page: Page, server: ServerProcess, client: Client, lab: LabProcess, tmp_path: Path
) -> None:
    from nimble_stone.lab.scenario import products

    for product in products.PRODUCTS.values():
        file = tmp_path / f"{product.id}.ova"
        file.write_bytes(products.ova(product, mib=1))
        client.upload(file, lambda *_: None)
    for kit, told in (
        ("ballast", "4 nodes on 4 hosts"),
        ("breakwater", "4 nodes on 4 hosts"),
        ("skerry", "6 nodes"),
        ("tidebook", "2 nodes on 2 hosts"),
    ):
        page.goto(f"{server.url}/plans")
        page.get_by_role("button", name="New plan").click()
        page.get_by_label("Name").fill(f"my-{kit}")
        page.get_by_label("Kit").select_option(kit)
        page.get_by_label("Bay").select_option("kelda-main")
        page.get_by_role("button", name="Create plan").click()
        page.wait_for_url(f"**/plans/my-{kit}")
        expect(heading(page)).to_contain_text(told)
        while (ask := page.get_by_role("button", name=re.compile("^Set "))).count():
            before = heading(page).inner_text()
            ask.first.click()
            page.get_by_role("button", name="Generate").click()
            page.get_by_role("button", name="Save to keyring").click()
            expect(heading(page)).not_to_have_text(before)
        expect(heading(page)).to_contain_text("Ready to run")


def test_a_pool_is_made_and_drawn_from(page: Page, server: ServerProcess, client: Client) -> None:
    page.goto(f"{server.url}/estate")
    page.get_by_role("button", name="pools").click()
    page.get_by_role("button", name="New pool …").click()
    box = page.get_by_role("dialog")
    expect(box.get_by_label("Name")).to_be_focused()  # typing begins at once
    page.keyboard.type("shore")
    box.get_by_label("of network").select_option("survey")
    box.get_by_role("textbox", name="First").fill("10.44.20.70")
    box.get_by_role("textbox", name="Last").fill("10.44.20.60")
    box.get_by_role("button", name="Create pool").click()
    expect(box.get_by_role("alert")).to_contain_text("lies after")
    # nothing typed is lost
    expect(box.get_by_role("textbox", name="First")).to_have_value("10.44.20.70")
    box.get_by_role("textbox", name="First").fill("10.44.20.50")
    box.get_by_label("Reserved").fill("10.44.20.52 the tide clock")
    box.get_by_role("button", name="Create pool").click()
    expect(page.get_by_label("Pool shore")).to_contain_text("10 of 11 free")
    page.goto(f"{server.url}/plans/design")
    sheet = page.get_by_label("The sheet")
    sheet.wait_for()
    client.call(
        "PATCH",
        "/api/plans/design",
        {
            "version": client.call("GET", "/api/plans/design")["version"],
            "edits": [{"path": ["values", "pool"], "value": "shore"}],
        },
    )
    page.reload()
    expect(sheet).to_contain_text("10.44.20.53")  # .52 is kept back
    expect(sheet).not_to_contain_text("10.44.20.52")
    page.goto(f"{server.url}/estate")
    page.get_by_role("button", name="pools").click()
    page.get_by_role("button", name="shore", exact=True).click()
    box.get_by_role("button", name="Delete pool").click()
    box.get_by_role("button", name="Delete shore").click()
    expect(box.get_by_role("alert")).to_contain_text("is used by design")


def test_a_secrets_rule_is_shown_as_it_is_met(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/plans/design?node=lead-1&column=admin_password")
    page.get_by_label("The sheet").wait_for()
    page.get_by_label("The sheet").focus()
    page.keyboard.press("Enter")
    box = page.get_by_role("dialog")
    rule = box.get_by_role("listitem")
    expect(rule.first).to_contain_text("at least 10 characters: 0, 10 more")
    page.keyboard.type("tide")
    expect(rule.first).to_contain_text("4, 6 more")
    expect(box.get_by_role("button", name="Save to keyring")).to_be_disabled()
    page.keyboard.type("-Tables-1893")
    expect(box.locator("li:not(.met)")).to_have_count(0)
    box.get_by_role("button", name="Save to keyring").click()
    expect(box).to_have_count(0)


def test_a_certificate_is_brought_by_hand(
    page: Page, server: ServerProcess, client: Client
) -> None:
    import time

    from nimble_stone.keyring import certificates

    client.call(
        "POST",
        "/api/plans",
        {
            "text": (
                "nimble-stone: plan/1\nname: reef\nkit: skerry\npackage: Skerry 2.4.1\nbay:"
                " kelda-main\nvalues: {pool: kelda-survey}\nroles: {worker: {count: 0}}\n"
            )
        },
    )
    page.goto(f"{server.url}/plans/reef?node=controller-1&column=certificate.interface")
    page.get_by_label("The sheet").wait_for()
    page.get_by_label("The sheet").focus()
    page.keyboard.press("Enter")
    box = page.get_by_role("dialog")
    expect(box).to_contain_text("Generate")
    expect(box).to_contain_text("Nimble Stone authority")
    box.get_by_text("Upload", exact=True).click()
    by = certificates.make_authority(time.time(), "Holm")
    names = client.call(
        "GET", "/api/plans/reef/pair?column=certificate.interface&node=controller-1"
    )["names"]
    pair = certificates.issue(by, names, time.time())
    box.get_by_label("Certificate, PEM").fill(pair.certificate)
    box.get_by_label("Private key").fill(by.key)
    box.get_by_role("button", name="Save to keyring").click()
    expect(box.get_by_role("alert")).to_contain_text("does not belong to the certificate")
    expect(box.get_by_label("Certificate, PEM")).to_have_value(pair.certificate)
    box.get_by_label("Private key").fill(pair.key)
    box.get_by_role("button", name="Save to keyring").click()
    expect(box).to_have_count(0)
    expect(page.get_by_label("The sheet")).to_contain_text("brought")

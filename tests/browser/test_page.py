"""What a user does, done in the browser: from sign-in to a proved rollout and its taking back, by
mouse and by keyboard.
"""

from __future__ import annotations

import base64
import re
from pathlib import Path

import pytest
from playwright.sync_api import BrowserContext, Page, Route, expect

from nimble_stone.cli.client import Client
from nimble_stone.lab.scenario import appliance, demo
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, ready_plan, wait_for

pytestmark = pytest.mark.usefixtures("client")


def cell(page: Page, row: str, column: int):  # type: ignore[no-untyped-def]
    """A cell of the sheet by the node's name and the column's number."""
    return page.get_by_role("row").filter(has_text=row).locator(f'[aria-colindex="{column}"]')


def test_a_wrong_key_is_told_and_kept_for_correction(
    context: BrowserContext, server: ServerProcess
) -> None:
    page = context.new_page()
    page.goto(server.url)
    page.get_by_label("Access key").fill("not-the-key")
    page.get_by_role("button", name="Sign in").click()
    expect(page.get_by_role("alert")).to_contain_text("Wrong access key")
    expect(page.get_by_label("Access key")).to_have_value("not-the-key")


def test_from_an_empty_plan_to_a_proved_rollout_and_back(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/plans")
    page.get_by_role("button", name="New plan").click()
    page.get_by_label("Name").fill("harbour")
    page.get_by_label("Bay").select_option("kelda-main")
    page.get_by_role("button", name="Create plan").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("more blockers")
    page.get_by_role("button", name="Read and accept the licence").first.click()
    page.get_by_label("Accepted by").fill("mira")
    page.get_by_role("button", name="Accept licence").click()
    page.get_by_role("button", name="Set Admin password").first.click()
    page.get_by_role("textbox", name="Admin password").fill("short")
    expect(page.get_by_text("at least 10 characters: 5, 5 more")).to_be_visible()
    expect(page.get_by_role("button", name="Save to keyring")).to_be_disabled()
    page.get_by_role("textbox", name="Admin password").fill(PASSWORD)
    page.get_by_role("button", name="Save to keyring").click()
    page.get_by_role("button", name="Set Station group").first.click()
    page.get_by_role("grid").press("Enter")
    page.get_by_label("Station group of every node").fill("harbour")
    page.keyboard.press("Enter")
    expect(page.get_by_role("heading", level=1)).to_contain_text("Ready to run")
    page.get_by_role("button", name="Check and run").click()
    page.wait_for_url("**/run*")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "acceptance checks passed", timeout=60_000
    )
    # at this speed its bar may lie under the next one
    page.get_by_role("button", name=re.compile("harbour-lead: Define VM, done")).press("Enter")
    expect(page.get_by_role("log", name="Transcript")).to_contain_text("virsh define --validate")
    expect(page.get_by_role("region", name="Console")).to_contain_text("services are up")
    page.get_by_role("button", name="Show acceptance").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("All 46 acceptance checks passed")
    with page.expect_download() as download:
        page.get_by_role("link", name="JUnit XML").click()
    assert 'failures="0"' in Path(download.value.path()).read_text()
    page.get_by_role("link", name="Run", exact=True).click()
    page.get_by_role("button", name="Roll back").click()
    confirm = page.get_by_role("button", name="Delete 3 VMs")
    expect(confirm).to_be_disabled()
    page.get_by_label("Plan’s name").fill("harbour")
    confirm.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Rolled back.", timeout=60_000)


def test_an_ova_dropped_in_shows_what_it_holds_and_a_bad_one_only_its_reason(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    good, bad = tmp_path / "gauge-collector-4.3.0.ova", tmp_path / "bad.ova"
    good.write_bytes(appliance.ova(mib=1, version="4.3.0"))
    bad.write_bytes(good.read_bytes()[:300_000])
    page.goto(f"{server.url}/packages")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Import files …").click()
    chooser.value.set_files([good, bad])
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "Gauge Collector 4.3.0", timeout=20_000
    )
    expect(page.get_by_role("region", name="Sizes")).to_contain_text("64 GiB")
    expect(page.get_by_role("region", name="Settings")).to_contain_text("Administrator password")
    page.get_by_role("button", name="All packages").click()
    expect(page.get_by_role("status").filter(has_text="bad.ova")).to_contain_text("it is cut short")


def test_what_changed_between_two_versions_is_shown_and_a_licence_is_accepted_in_a_name(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    newer = tmp_path / "gauge-collector-4.5.0.ova"
    newer.write_bytes(appliance.ova(mib=1, version="4.5.0", edition=5, seed=9))
    server.client().upload(newer, lambda *_: None)
    page.goto(f"{server.url}/packages")
    page.get_by_role("link", name="what changed since").first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("to know before upgrading")
    expect(page.get_by_role("region", name="Licence text")).to_contain_text("also of other surveys")
    page.get_by_role("button", name="4.5.0").click()
    page.get_by_label("Texts in").select_option("de")
    expect(page.get_by_role("region", name="Settings")).to_contain_text("Rechnername")
    page.get_by_role("button", name="Read the licence", exact=True).click()
    page.get_by_label("Accepted by").fill("mira")
    page.get_by_role("button", name="Accept licence").click()
    expect(page.get_by_role("region", name="Licence")).to_contain_text("accepted by mira")
    page.get_by_label("Channel", exact=True).fill("candidate")
    page.get_by_role("button", name="Save", exact=True).click()
    expect(page.get_by_label("Versions")).to_contain_text("candidate")


def test_a_folder_with_a_descriptor_and_its_files_is_one_package(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    import io
    import tarfile

    with tarfile.open(
        fileobj=io.BytesIO(appliance.ova(mib=1, version="4.6.0", seed=11))
    ) as archive:
        archive.extractall(tmp_path / "loose", filter="data")
    page.goto(f"{server.url}/packages")
    with page.expect_file_chooser() as chooser:
        page.get_by_role("button", name="Import folder …").click()
    chooser.value.set_files(tmp_path / "loose")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "Gauge Collector 4.6.0", timeout=20_000
    )
    expect(page.get_by_role("heading", level=1)).to_contain_text("OVF with files")


def test_an_ova_is_taken_in_by_dropping_it_anywhere_on_the_page(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/packages")
    page.get_by_role("heading", level=1).wait_for()
    data = base64.b64encode(appliance.ova(mib=1, version="4.4.0", seed=7)).decode()
    transfer = page.evaluate_handle(
        """(data) => {
      const transfer = new DataTransfer();
      const bytes = Uint8Array.from(atob(data), (c) => c.charCodeAt(0));
      transfer.items.add(new File([bytes], 'dropped.ova'));
      return transfer;
    }""",
        data,
    )
    page.dispatch_event("main", "dragover", {"dataTransfer": transfer})
    expect(page.get_by_text("Drop to import")).to_be_visible()
    page.dispatch_event("main", "drop", {"dataTransfer": transfer})
    expect(page.get_by_role("heading", level=1)).to_contain_text("Gauge Collector 4.4.0")


def test_an_upload_can_be_stopped_and_goes_on_after_the_page_was_closed(
    page: Page, server: ServerProcess, tmp_path: Path
) -> None:
    big = tmp_path / "big.ova"
    big.write_bytes(appliance.ova(mib=40))
    page.goto(f"{server.url}/packages")
    page.context.new_cdp_session(page).send(
        "Network.emulateNetworkConditions",
        {"offline": False, "latency": 0, "downloadThroughput": -1, "uploadThroughput": 2_000_000},
    )

    def choose() -> None:
        with page.expect_file_chooser() as chooser:
            page.get_by_role("button", name="Import files …").click()
        chooser.value.set_files(big)

    choose()
    row = page.get_by_role("status").filter(has_text="big.ova")
    expect(row).to_contain_text("/s ·")
    row.get_by_role("button", name="Stop").click()
    expect(row).to_have_count(0)
    wait_for(
        lambda: not list((server.data / "packages/incoming").iterdir()), 20, "the remains to go"
    )
    choose()
    wait_for(
        lambda: any(
            part.stat().st_size > 3 << 20
            for part in (server.data / "packages/incoming").glob("*/0.part")
        ),
        30,
        "some of it to arrive",
    )
    # the page is closed in the middle …
    other = page.context.new_page()
    page.close()
    part = next((server.data / "packages/incoming").glob("*/0.part"))
    had = part.stat().st_size
    other.goto(f"{server.url}/packages")
    waiting = other.get_by_role("status").filter(has_text="big.ova")
    expect(waiting).to_contain_text("waiting for the sender")
    # … and another goes on where it was
    with other.expect_file_chooser() as chooser:
        waiting.get_by_role("button", name="Select file to resume").click()
    with other.expect_request(lambda request: request.method == "PATCH") as sent:
        chooser.value.set_files(big)
    assert int(sent.value.headers["upload-offset"]) >= had
    expect(other.get_by_role("heading", level=1)).to_contain_text(
        "Gauge Collector 4.2.0", timeout=60_000
    )
    other.close()


def test_the_sheet_behaves_like_a_spreadsheet(
    page: Page, server: ServerProcess, client: Client
) -> None:
    ready_plan(
        client, demo.PLAN.replace("name: western", "name: keys").replace("count: 2", "count: 4")
    )
    page.goto(f"{server.url}/plans/keys")
    first = cell(page, "keys-arc-1", 4)
    first.click()
    page.keyboard.type("10.44.20.41")
    page.keyboard.press("Enter")
    expect(cell(page, "keys-arc-1", 4)).to_have_text("10.44.20.41")
    cell(page, "keys-arc-1", 4).click()
    for _ in range(3):
        page.keyboard.press("Shift+ArrowDown")
    page.keyboard.press("Control+d")
    expect(cell(page, "keys-arc-4", 4)).to_have_text("10.44.20.44")
    page.keyboard.press("Control+z")
    expect(cell(page, "keys-arc-4", 4)).not_to_have_text("10.44.20.44")
    page.keyboard.press("Control+y")
    expect(cell(page, "keys-arc-4", 4)).to_have_text("10.44.20.44")
    cell(page, "keys-arc-2", 4).click()
    page.keyboard.type("10.44.20.1")
    page.keyboard.press("Tab")
    expect(page.get_by_role("region", name="Findings")).to_contain_text("is the gateway of survey")
    page.get_by_role("button", name="keys-arc-2 · Address").click()
    expect(cell(page, "keys-arc-2", 4)).to_have_attribute("aria-selected", "true")
    page.get_by_role("grid").focus()
    page.keyboard.press("Delete")
    expect(page.get_by_role("region", name="Findings")).not_to_contain_text("is the gateway")
    cell(page, "keys-arc-1", 4).click()
    page.evaluate("navigator.clipboard.writeText('10.44.20.51\\tfulmar-local\\n10.44.20.52')")
    page.keyboard.press("Control+v")
    expect(cell(page, "keys-arc-2", 4)).to_have_text("10.44.20.52")
    page.keyboard.press("Control+c")
    assert page.evaluate("navigator.clipboard.readText()").strip() == "10.44.20.51"
    page.get_by_label("Filter").fill("arc-3")
    expect(page.get_by_role("row").filter(has_text="keys-arc-1")).to_have_count(0)


def test_a_stone_is_dragged_to_another_host_and_the_consequences_move(
    page: Page, server: ServerProcess, client: Client
) -> None:
    view = ready_plan(client, demo.PLAN.replace("name: western", "name: drag"))
    pinned = next(one for one in view["nodes"] if one["id"] == "archive-2")["host"]
    client.call(
        "PATCH",
        "/api/plans/drag",
        {
            "version": view["version"],
            "edits": [{"path": ["nodes", "archive-2", "host"], "value": pinned}],
        },
    )
    page.goto(f"{server.url}/plans/drag")
    node = next(one for one in view["nodes"] if one["id"] == "archive-1")
    other = next(one for one in view["nodes"] if one["id"] == "archive-2")
    stone = page.locator('[data-node="archive-1"]').bounding_box()
    target = page.locator('[data-node="archive-2"]').bounding_box()
    assert stone is not None
    assert target is not None
    page.mouse.move(stone["x"] + 40, stone["y"] + 5)
    page.mouse.down()
    page.mouse.move(target["x"] + 60, target["y"] - 20, steps=8)
    page.mouse.up()
    expect(cell(page, node["name"], 3)).to_have_text(other["host"])
    expect(page.get_by_role("region", name="Findings")).to_contain_text("need separate hosts")
    page.get_by_role("button", name="Let placement choose the host").first.click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("Ready to run")


def test_a_run_can_be_left_and_found_again_held_and_going_on(
    page: Page, server: ServerProcess, client: Client, lab: LabProcess
) -> None:
    ready_plan(client, demo.PLAN.replace("name: western", "name: leave"))
    lab.turn("all", speed=8)
    try:
        page.goto(f"{server.url}/plans/leave")
        page.get_by_role("button", name="Check and run").click()
        page.wait_for_url("**/run*")
        expect(page.get_by_role("heading", level=1)).to_contain_text(
            "waiting for boot", timeout=30_000
        )
        page.keyboard.press("h")
        expect(page.get_by_role("heading", level=1)).to_contain_text("On hold")
        page.goto(f"{server.url}/estate")
        page.goto(f"{server.url}/plans/leave/run")
        expect(page.get_by_role("heading", level=1)).to_contain_text("On hold")
        lab.turn("all", speed=400)
        page.get_by_role("button", name="Resume").click()
        expect(page.get_by_role("heading", level=1)).to_contain_text(
            "acceptance checks passed", timeout=60_000
        )
    finally:
        lab.turn("all", speed=400)
    run = client.call("GET", "/api/runs?plan=leave")[0]["id"]
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


def test_a_wrong_plan_text_keeps_what_was_typed_and_says_the_line(
    page: Page, server: ServerProcess
) -> None:
    page.goto(f"{server.url}/plans/western")
    page.get_by_role("button", name="plan file").click()
    text = page.get_by_role("textbox", name="Plan file", exact=True)
    expect(text).to_have_value(re.compile("The gauges of the western shore"))
    text.fill(text.input_value() + "colour: red\n")
    page.get_by_role("button", name="Save").click()
    expect(page.get_by_role("alert")).to_contain_text("“colour” is not a key of this format")
    expect(text).to_have_value(re.compile("colour: red"))


def test_what_is_typed_before_the_palette_is_there_is_typed_into_it(
    page: Page, server: ServerProcess
) -> None:
    """Its code is fetched when it is first opened: here the fetch takes its time."""
    held: list[Route] = []
    page.route(re.compile("Palette.*js"), lambda route: held.append(route))
    page.goto(f"{server.url}/plans/western?node=archive-2&column=address")
    expect(cell(page, "western-arc-2", 4)).to_have_attribute("aria-selected", "true")
    address = cell(page, "western-arc-2", 4).inner_text()
    page.keyboard.press("Control+k")
    page.keyboard.type("estate")
    page.keyboard.press("Enter")
    assert cell(page, "western-arc-2", 4).inner_text() == address
    for route in held:
        route.continue_()
    expect(page).to_have_url(re.compile("/estate"))
    expect(page.get_by_role("dialog")).to_have_count(0)


def test_palette_help_theme_and_deep_links(page: Page, server: ServerProcess) -> None:
    page.goto(f"{server.url}/plans/western?node=archive-2&column=address")
    expect(cell(page, "western-arc-2", 4)).to_have_attribute("aria-selected", "true")
    page.keyboard.press("Control+k")
    page.keyboard.type("estate")
    page.keyboard.press("Enter")
    expect(page).to_have_url(re.compile("/estate"))
    expect(page.get_by_role("heading", level=1)).to_contain_text("All reachable")
    before = page.evaluate("document.documentElement.dataset.theme")
    page.get_by_role("button", name=re.compile("^(dark|light)$")).click()
    assert page.evaluate("document.documentElement.dataset.theme") != before
    page.keyboard.press("?")
    expect(page.get_by_role("dialog", name="Keys")).to_be_visible()
    page.keyboard.press("Escape")
    expect(page.get_by_role("dialog", name="Keys")).to_have_count(0)


CONTRAST = """() => {
  const linear = (v) => (v <= .03928 ? v / 12.92 : ((v + .055) / 1.055) ** 2.4);
  const lum = (c) => {
    const [r, g, b] = c.map((v) => linear(v / 255));
    return .2126 * r + .7152 * g + .0722 * b;
  };
  const ctx = document.createElement('canvas').getContext('2d', { willReadFrequently: true });
  const parse = (text) => {
    ctx.clearRect(0, 0, 1, 1);
    ctx.fillStyle = text;
    ctx.fillRect(0, 0, 1, 1);
    return [...ctx.getImageData(0, 0, 1, 1).data];
  };
  const under = (el) => {
    for (let e = el; e; e = e.parentElement) {
      const c = parse(getComputedStyle(e).backgroundColor);
      if (c[3] > 250) return c;
    }
    return parse('white');
  };
  const bad = [];
  for (const el of document.querySelectorAll('body *')) {
    if (![...el.childNodes].some((n) => n.nodeType === 3 && n.data.trim())) continue;
    if (!el.checkVisibility({ visibilityProperty: true }) || el.disabled) continue;
    if (el.closest('svg, .visually-hidden, option')) continue;
    const a = lum(parse(getComputedStyle(el).color).slice(0, 3)), b = lum(under(el).slice(0, 3));
    const ratio = (Math.max(a, b) + .05) / (Math.min(a, b) + .05);
    if (ratio < 4.45) bad.push(`${el.textContent.trim().slice(0, 40)} ${ratio.toFixed(2)}`);
  }
  return bad;
}"""


@pytest.mark.parametrize("theme", ["light", "dark"])
def test_text_has_contrast_everywhere(page: Page, server: ServerProcess, theme: str) -> None:
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    for path in (
        "/plans/western",
        "/plans",
        "/estate?host=skua",
        "/estate?see=fitness",
        "/estate?see=networks",
        "/estate/hosts/petrel",
        "/packages",
    ):
        page.goto(f"{server.url}{path}")
        page.get_by_role("heading", level=1).first.wait_for()
        page.wait_for_load_state("networkidle")
        assert page.evaluate(CONTRAST) == [], path


def test_hosts_are_added_from_a_pasted_list_after_their_keys_were_seen(
    page: Page, server: ServerProcess, client: Client
) -> None:
    page.goto(f"{server.url}/estate/hosts/knot")
    page.get_by_role("button", name="Remove …").click()
    page.get_by_role("button", name="Remove knot").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("7 hosts")
    page.get_by_role("button", name="Add …").click()
    page.get_by_label("Names or addresses").fill(
        "[ness-two]\nknot 10.45.1.18\nthat is no host\n10.44.9.9\n"
    )
    expect(page.get_by_role("dialog")).to_contain_text("2 hosts, 1 line that is none")
    expect(page.get_by_role("dialog")).to_contain_text("line 3")
    page.get_by_label("Keyring entry").fill("lab-hosts")
    page.get_by_label("Site").fill("Ness")
    page.get_by_role("button", name="Check 2 logins").click()
    expect(page.get_by_role("row").filter(has_text="10.45.1.18")).to_contain_text(
        "login works", timeout=20_000
    )
    expect(page.get_by_role("row").filter(has_text="10.45.1.18")).to_contain_text("SHA256:")
    expect(page.get_by_role("row").filter(has_text="10.44.9.9")).to_contain_text("unreachable")
    page.get_by_role("button", name="Pin this key, add 1").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("8 hosts", timeout=20_000)
    page.goto(f"{server.url}/estate/hosts/knot")
    page.get_by_role("textbox", name="Note").fill("lacks the survey network")
    page.get_by_role("button", name="Save", exact=True).click()
    wait_for(
        lambda: (
            next(h for h in client.call("GET", "/api/estate")["hosts"] if h["name"] == "knot")[
                "note"
            ]
            == "lacks the survey network"
        ),
        10,
        "the note",
    )
    page.goto(f"{server.url}/estate?host=knot&see=fitness")
    knot = page.get_by_role("row").filter(has_text="knot")
    expect(knot.get_by_role("img", name="caution").first).to_be_visible()
    expect(page.get_by_role("region", name="Readiness")).to_contain_text(
        "network ness-survey is missing"
    )

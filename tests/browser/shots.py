"""Pictures of each main view for docs/screenshots, made from the demonstration data. Run by `make
shots`.
"""

from __future__ import annotations

import subprocess
import tempfile
from pathlib import Path

from playwright.sync_api import Page, expect, sync_playwright

from nimble_stone.cli.seeding import know_machines
from nimble_stone.lab.scenario import appliance, demo, medium, products
from tests.browser.conftest import ARGUMENTS
from tests.support.machines import inspect
from tests.support.processes import (
    PASSWORD,
    LabProcess,
    ServerProcess,
    prepare,
    ready_plan,
    small_package,
)
from tests.support.raw import ssh

OUT = Path(__file__).parents[2] / "docs/screenshots"
SPEED = 1.6
KEEL = """nimble-stone: plan/1
name: keel
title: Keel storage
kit: ballast
package: Ballast 1.9.2
bay: kelda-main
values: {pool: kelda-survey, net.copying.pool: kelda-storage, disk.data: 512, disk.data.count: 4}
"""


def _page(page: Page, server: ServerProcess, theme: str, path: str) -> None:
    page.evaluate(f"localStorage.setItem('theme', '{theme}')")
    page.goto(f"{server.url}{path}")
    page.get_by_role("heading", level=1).first.wait_for()
    page.wait_for_load_state("networkidle")


def _pictures(page: Page, server: ServerProcess, lab: LabProcess) -> None:
    def shot(name: str) -> None:
        page.mouse.move(640, 790)
        page.screenshot(path=OUT / f"{name}.png")

    page.goto(server.url)
    page.get_by_label("Access key").fill(server.key)
    page.get_by_role("button", name="Sign in").click()
    page.get_by_role("link", name="Estate").wait_for()
    _page(page, server, "light", "/estate?host=skua")
    shot("estate")
    _page(page, server, "dark", "/estate?see=fitness")
    shot("fitness-dark")
    _page(page, server, "light", "/estate?see=networks&read=bytes")
    shot("networks")
    _page(page, server, "light", "/estate/hosts/petrel")
    shot("host")
    _page(page, server, "light", "/estate/machines/basalt")
    shot("machine")
    _page(page, server, "light", "/estate?see=fitness")
    page.get_by_role("button", name="fix 3 rules here").click()
    page.get_by_role("button", name="Run on knot and whimbrel").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("refreshed.", timeout=60_000)
    shot("groundwork")
    _page(page, server, "light", "/keyring")
    shot("keyring")
    _page(page, server, "light", "/packages")
    shot("packages")
    shas = {p["version"]: p["sha256"] for p in server.client().call("GET", "/api/packages")}
    _page(page, server, "light", f"/packages/{shas['4.3.0']}")
    shot("package")
    _page(page, server, "light", "/kits/skerry")
    expect(page.get_by_role("img", name="Order:")).to_be_visible()
    shot("kit")
    _page(page, server, "light", "/plans/western")
    shot("plan")
    _page(page, server, "dark", "/plans/keel?ask=losses&node=storage-1&column=host")
    page.get_by_label("Details", exact=True).get_by_role("button", name="fulmar").first.click()
    shot("losses-dark")
    _page(page, server, "light", "/plans?see=table")
    page.get_by_label("Kit").select_option("gauge-collector")
    page.get_by_role("button", name="Start with 4 rows").click()
    page.get_by_role("row").filter(has_text="south").wait_for()
    expect(page.get_by_role("button", name="Create 4 plans")).to_be_enabled()
    shot("many")
    _page(page, server, "light", "/plans/western")
    page.get_by_role("button", name="Check and run").click()
    page.wait_for_url("**/run*")
    expect(page.get_by_role("heading", level=1)).to_contain_text("western-arc-1", timeout=60_000)
    _page(page, server, "dark", "/plans/western/run")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "waiting for services", timeout=60_000
    )
    shot("run-dark")
    expect(page.get_by_role("heading", level=1)).to_contain_text(
        "acceptance checks passed", timeout=60_000
    )
    _page(page, server, "light", "/plans/western/acceptance")
    shot("acceptance")
    _page(page, server, "light", "/plans/western")
    page.get_by_role("button", name="One archive more").click()
    expect(page.get_by_role("heading", level=1)).to_contain_text("1 to add")
    arc = next(
        one
        for one in server.client().call("GET", "/api/plans/western")["nodes"]
        if one["id"] == "archive-1"
    )
    ssh(lab, arc["host"], f"virsh -q -c qemu:///system destroy {arc['name']}", "")
    page.get_by_role("button", name="Read now").click()
    expect(page.get_by_text("shut off")).to_be_visible()
    page.reload()
    expect(page.get_by_text("shut off")).to_be_visible()
    shot("standing")
    _page(page, server, "light", "/plans/iron")
    shot("plan-metal")
    _page(page, server, "light", "/")
    shot("overview")
    _page(page, server, "dark", "/plans/many")
    shot("plan-300-dark")


def main() -> None:
    """Make them all, anew."""
    OUT.mkdir(parents=True, exist_ok=True)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        lab = LabProcess(folder / "lab", speed=SPEED, more_hosts=310)
        data = folder / "data"
        data.mkdir(mode=0o700)
        (data / "dial.yaml").write_text(lab.dial())
        medium.write(data / "inspection.iso")
        server = ServerProcess(data, pace=1 / SPEED, reachable=True)
        try:
            client = server.client()
            prepare(client, lab, small_package(folder, mib=24))
            know_machines(client, lab.plan)
            by = appliance.publisher()
            client.call("POST", "/api/trust", {"pem": by.authority.decode()})
            (folder / "gauge-collector-4.3.0.ova").write_bytes(
                appliance.ova(version="4.3.0", mib=24, seed=45, edition=5, by=by)
            )
            newer = client.upload(folder / "gauge-collector-4.3.0.ova", lambda *_: None)
            client.call(
                "PATCH", f"/api/packages/{newer['sha256']}", {"channel": "candidate", "note": ""}
            )
            subprocess.run(
                ["qemu-img", "create", "-q", "-f", "qcow2", folder / "tidebook-base.qcow2", "20G"],
                check=True,
            )
            client.upload(folder / "tidebook-base.qcow2", lambda *_: None)
            client.call(
                "POST",
                "/api/plans",
                {
                    "text": (
                        demo.PLAN.replace("name: western", "name: eastern").replace(
                            "Western", "Eastern"
                        )
                        + "nodes:\n  archive-1: {host: gannet}\n  archive-2: {host: gannet,"
                        " address: 10.44.20.1}\n"
                    )
                },
            )
            many = (
                demo.PLAN.replace("name: western", "name: many")
                .replace("Western gauges", "All gauges")
                .replace("kelda-main", "outfield")
            )
            ready_plan(
                client, many.replace("kelda-survey", "outfield").replace("count: 2", "count: 299")
            )
            (folder / "ballast.ova").write_bytes(products.ova(products.PRODUCTS["ballast"], mib=2))
            client.upload(folder / "ballast.ova", lambda *_: None)
            keel = client.call("POST", "/api/plans", {"text": KEEL})
            client.call(
                "POST",
                "/api/plans/keel/secret",
                {"version": keel["version"], "column": "admin_password", "value": PASSWORD},
            )
            iron = demo.METAL.replace("name: keel", "name: iron")
            made = client.call("POST", "/api/plans", {"text": iron})
            client.call(
                "POST",
                "/api/plans/iron/secret",
                {"version": made["version"], "column": "admin_password", "value": PASSWORD},
            )
            inspect(client, "basalt", "chert", "gneiss", "granite", "slate", "tuff")
            with sync_playwright() as playwright:
                browser = playwright.chromium.launch(
                    executable_path="/usr/bin/chromium", args=ARGUMENTS
                )
                _pictures(browser.new_page(viewport={"width": 1280, "height": 800}), server, lab)
                browser.close()
        finally:
            server.stop()
            lab.stop()


if __name__ == "__main__":
    main()

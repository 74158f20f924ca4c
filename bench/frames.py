"""The plan's page with 1,000 nodes on 200 hosts: frames while the sheet scrolls, an edit until it
is on screen, against frames of an empty page.
"""

from __future__ import annotations

import asyncio
import json
import statistics
from pathlib import Path

from bench.editing import prepared
from tests.support.processes import ServerProcess

_FRAMES = """async (move) => {
  const box = document.querySelector('[role=grid]'), took = [];
  let last = await new Promise(requestAnimationFrame);
  for (let i = 0; i < 90; i++) {
    if (move && box) box.scrollTop += 87;
    const now = await new Promise(requestAnimationFrame);
    took.push(now - last); last = now;
  }
  took.sort((a, b) => a - b);
  return [took[45], took[85], took[89]];
}"""
_SHOWN = """async ([text, column]) => {
  const began = performance.now();
  const cell = `.row:not(.everyrow) [aria-colindex="${column}"]`;
  const seen = () => document.querySelector(cell)?.textContent?.trim() === text;
  while (!seen() && performance.now() - began < 5000) await new Promise(requestAnimationFrame);
  return performance.now() - began;
}"""


_REDRAW = """async () => {
  const box = document.querySelector('[aria-label="What the wall shows"]'), took = [];
  const values = [...box.options].map((one) => one.value);
  for (let round = 0; round < 3; round++) for (const value of values) {
    await new Promise(requestAnimationFrame);
    const began = performance.now();
    box.value = value;
    box.dispatchEvent(new Event('change', { bubbles: true }));
    await new Promise(requestAnimationFrame);
    // the second comes after the first was painted
    await new Promise(requestAnimationFrame);
    took.push(performance.now() - began);
  }
  took.sort((a, b) => a - b);
  return [took[Math.floor(took.length / 2)], took[took.length - 1]];
}"""


def main(folder: Path) -> None:
    """Prints medians and the 95th of 100."""
    data = folder / "data"
    data.mkdir(mode=0o700)

    async def fill() -> None:
        ports, kits = await prepared(data)
        ports.store.close()
        (data / "kits").mkdir()
        for kit in kits.values():
            (data / "kits" / "bench.yaml").write_text(
                json.dumps(kit.model_dump(mode="json", by_alias=True))
            )

    asyncio.run(fill())
    server = ServerProcess(data)
    try:
        _measure(server)
    finally:
        server.stop()


def _measure(server: ServerProcess) -> None:
    from playwright.sync_api import sync_playwright

    from tests.browser.conftest import ARGUMENTS

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1440, "height": 900})
        page.goto(server.url)
        page.get_by_label("Access key").fill(server.key)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Estate").wait_for()
        page.goto("data:text/html,<p>hello")
        empty = page.evaluate(_FRAMES, False)
        page.goto(f"{server.url}/plans/western?node=*&column=ntp")
        page.wait_for_function("() => document.querySelectorAll('.stone').length >= 900")
        scroll = page.evaluate(_FRAMES, True)
        page.evaluate("() => { document.querySelector('[role=grid]').scrollTop = 0; }")
        print(
            f"sheet of 1,000 rows scrolling: frames of {scroll[0]:.0f} ms, 95th {scroll[1]:.0f} ms,"
            f" longest {scroll[2]:.0f} ms; an empty page: {empty[0]:.0f}, {empty[1]:.0f},"
            f" {empty[2]:.0f} ms"
        )
        wall = page.evaluate(_REDRAW)
        print(
            f"wall of 1,000 nodes drawn anew in another reading: {wall[0]:.0f} ms until it is"
            f" painted, longest {wall[1]:.0f} ms (two frames of an empty page:"
            f" {2 * empty[0]:.0f} ms)"
        )
        shown: dict[str, list[float]] = {}
        for label, column, values in (
            ("a time server", "ntp", [f"10.44.0.{n}" for n in range(30, 37)]),
            ("the size of every node", "size", ["medium", "small"] * 3),
        ):
            page.goto(f"{server.url}/plans/western?node=*&column={column}")
            page.wait_for_function("() => document.querySelectorAll('.stone').length >= 900")
            index = page.locator(".everyrow .active").get_attribute("aria-colindex")
            for value in values:
                page.get_by_role("grid").focus()
                page.keyboard.press("F2")
                page.locator(".everyrow input").fill(value)
                page.keyboard.press("Enter")
                shown.setdefault(label, []).append(float(page.evaluate(_SHOWN, [value, index])))
                page.keyboard.press("ArrowUp")
        print(
            "edit until it is on screen: "
            + "; ".join(
                f"{label} {statistics.median(took):.0f} ms" for label, took in shown.items()
            )
        )
        browser.close()

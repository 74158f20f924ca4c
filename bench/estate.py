"""The estate measured: reading 200 stand-in hosts, judging 300, and its page with 300."""

from __future__ import annotations

import asyncio
import json
import statistics
import time
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import asyncssh

from nimble_stone.core.estate import Estate
from nimble_stone.core.estate_rules import Ground, judge
from nimble_stone.hosts.kvm import commands, reading, xml_in
from nimble_stone.lab.scenario import demo
from tests.support.processes import LabProcess, ServerProcess

HOSTS = 200


async def bare(lab: LabProcess, plans: Sequence[demo.HostPlan]) -> float:
    """The same commands to the same hosts from a bare asyncssh script: connect, two scripts, df,
    the path probe; 64 at a time; seconds.
    """
    gate = asyncio.Semaphore(64)
    names = [host.name for host in plans[8:72]]

    async def one(host: demo.HostPlan) -> None:
        async with gate:
            address, port = lab.plan.real(host.address, 22)
            async with asyncssh.connect(
                address,
                port,
                username="root",
                password=demo.PASSWORD,
                known_hosts=None,
                config=None,
                agent_path=None,
                compression_algs=["none"],
                encryption_algs=["aes128-gcm@openssh.com"],
            ) as link:
                ask = reading.first(names)
                first = await link.run(
                    commands.script(120), input=reading.script(list(ask.values()))
                )
                found = dict(
                    zip(
                        ask,
                        reading.split(str(first.stdout), str(first.stderr), len(ask)),
                        strict=True,
                    )
                )
                things = [command for _, _, command in reading.second(found)]
                said = await link.run(commands.script(300), input=reading.script(things))
                pools = [
                    xml_in.pool(item.out).path
                    for item in reading.split(str(said.stdout), str(said.stderr), len(things))
                    if item.out.startswith("<pool")
                ]
                await link.run(
                    commands.script(60), input=reading.script([commands.df(path) for path in pools])
                )
                await link.run(commands.firmware_probe("kvm"))
                await link.run(commands.full_ping("10.44.1.11", 1500))

    began = time.perf_counter()
    await asyncio.gather(*(one(host) for host in plans))
    return time.perf_counter() - began


def facts(folder: Path) -> None:
    """Reading 200 hosts against the same commands from a bare script; then the rules over 300,
    against reading the same facts as JSON.
    """
    lab = LabProcess(folder / "lab", speed=10_000, more_hosts=300)
    data = folder / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data)
    try:
        client = server.client()
        client.call("PUT", f"/api/secrets/{demo.CREDENTIAL}", {"value": demo.PASSWORD})
        client.call("POST", "/api/estate", demo.estate_file(lab.plan).model_dump(mode="json"))
        names = [host.name for host in lab.plan.hosts[:HOSTS]]
        cold: list[float] = []
        warm: list[float] = []
        raw = []
        for _ in range(3):
            raw.append(asyncio.run(bare(lab, lab.plan.hosts[:HOSTS])))
            server.stop_only()
            server.start()
            client = server.client()
            for kept in (cold, warm):
                began = time.perf_counter()
                answer = client.call("POST", "/api/estate/read", {"hosts": names})
                kept.append(time.perf_counter() - began)
            assert not [
                host["name"]
                for host in answer["hosts"]
                if host["trouble"] and host["name"] in names
            ]
        a, b, c = statistics.median(cold), statistics.median(raw), statistics.median(warm)
        print(
            f"facts of {HOSTS} stand-in hosts: {a:.1f} s with new connections, {c:.1f} s with those"
            f" that are open; a bare asyncssh script with new connections: {b:.1f} s; ratio"
            f" {a / b:.2f} (stand-ins on the same two cores)"
        )
        client.call("POST", "/api/estate/read", {})
        _rules(client.call("GET", "/api/estate/facts"))
        _page(server)
    finally:
        server.stop()
        lab.stop()


def _rules(known: dict[str, Any]) -> None:
    text = json.dumps(known)
    estate = Estate.model_validate_json(text)

    def timed(work: Any) -> float:
        found = []
        for _ in range(7):
            began = time.perf_counter()
            work()
            found.append(time.perf_counter() - began)
        return statistics.median(found) * 1000

    ours, bare = (
        timed(lambda: judge(Ground(estate, time.time(), set(), set()))),
        timed(lambda: json.loads(text)),
    )
    print(
        f"rules over {len(estate.hosts)} hosts: {ours:.0f} ms; json.loads of the same facts"
        f" ({len(text) / 1e6:.1f} MB): {bare:.0f} ms; ratio {ours / bare:.2f}"
    )


def _page(server: ServerProcess) -> None:
    from playwright.sync_api import sync_playwright

    from tests.browser.conftest import ARGUMENTS

    with sync_playwright() as playwright:
        browser = playwright.chromium.launch(executable_path="/usr/bin/chromium", args=ARGUMENTS)
        page = browser.new_page(viewport={"width": 1280, "height": 800})
        page.goto(server.url)
        page.get_by_label("Access key").fill(server.key)
        page.get_by_role("button", name="Sign in").click()
        page.get_by_role("link", name="Estate").wait_for()
        paint = (
            "performance.getEntriesByType('paint').find((e) => e.name ==="
            " 'first-contentful-paint')?.startTime ?? 0"
        )
        whole = "performance.now()"
        first, drawn = [], []
        for _ in range(5):
            page.goto(f"{server.url}/estate")
            page.wait_for_function("() => document.querySelectorAll('g[data-name]').length > 300")
            drawn.append(page.evaluate(whole))
            first.append(page.evaluate(paint))
        empty = []
        for _ in range(5):
            page.goto("data:text/html,<p>hello")
            page.wait_for_function(f"() => ({paint}) > 0")
            empty.append(page.evaluate(paint))
        page.goto(f"{server.url}/estate")
        page.wait_for_function("() => document.querySelectorAll('g[data-name]').length > 300")
        typed = page.evaluate("""async () => {
          const box = document.querySelector('input[aria-label=Filter]'), found = [];
          for (const text of ['a', 'au', 'auk', 'auk-', '', 'k', 'kn', 'kno', 'knot', '']) {
            const began = performance.now();
            box.value = text; box.dispatchEvent(new Event('input', { bubbles: true }));
            await new Promise((done) => requestAnimationFrame(() => requestAnimationFrame(done)));
            found.push(performance.now() - began);
          }
          return found.sort((a, b) => a - b);
        }""")
        painted, bare = statistics.median(first), max(1, statistics.median(empty))
        painted, bare = statistics.median(first), max(1, statistics.median(empty))
        print(
            f"estate page with 308 hosts: first contentful paint {painted:.0f} ms, wall and table"
            f" drawn {statistics.median(drawn):.0f} ms; an empty page paints after {bare:.0f} ms;"
            f" ratio {painted / bare:.1f}. Filter, key to second frame: median"
            f" {statistics.median(typed):.0f} ms, worst {typed[-1]:.0f} ms (two empty frames:"
            " 33 ms)"
        )
        browser.close()


def main(folder: Path) -> None:
    """All of it."""
    facts(folder)

"""Measurements as ratios against public tools in the same run. Prints; asserts nothing. Run by
`make bench`.
"""

from __future__ import annotations

import hashlib
import sqlite3
import statistics
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

sys.path.insert(0, str(Path(__file__).parents[1]))
from bench import (
    acceptance,
    changes,
    drift,
    editing,
    estate,
    frames,
    media,
    packages,
    placement,
    run_page,
)
from bench.scene import many_hosts
from nimble_stone.core import checks, sequence, yaml_text
from nimble_stone.core.checks import Situation
from nimble_stone.core.plan.model import Plan
from nimble_stone.core.plan.sheet import resolve
from nimble_stone.core.runs.states import RunState, StepState
from nimble_stone.lab.scenario import demo
from nimble_stone.store import runs
from nimble_stone.store.connect import connect, migrate, transaction
from tests.core import scene
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    prepare,
    ready_plan,
    small_package,
)

ROUNDS = 5


def timed(work: Callable[[], object], rounds: int = ROUNDS) -> float:
    """Median seconds."""
    found = []
    for _ in range(rounds):
        began = time.perf_counter()
        work()
        found.append(time.perf_counter() - began)
    return statistics.median(found)


def journal(folder: Path) -> None:
    """A step's journal entries (begun, acting, done) against bare commits of the same number."""
    connection = connect(folder / "j.db")
    migrate(connection)
    runs.add_run(connection, runs.RunRow("r", "p", "", RunState.RUNNING, {}, 1.0, None), ["s"])
    connection.execute("CREATE TABLE bare (id INTEGER PRIMARY KEY, t TEXT)")

    def ours() -> None:
        for _ in range(300):
            for kind in ("begun", "acting", "done"):
                with transaction(connection):
                    runs.move_step(connection, "r", "s", 1.0, kind, state=StepState.WORKING)

    def bare() -> None:
        for _ in range(900):
            with transaction(connection):
                connection.execute("INSERT INTO bare (t) VALUES ('x')")

    a, b = timed(ours, 3), timed(bare, 3)
    print(
        f"journal per step (3 entries, synchronous=FULL): {a / 300 * 1000:.2f} ms; three bare"
        f" SQLite commits: {b / 300 * 1000:.2f} ms; ratio {a / b:.2f} (SQLite"
        f" {sqlite3.sqlite_version})"
    )


def thousand() -> None:
    """Resolving, checking and forecasting a plan of 1,000 nodes on 200 hosts, against reading its
    own text as YAML.
    """
    estate = scene.estate(200)
    text = (
        demo.PLAN.replace("kelda-main", "outfield")
        .replace("kelda-survey", "outfield")
        .replace("count: 2", "count: 999")
    )
    plan = yaml_text.read(text, Plan, "the plan")
    kit = scene.KIT.model_copy(
        update={
            "roles": tuple(role.model_copy(update={"apart": False}) for role in scene.KIT.roles)
        }
    )
    sheet = resolve(plan, kit, scene.PACKAGE, estate)
    parts = {
        "resolve with placement": timed(lambda: resolve(plan, kit, scene.PACKAGE, estate)),
        "check": timed(lambda: checks.check(Situation(sheet, estate))),
        "sequence and forecast": timed(lambda: sequence.forecast(sequence.build(sheet, estate))),
    }
    base = timed(lambda: [hashlib.sha256(str(i).encode()).hexdigest() for i in range(100_000)])
    print(
        "plan of 1,000 nodes on 200 hosts: "
        + "; ".join(f"{name} {seconds * 1000:.0f} ms" for name, seconds in parts.items())
        + f"; in the same run 100,000 SHA-256 of hashlib take {base * 1000:.0f} ms; ratio"
        f" {sum(parts.values()) / base:.2f}"
    )


def hundred(folder: Path) -> None:
    """A run of 100 nodes on stand-ins that answer at once: the time that is ours (and the
    stand-ins').
    """
    with many_hosts(folder, 100) as scene:
        client = scene.client
        ready_plan(
            client,
            demo.PLAN.replace("name: western", "name: hundred")
            .replace("kelda-main", "outfield")
            .replace("kelda-survey", "outfield")
            .replace("count: 2", "count: 99"),
        )
        began = time.perf_counter()
        run = client.call("POST", "/api/plans/hundred/run")["run"]
        checked = time.perf_counter() - began
        view = ended(client, run, 600)
        steps = len(view["steps"])
        took = time.perf_counter() - began - checked
        print(
            f"100 nodes on stand-ins at endless speed: check {checked:.1f} s, run {took:.1f}"
            f" s for {steps} steps ({took / steps * 1000:.0f} ms a step, stand-ins on the same two"
            f" cores included); ended {view['state']}"
        )


def page_size() -> None:
    """What the page weighs."""
    static = Path(__file__).parents[1] / "src/nimble_stone/server/static/assets"
    import gzip

    for suffix in (".js", ".css"):
        data = b"".join(path.read_bytes() for path in static.glob(f"*{suffix}"))
        print(
            f"front end {suffix}: {len(data) / 1024:.0f} KiB, {len(gzip.compress(data)) / 1024:.0f}"
            " KiB packed"
        )


def first_paint(folder: Path) -> None:
    """First paint of the plan's page in headless Chromium, against the same browser's first paint
    of an empty page.
    """
    from playwright.sync_api import sync_playwright

    from tests.browser.conftest import ARGUMENTS

    lab = LabProcess(folder / "lab", speed=400)
    data = folder / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data)
    try:
        prepare(server.client(), lab, small_package(folder, mib=1))
        with sync_playwright() as playwright:
            browser = playwright.chromium.launch(
                executable_path="/usr/bin/chromium", args=ARGUMENTS
            )
            page = browser.new_page()
            page.goto(server.url)
            page.get_by_label("Access key").fill(server.key)
            page.get_by_role("button", name="Sign in").click()
            page.get_by_role("link", name="Estate").wait_for()
            paint = (
                "performance.getEntriesByType('paint').find((e) => e.name ==="
                " 'first-contentful-paint')?.startTime ?? 0"
            )

            def once(url: str) -> float:
                page.goto(url)
                (
                    page.wait_for_function(f"() => ({paint}) > 0")
                    if url.startswith("data:")
                    else page.get_by_role("heading").first.wait_for()
                )
                return float(page.evaluate(paint))

            ours = statistics.median(once(f"{server.url}/plans/western") for _ in range(5))
            empty = statistics.median(once("data:text/html,<p>hello") for _ in range(5))
            print(
                f"first contentful paint of the plan's page: {ours:.0f} ms; of an empty page:"
                f" {empty:.0f} ms; ratio {ours / max(1, empty):.1f}"
            )
            browser.close()
    finally:
        server.stop()
        lab.stop()


def main() -> None:
    """All of it, or the parts that are named; `large` adds a 20 GiB archive to the packages."""
    parts = {
        "packages": lambda folder: packages.main(folder, "large" in sys.argv),
        "estate": estate.main,
        "acceptance": lambda _: acceptance.main(),
        "journal": journal,
        "hundred": hundred,
        "first_paint": first_paint,
        "thousand": lambda _: thousand(),
        "page_size": lambda _: page_size(),
        "placement": lambda _: placement.main(),
        "editing": lambda _: editing.main(),
        "changes": lambda _: changes.main(),
        "frames": frames.main,
        "run_page": run_page.main,
        "media": media.main,
        "drift": drift.main,
    }
    for name, work in parts.items():
        if not set(sys.argv[1:]) & set(parts) or name in sys.argv:
            with tempfile.TemporaryDirectory() as folder:
                work(Path(folder))


if __name__ == "__main__":
    main()

"""A watched run of 1,000 nodes: what its page costs at first, and what each entry of its journal
costs after that, against writing and reading the same bytes as plain JSON in the same process.
"""

from __future__ import annotations

import asyncio
import hashlib
import json
import statistics
import time
from pathlib import Path

from nimble_stone.core import sequence
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.package.contents import examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.runs.document import write
from nimble_stone.core.runs.states import RunState, StepState
from nimble_stone.lab.scenario import appliance
from nimble_stone.packages import stored
from nimble_stone.server.app import open_application
from nimble_stone.server.live import LiveRuns
from nimble_stone.store import records, runs
from tests.core import scene

NODES, EVENTS = 1000, 60


async def measured(folder: Path) -> None:
    """One run, read and watched."""
    app = open_application(folder, 1.0)
    data = appliance.ova(mib=1)
    digest = hashlib.sha256(data).hexdigest()
    contents = examine([Given("x.ova", BytesSource(data), digest)])
    row = records.PackageRow(digest, "Gauge", "4.2.0", stored.dump(contents), 1, 1, "x.ova", 1.0)
    await app.store.write(records.put_package, row)
    estate = scene.estate(200)
    sheet = scene.sheet(estate, roles__archive__count=NODES - 1)
    steps = sequence.build(sheet, estate)
    document = write(sheet, steps, estate)
    run = runs.RunRow("large", "large", digest, RunState.RUNNING, document, app.clock(), None)
    await app.store.write(runs.add_run, run, [step.key for step in steps])
    live = LiveRuns(app)
    began = time.perf_counter()
    text = await live.answer("large")
    first = time.perf_counter() - began
    value = json.loads(text)
    began = time.perf_counter()
    json.dumps(value)
    plain = time.perf_counter() - began
    print(
        f"run page of {NODES} nodes, {len(steps)} steps: first answer {first:.2f} s,"
        f" {len(text) >> 10} KiB ({first / plain:.1f} × dumping the same as JSON)"
    )
    frames = live.watch("large", value["last_event"], 30)
    cost, size, wait = [], [], []
    for step in steps[:EVENTS]:
        before = time.thread_time()
        began = time.perf_counter()
        await app.store.write(
            runs.move_step,
            "large",
            step.key,
            app.clock(),
            "begun",
            state=StepState.WORKING,
            new_attempt=True,
        )
        app.hub.signal("large")
        found = await anext(frames)
        while found is None or isinstance(found, str):
            found = await anext(frames)
        wait.append(time.perf_counter() - began)
        cost.append(time.thread_time() - before)
        size.append(len(found.text))
    await frames.aclose()
    print(
        f"each entry: {statistics.median(size) / 1024:.1f} KiB,"
        f" {statistics.median(cost) * 1000:.1f} ms of the event loop"
        f" (most {max(cost) * 1000:.1f} ms), shown after {statistics.median(wait):.2f} s"
    )
    app.store.close()


def main(folder: Path) -> None:
    """All of it."""
    asyncio.run(measured(folder))

"""A run of many nodes over the scripted ports, and a look at how long the event loop is kept."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import time
from collections.abc import Iterator

import pytest

from nimble_stone.core import sequence
from nimble_stone.core.runs.document import write
from nimble_stone.core.runs.states import RunState
from nimble_stone.ports.ports import Ports
from nimble_stone.server.app import GC_THRESHOLDS
from nimble_stone.store import records, runs
from tests.core import scene


async def add_large_run(ports: Ports, nodes: int, name: str = "large") -> str:
    """A rollout of so many nodes, not begun yet; its id. The small one of the fixture is ended."""
    if (await ports.store.read(runs.get_run, "r1")).state == RunState.RUNNING:
        for state in (RunState.CHECKING, RunState.DONE):
            await ports.store.write(runs.move_run, "r1", 2.0, "x", state)
    estate = scene.estate(200)
    sheet = scene.sheet(estate, roles__archive__count=nodes - 1)
    steps = sequence.build(sheet, estate)
    package = (await ports.store.read(records.packages))[0]
    document = write(sheet, steps, estate)
    document["views"]["main"]["sha256"] = package.sha256
    row = runs.RunRow(name, name, package.sha256, RunState.RUNNING, document, 1.0, None)
    await ports.store.write(runs.add_run, row, [step.key for step in steps])
    return row.id


@contextlib.contextmanager
def timed_callbacks(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[float]]:
    """The processor time (s) that each callback took of the event loop's thread, without what the
    garbage collector took in it: that depends on what other tests left.
    """
    took: list[float] = []
    plain = asyncio.Handle._run
    pauses = [0.0, 0.0]

    def collecting(phase: str, _: object) -> None:
        if phase == "start":
            pauses[1] = time.thread_time()
        else:
            pauses[0] += time.thread_time() - pauses[1]

    def timed(self: asyncio.Handle) -> None:
        began, paused = time.thread_time(), pauses[0]
        plain(self)
        took.append(time.thread_time() - began - (pauses[0] - paused))

    monkeypatch.setattr(asyncio.Handle, "_run", timed)
    thresholds = gc.get_threshold()
    gc.collect()
    gc.freeze()
    gc.set_threshold(*GC_THRESHOLDS)
    gc.callbacks.append(collecting)
    try:
        yield took
    finally:
        gc.callbacks.remove(collecting)
        gc.set_threshold(*thresholds)
        gc.unfreeze()

"""A run of many nodes over the scripted world, and a look at how long the event loop is kept."""

from __future__ import annotations

import asyncio
import contextlib
import gc
import time
from collections.abc import Callable, Iterator

import pytest

from nimble_stone.core import sequence
from nimble_stone.core.runs.document import write
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.world import World
from nimble_stone.server.app import GC_THRESHOLDS
from nimble_stone.store import records, runs
from tests.core import scene


async def add_large_run(world: World, nodes: int) -> str:
    """A rollout of so many nodes, not begun yet; its id. The small one of the fixture is ended."""
    for state in (RunState.CHECKING, RunState.DONE):
        await world.store.write(runs.move_run, "r1", 2.0, "x", state)
    estate = scene.estate(200)
    sheet = scene.sheet(estate, roles__archive__count=nodes - 1)
    steps = sequence.build(sheet, estate)
    package = (await world.store.read(records.packages))[0]
    document = write(sheet, steps, estate)
    document["views"]["main"]["sha256"] = package.sha256
    row = runs.RunRow("large", "large", package.sha256, RunState.RUNNING, document, 1.0, None)
    await world.store.write(runs.add_run, row, [step.key for step in steps])
    return row.id


@contextlib.contextmanager
def longest_callback(monkeypatch: pytest.MonkeyPatch) -> Iterator[Callable[[], float]]:
    """The most processor time (s) that one callback took of the event loop's thread."""
    most = 0.0
    plain = asyncio.Handle._run

    def timed(self: asyncio.Handle) -> None:
        nonlocal most
        began = time.thread_time()
        plain(self)
        most = max(most, time.thread_time() - began)

    monkeypatch.setattr(asyncio.Handle, "_run", timed)
    thresholds = gc.get_threshold()
    gc.collect()
    # what other tests left is not looked through here; the rest as the server has it
    gc.freeze()
    gc.set_threshold(*GC_THRESHOLDS)
    yield lambda: most
    gc.set_threshold(*thresholds)
    gc.unfreeze()

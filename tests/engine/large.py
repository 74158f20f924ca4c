"""A run of many nodes over the scripted ports, and what the event loop does at a time."""

from __future__ import annotations

import asyncio
import contextlib
import sys
from collections.abc import Iterator
from types import FrameType

import pytest

from nimble_stone.core import sequence
from nimble_stone.core.runs.document import write
from nimble_stone.core.runs.states import RunState
from nimble_stone.ports.ports import Ports
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
def counted_callbacks(monkeypatch: pytest.MonkeyPatch) -> Iterator[list[int]]:
    """The calls of functions (Python's and C's) in each callback of this thread's event loop.

    Calls, not seconds: they are the same on a machine that is slow or has other work. What one
    call of C takes is not seen; bench/ measures the pages' answers.
    """
    counts: list[int] = []
    plain = asyncio.Handle._run
    calls = 0

    def profile(_frame: FrameType, event: str, _argument: object) -> None:
        nonlocal calls
        if event in ("call", "c_call"):
            calls += 1

    def counted(self: asyncio.Handle) -> None:
        nonlocal calls
        calls = 0
        before = sys.getprofile()
        sys.setprofile(profile)
        try:
            plain(self)
        finally:
            sys.setprofile(before)
        counts.append(calls)

    monkeypatch.setattr(asyncio.Handle, "_run", counted)
    yield counts

"""A run is driven, or stopped where everybody sees why; it can always be taken up again."""

from __future__ import annotations

import asyncio

import pytest

from nimble_stone.core.errors import Conflict
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine import rollout
from nimble_stone.engine.drive import Driver
from nimble_stone.engine.engine import FAULT, Engine
from nimble_stone.store import runs
from tests.engine.test_driver import (
    Ground,
    ScriptedPorts,
    place,  # noqa: F401  # a fixture
    states,
    until,
)

Place = tuple[ScriptedPorts, Ground, str]


async def state(ports: ScriptedPorts, run: str) -> RunState:
    return (await ports.store.read(runs.get_run, run)).state


async def test_a_fault_of_ours_stops_a_run_visibly_and_retry_takes_it_up_again(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    ports, ground, run = place
    plain = rollout.Rollout.load

    async def broken(*_: object) -> rollout.Rollout:
        raise KeyError("a key that today's code does not know")

    monkeypatch.setattr(rollout.Rollout, "load", broken)
    engine = Engine(ports)
    await engine.open()
    await asyncio.wait_for(engine.idle(), 20)
    row = await ports.store.read(runs.get_run, run)
    assert (row.state, row.reason) == (RunState.TROUBLE, FAULT)
    assert (await ports.store.read(runs.last_events, run, 1))[0].kind == "driver-failed"
    with pytest.raises(Conflict, match="cannot continue"):
        await engine.hold(run)
    monkeypatch.setattr(rollout.Rollout, "load", plain)
    await engine.retry(run, [])
    await asyncio.wait_for(engine.idle(), 20)
    row = await ports.store.read(runs.get_run, run)
    assert (row.state, row.reason) == (RunState.DONE, "")
    assert set((await states(ports, run)).values()) == {"done"}
    assert max(ground.made.values()) == 1
    with pytest.raises(Conflict, match="has ended"):
        await engine.retry(run, [])


async def test_a_fault_in_the_middle_of_a_run_loses_nothing(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    ports, ground, run = place
    plain, calls = Driver._begin_ready, [0]

    def sometimes(self: Driver) -> None:
        calls[0] += 1
        if calls[0] == 5:
            raise ValueError("a fault of ours")
        plain(self)

    monkeypatch.setattr(Driver, "_begin_ready", sometimes)
    engine = Engine(ports)
    await engine.open()
    await asyncio.wait_for(engine.idle(), 20)
    assert await state(ports, run) == RunState.TROUBLE
    await engine.resume(run)
    await asyncio.wait_for(engine.idle(), 20)
    assert await state(ports, run) == RunState.DONE
    assert max(ground.made.values()) == 1


async def test_a_fault_while_rolling_back_leaves_the_run_rolling_back_and_asking_again_goes_on(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    ports, ground, run = place
    engine = Engine(ports)
    await engine.open()
    await asyncio.wait_for(engine.idle(), 20)
    plain = Driver._undo_all

    async def broken(*_: object) -> None:
        raise ValueError("a fault of ours")

    monkeypatch.setattr(Driver, "_undo_all", broken)
    await engine.undo(run)
    await asyncio.wait_for(engine.idle(), 20)
    row = await ports.store.read(runs.get_run, run)
    assert (row.state, row.reason) == (RunState.UNDOING, FAULT)
    monkeypatch.setattr(Driver, "_undo_all", plain)
    await engine.undo(run)
    await asyncio.wait_for(engine.idle(), 20)
    assert await state(ports, run) == RunState.UNDONE
    assert not ground.there


async def test_hold_keeps_the_checks_back_too_and_what_is_checked_cannot_be_held(
    place: Place,  # noqa: F811
) -> None:
    ports, ground, run = place
    engine = Engine(ports)

    async def hold(key: str) -> None:
        if key == list(await states(ports, run))[-1]:
            await engine.hold(run)

    ground.gate = hold
    await engine.open()

    async def last() -> bool:
        return set((await states(ports, run)).values()) == {"done"}

    await until(last)
    for _ in range(50):
        await asyncio.sleep(0)
    assert await state(ports, run) == RunState.HELD
    await engine.hold(run)
    await engine.resume(run)
    await asyncio.wait_for(engine.idle(), 20)
    assert await state(ports, run) == RunState.DONE
    await engine.close()

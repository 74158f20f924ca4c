"""A machine that is switched on to boot from a medium, and is off again before it was seen on."""

from __future__ import annotations

import itertools
from collections.abc import AsyncIterator
from pathlib import Path
from types import SimpleNamespace
from typing import Any

import pytest

from nimble_stone.core.errors import RemoteTimeout
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.preparation.inspecting import OFF_S, until_on
from nimble_stone.store import media, runs
from nimble_stone.store.connect import Store

TOKEN, RUN, MACHINE = "t" * 32, "r1", "slate"


@pytest.fixture
async def store(tmp_path: Path) -> AsyncIterator[Store]:
    found = Store(tmp_path / "n.db")
    row = runs.RunRow(RUN, "p", "", RunState.RUNNING, {}, 1.0, None)
    await found.write(runs.add_run, row, ["one"])
    await found.write(media.offer, TOKEN, RUN, MACHINE, media.Task(kind="install"), 900.0)
    yield found
    found.close()


def on_machine(store: Store) -> Any:
    """A step on a machine whose controller always says that it is off."""

    async def off() -> str:
        return "Off"

    async def pause(_: float) -> None:
        return None

    clock = itertools.count(0.0, OFF_S / 4)
    ports = SimpleNamespace(monotonic=lambda: next(clock), pace=0.0, pause=pause, store=store)
    metal = SimpleNamespace(power_state=off)
    return SimpleNamespace(
        ports=ports, step=SimpleNamespace(host=MACHINE), host=SimpleNamespace(metal=metal)
    )


async def test_a_machine_that_fetched_its_medium_was_on(store: Store) -> None:
    await store.write(media.booting, RUN, MACHINE, 100.0)
    await store.write(media.fetched, TOKEN, 101.0)
    await until_on(on_machine(store), RUN)


async def test_a_controller_that_asks_for_the_medium_when_it_is_inserted_proves_nothing(
    store: Store,
) -> None:
    await store.write(media.fetched, TOKEN, 99.0)
    await store.write(media.booting, RUN, MACHINE, 100.0)
    with pytest.raises(RemoteTimeout, match="slate was told to switch on and is not on"):
        await until_on(on_machine(store), RUN)
    await store.write(media.fetched, TOKEN, 101.0)
    await until_on(on_machine(store), RUN)

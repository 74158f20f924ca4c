"""What pages are told of a run is never older than the journal entry it names, whenever the run
moves on while an answer is worked out.
"""

from __future__ import annotations

from typing import Any

import pytest

from nimble_stone.engine.world import World
from nimble_stone.server.run_answers import run_lines, run_view
from nimble_stone.server.run_views import RunViews
from nimble_stone.store import runs
from tests.engine import test_driver

place = test_driver.place


def moves_on(world: World, monkeypatch: pytest.MonkeyPatch, after: int) -> None:
    """Let the run be rolled back right after the n-th reading of the store from now on."""
    real, count = world.store.read, 0

    async def read(function: Any, *args: Any, **kwargs: Any) -> Any:
        nonlocal count
        found = await real(function, *args, **kwargs)
        count += 1
        if count == after:
            await world.store.write(runs.move_run, "r1", 9.0, "taken-back", "undone")
        return found

    monkeypatch.setattr(world.store, "read", read)


@pytest.mark.parametrize("after", range(1, 8))
async def test_a_page_that_hears_of_an_entry_is_shown_its_state(
    place: tuple[World, Any, str], monkeypatch: pytest.MonkeyPatch, after: int
) -> None:
    world, _, run = place
    await world.store.write(runs.move_run, run, 8.0, "taking-back", "undoing")
    views = RunViews(world, run_view)
    moves_on(world, monkeypatch, after)
    early = await views.get(run)
    if early.state == "undoing":
        assert early.last_event < await world.store.read(runs.last_event, run), (
            "an old state names an old entry"
        )
    assert (await views.get(run)).state == "undone"


@pytest.mark.parametrize("after", range(1, 4))
async def test_no_line_of_an_older_state_is_kept(
    place: tuple[World, Any, str], monkeypatch: pytest.MonkeyPatch, after: int
) -> None:
    world, _, run = place
    await world.store.write(runs.move_run, run, 8.0, "taking-back", "undoing")
    moves_on(world, monkeypatch, after)
    await run_lines(world, await world.store.read(runs.runs, ""))
    line = (await run_lines(world, await world.store.read(runs.runs, "")))[0]
    assert (line.state, line.words.short) == ("undone", "rolled back")

"""What pages are told of runs: never an old state under a new journal entry, and what was read once
plus all changes is what is read anew.
"""

from __future__ import annotations

import asyncio
import json
from dataclasses import asdict
from typing import Any

import pytest

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.run_words import RunFacts
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.engine import Engine
from nimble_stone.ports.feed import Frame
from nimble_stone.ports.ports import Ports
from nimble_stone.server.live import KEPT_CHANGES, LiveRuns
from nimble_stone.server.run_answers import below, run_lines
from nimble_stone.store import runs
from tests.engine.large import add_large_run, counted_callbacks
from tests.engine.test_driver import (
    ScriptedPorts,
    place,  # noqa: F401  # a fixture
    until,
)

Place = tuple[ScriptedPorts, Any, str]
PASSING = ("now", "left_s", "sentence", "words", "overdue", "critical")
"""What changes with the clock, not with the journal."""
MOST_CALLS = 40_000
"""Of functions in one callback. For a run of 300 nodes 25,326 were counted for its whole page and
20,030 for a change; about 5 ms.
"""


def moves_on(ports: Ports, monkeypatch: pytest.MonkeyPatch, after: int) -> None:
    """Let the run be taken back right after the n-th reading of the store."""
    real, count = ports.store.read, 0

    async def read(function: Any, *args: Any, **kwargs: Any) -> Any:
        nonlocal count
        found = await real(function, *args, **kwargs)
        count += 1
        if count == after:
            await ports.store.write(runs.move_run, "r1", 9.0, "taken-back", RunState.UNDONE)
        return found

    monkeypatch.setattr(ports.store, "read", read)


@pytest.mark.parametrize("after", range(1, 8))
async def test_a_page_that_hears_of_an_entry_is_shown_its_state(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
    after: int,
) -> None:
    ports, _, run = place
    await ports.store.write(runs.move_run, run, 8.0, "taking-back", RunState.UNDOING)
    live = LiveRuns(ports)
    moves_on(ports, monkeypatch, after)
    early = await live.view(run)
    if early.state == RunState.UNDOING:
        assert early.last_event < await ports.store.read(runs.last_event, run), (
            "an old state names an old entry"
        )
    assert (await live.view(run)).state == RunState.UNDONE


@pytest.mark.parametrize("after", range(1, 6))
async def test_a_run_that_is_done_is_never_shown_without_its_checks(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
    after: int,
) -> None:
    """The engine keeps the checks and ends the run between two readings of what is new."""
    ports, _, run = place
    await ports.store.write(runs.move_run, run, 8.0, "proving", RunState.CHECKING)
    live = LiveRuns(ports)
    await live.view(run)
    await ports.store.write(runs.journal, run, 8.5, "", "going-on", {})
    verdict = Verdict("version", "Version", "lead-1", "4.2.0", "4.2.0", True, "asked")
    real, count = ports.store.read, 0

    async def read(function: Any, *args: Any, **kwargs: Any) -> Any:
        nonlocal count
        found = await real(function, *args, **kwargs)
        count += 1
        if count == after:
            await ports.store.write(runs.add_proofs, run, 9.0, [asdict(verdict)])
            await ports.store.write(runs.move_run, run, 9.0, "proved", RunState.DONE)
        return found

    monkeypatch.setattr(ports.store, "read", read)
    shown = await live.view(run)
    assert shown.state != RunState.DONE or shown.proofs
    monkeypatch.undo()
    assert [one.proof for one in (await live.view(run)).proofs] == (
        ["version"] if count >= after else []
    )


@pytest.mark.parametrize("after", range(1, 4))
async def test_no_line_of_an_older_state_is_kept(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
    after: int,
) -> None:
    ports, _, run = place
    await ports.store.write(runs.move_run, run, 8.0, "taking-back", RunState.UNDOING)
    moves_on(ports, monkeypatch, after)
    await run_lines(ports, await ports.store.read(runs.runs, ""))
    line = (await run_lines(ports, await ports.store.read(runs.runs, "")))[0]
    assert (line.state, line.words.short) == ("undone", "rolled back")


def applied(page: dict[str, Any], delta: dict[str, Any]) -> dict[str, Any]:
    """What the page does with a change (web/src/features/rollout/changes.ts)."""
    assert delta["since"] <= page["last_event"], "no change is missing"
    parts = ("since", "steps", "slots", "events", "nodes", "proofs", "attempts")
    head = {key: value for key, value in delta.items() if key not in parts}
    steps = {step["key"]: step for step in delta["steps"]}
    nodes = {node["id"]: node for node in delta["nodes"]}
    known = max((event["id"] for event in page["events"]), default=0)
    return {
        **page,
        **head,
        "steps": [
            steps.get(one["key"], {**one, **delta["slots"].get(one["key"], {})})
            for one in page["steps"]
        ],
        "nodes": [nodes.get(one["id"], one) for one in page["nodes"]],
        "proofs": page["proofs"] if delta["proofs"] is None else delta["proofs"],
        "attempts": page["attempts"] if delta["attempts"] is None else delta["attempts"],
        "events": page["events"] + [event for event in delta["events"] if event["id"] > known],
    }


def lasting(page: dict[str, Any]) -> dict[str, Any]:
    """A page without what changes with the clock."""
    left = {key: value for key, value in page.items() if key not in PASSING}
    steps = [
        {key: value for key, value in step.items() if key not in ("start_s", "end_s")}
        for step in page["steps"]
    ]
    return left | {"steps": steps}


async def test_what_was_read_once_and_all_changes_are_what_is_read_anew(
    place: Place,  # noqa: F811
) -> None:
    ports, ground, run = place
    live, engine = LiveRuns(ports), Engine(ports)
    page = json.loads(await live.answer(run))
    pages = [page]
    again = 0

    async def watch() -> None:
        nonlocal again
        async for frame in live.watch(run, page["last_event"], 30):
            if isinstance(frame, Frame):
                again += frame.kind == "again"
                pages[0] = applied(pages[0], json.loads(frame.text))

    watcher = asyncio.create_task(watch())
    ground.troubles = {"carry/kelda-shared": [ConnectionError("x")]}
    await engine.open()
    await until(lambda: _is(ports, run, RunState.TROUBLE))
    await engine.retry(run, [])
    await asyncio.wait_for(engine.idle(), 20)
    await engine.undo(run)
    await asyncio.wait_for(engine.idle(), 20)

    async def up_to_date() -> bool:
        last = await ports.store.read(runs.last_event, run)
        return bool(pages[0]["last_event"] == last)

    await until(up_to_date)
    watcher.cancel()
    await asyncio.gather(watcher, return_exceptions=True)
    whole = json.loads(await LiveRuns(ports).answer(run))
    assert lasting(pages[0]) == lasting(whole)
    assert (whole["state"], again) == ("undone", 0)
    assert len(whole["attempts"]) >= 2


async def _is(ports: Ports, run: str, state: RunState) -> bool:
    return (await ports.store.read(runs.head, run)).state == state


async def test_a_page_that_slept_too_long_is_told_to_read_anew(place: Place) -> None:  # noqa: F811
    ports, _, run = place
    live = LiveRuns(ports)
    first = json.loads(await live.answer(run))["last_event"]
    for number in range(KEPT_CHANGES + 5):
        await ports.store.write(runs.journal, run, 2.0, "", "note", {"n": number})
        await live.view(run)
    frames = live.watch(run, first, 30)
    found = await anext(frames)
    assert isinstance(found, Frame)
    assert found.kind == "again"
    await frames.aclose()
    newest = json.loads(await live.answer(run))["last_event"]
    frames = live.watch(run, newest - 3, 30)
    for number in range(3):
        found = await anext(frames)
        assert isinstance(found, Frame)
        assert json.loads(found.text)["since"] == newest - 3 + number
    await frames.aclose()


async def test_nothing_on_the_event_loop_takes_long_while_large_runs_are_watched(
    place: Place,  # noqa: F811
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    """A run of 300 nodes is carried out and watched by five."""
    ports, _, _ = place
    run = await add_large_run(ports, nodes=300)
    live, engine = LiveRuns(ports), Engine(ports)
    with monkeypatch.context() as patch, counted_callbacks(patch) as counts:
        page = await live.view(run)
        told = [0]

        async def watch() -> None:
            async for frame in live.watch(run, page.last_event, 30):
                told[0] += isinstance(frame, Frame)

        tasks = [asyncio.create_task(watch()) for _ in range(5)]
        await engine.open()
        await asyncio.wait_for(engine.idle(), 240)
        for task in tasks:
            task.cancel()
        await asyncio.gather(*tasks, return_exceptions=True)
    assert (await ports.store.read(runs.head, run)).state == RunState.DONE
    assert told[0] > 5
    await engine.close()
    assert max(counts) < MOST_CALLS


@pytest.mark.parametrize(
    ("state", "left", "words"),
    [
        ("running", 90.0, "about 1 min 30 s left"),
        ("running", 0.0, "taking longer than expected"),
        ("running", None, "taking longer than expected"),
        ("trouble", 90.0, ""),
        ("held", 90.0, ""),
        ("done", 0.0, ""),
    ],
)
def test_only_a_run_that_goes_on_says_how_long(state: str, left: float | None, words: str) -> None:
    row = runs.RunRow("r", "western", "", RunState(state), {}, 1.0, None)
    assert below(row, RunFacts(RunState(state), left_s=left)) == words

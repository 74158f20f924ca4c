"""The driver alone, over a real journal and a scripted ports: every crash, every wait, every limit,
without a socket or a real second.
"""

from __future__ import annotations

import asyncio
import hashlib
from collections import Counter
from collections.abc import AsyncIterator, Callable
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from nimble_stone.app.application import Application
from nimble_stone.core import sequence
from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.disk.source import BytesSource
from nimble_stone.core.errors import Conflict, RemoteFailed, RemoteTimeout, Unreachable
from nimble_stone.core.package.contents import examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.runs.document import write as freeze
from nimble_stone.core.runs.states import FINISHED, OPEN, STEP_MOVES, RunState, StepState
from nimble_stone.core.sequence import Limits
from nimble_stone.core.step import Step
from nimble_stone.engine import rollout
from nimble_stone.engine.drive import Driver, Queue
from nimble_stone.engine.steps import Context
from nimble_stone.keyring import Vault
from nimble_stone.lab.scenario import appliance
from nimble_stone.packages import stored
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records, runs
from nimble_stone.store.connect import Store
from tests.core import scene

OVA = appliance.ova(mib=1)


class Crash(BaseException):
    """kill -9, for a test."""


class Ground:
    """What exists in the ports, and how often each thing was made."""

    def __init__(self) -> None:
        self.there: set[str] = set()
        self.made: Counter[str] = Counter()
        self.troubles: dict[str, list[Exception]] = {}
        self.silent: set[str] = set()
        self.busy: Counter[str] = Counter()
        self.most: Counter[str] = Counter()
        self.gate: Callable[[str], Any] | None = None


class ScriptedKind:
    """A step kind that changes the ground instead of hosts."""

    def __init__(self, ground: Ground, passive: bool) -> None:
        self.ground, self.passive = ground, passive

    async def observe(self, c: Context) -> dict[str, Any] | None:
        key = c.step.key
        if self.passive and key not in self.ground.silent:
            return {}
        return {} if key in self.ground.there else None

    async def act(self, c: Context) -> None:
        ground, key = self.ground, c.step.key
        if ground.troubles.get(key):
            raise ground.troubles[key].pop(0)
        if self.passive:
            return
        ground.busy[c.step.host] += 1
        ground.most[c.step.host] = max(ground.most[c.step.host], ground.busy[c.step.host])
        ground.most["overall"] = max(ground.most["overall"], sum(ground.busy.values()))
        await asyncio.sleep(0)
        if ground.gate:
            await ground.gate(key)
        ground.busy[c.step.host] -= 1
        ground.there.add(key)
        ground.made[key] += 1

    async def undo(self, c: Context) -> str:
        if self.ground.troubles.get("undo " + c.step.key):
            raise self.ground.troubles["undo " + c.step.key].pop(0)
        self.ground.there.discard(c.step.key)
        return "gone"


class ScriptedPorts(Application):
    """Ports whose pauses take no time and whose hosts are nobody."""

    paused = 0.0

    async def pause(self, seconds: float) -> None:
        self.paused += seconds
        await asyncio.sleep(0)

    async def host(self, name: str) -> Any:
        return name

    async def driver(self, host: Any, record: Any = None) -> Any:
        return host


@pytest.fixture
async def place(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> AsyncIterator[tuple[ScriptedPorts, Ground, str]]:
    ground = Ground()
    store = Store(tmp_path / "n.db")
    # nothing is dialled
    ports = ScriptedPorts(store, Vault(b"k" * 32), None, tmp_path)  # type: ignore[arg-type]
    monkeypatch.setattr(
        rollout,
        "KINDS",
        {
            kind: ScriptedKind(ground, kind in ("boot", "services"))
            for kind in ("carry", "clone", "medium", "define", "start", "boot", "services", "call")
        },
    )

    async def stands(c: Context) -> bool:
        return c.step.key in ground.there

    kinds = ("carry", "clone", "medium", "define", "start")
    monkeypatch.setattr(rollout, "STANDS", dict.fromkeys(kinds, stands))

    async def proved(*_: Any) -> list[Verdict]:
        return [Verdict("p", "P", "lead-1", "x", "x", True, "asked")]

    monkeypatch.setattr(rollout.acceptance, "prove", proved)
    digest = hashlib.sha256(OVA).hexdigest()
    contents = examine([Given("x.ova", BytesSource(OVA), digest)])
    await store.write(
        records.put_package,
        records.PackageRow(
            contents.sha256, "Gauge Collector", "4.2.0", stored.dump(contents), 1, 1, "x.ova", 1.0
        ),
    )
    sheet = scene.sheet()
    steps = sequence.build(sheet, scene.estate())
    document = freeze(sheet, steps, scene.estate())
    document["views"]["main"]["sha256"] = contents.sha256
    row = runs.RunRow("r1", "western", contents.sha256, RunState.RUNNING, document, 1.0, None)
    await store.write(runs.add_run, row, [step.key for step in steps])
    yield ports, ground, "r1"
    store.close()


async def states(ports: Ports, run: str) -> dict[str, str]:
    return {step.key: step.state for step in await ports.store.read(runs.steps, run)}


async def until(condition: Callable[[], Any]) -> None:
    async with asyncio.timeout(20):
        while not await condition():
            await asyncio.sleep(0.002)


async def test_a_run_makes_everything_once_and_ends_proved(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    await Driver(ports, run).go()
    assert set((await states(ports, run)).values()) == {"done"}
    assert set(ground.made.values()) == {1}
    assert (await ports.store.read(runs.get_run, run)).state == "done"


async def test_crashed_after_every_single_journal_write_the_end_is_the_same(
    place: tuple[ScriptedPorts, Ground, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    """The process ends right after the n-th write, for every n, until the run has come to
    its end.
    """
    ports, ground, run = place
    write, left = ports.store.write, 0

    async def failing(function: Any, *args: Any, **kwargs: Any) -> Any:
        nonlocal left
        if left <= 0:
            raise asyncio.CancelledError  # dead: nothing is written any more
        found = await write(function, *args, **kwargs)
        left -= 1
        if left == 0:
            raise asyncio.CancelledError  # written, but nobody heard of it
        return found

    monkeypatch.setattr(ports.store, "write", failing)
    lives = 0
    while (await ports.store.read(runs.get_run, run)).state not in ("done", "unproved"):
        lives += 1
        assert lives < 200
        left = 1 + lives * 7 % 23
        task = asyncio.create_task(Driver(ports, run).go())
        async with asyncio.timeout(10):
            while left > 0 and not task.done():
                await asyncio.sleep(0.001)
        task.cancel()
        await asyncio.gather(task, return_exceptions=True)
        # what was on its way to the disk has landed or never will
        await write(lambda db: None)
        ground.busy.clear()
    assert lives > 5
    assert set((await states(ports, run)).values()) == {"done"}
    kinds = Counter((event.step, event.kind) for event in await ports.store.read(runs.events, run))
    assert {
        key: kinds[key, "done"] for key in await states(ports, run) if kinds[key, "done"] != 1
    } == {}
    assert set(ground.made) == {
        key
        for key, kind in ((s, s.split("/")[0]) for s in await states(ports, run))
        if kind not in ("boot", "services")
    }


async def test_limits_are_kept_per_host_and_overall(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ports.limiter.change(Limits(per_host=1, per_datastore=1, overall=2))
    await Driver(ports, run).go()
    assert ground.most.pop("overall") <= 2
    assert set(ground.most.values()) == {1}


async def test_a_lost_connection_is_tried_three_times_then_a_person_decides(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.troubles["define/lead-1"] = [Unreachable("the cable is out")] * 3
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def stuck() -> bool:
        return (await ports.store.read(runs.get_run, run)).state == "trouble"

    await until(stuck)
    found = {step.key: step for step in await ports.store.read(runs.steps, run)}
    assert (
        found["define/lead-1"].state,
        found["define/lead-1"].attempt,
        found["define/lead-1"].message,
    ) == ("failed", 3, "the cable is out")
    assert found["start/archive-1"].state == "planned"
    with pytest.raises(Conflict):
        await driver.skip("start/archive-1", "no")
    await driver.retry([])
    await asyncio.wait_for(task, 20)
    assert (await ports.store.read(runs.get_run, run)).state == "done"
    with pytest.raises(Conflict):
        await driver.retry([])


async def test_an_error_that_will_not_change_is_not_tried_again(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.troubles["define/lead-1"] = [Conflict("not ours")]
    task = asyncio.create_task(Driver(ports, run).go())

    async def stuck() -> bool:
        return (await states(ports, run))["define/lead-1"] == "failed"

    await until(stuck)
    assert {step.key: step.attempt for step in await ports.store.read(runs.steps, run)}[
        "define/lead-1"
    ] == 1
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)


async def test_a_wait_ends_at_its_deadline_in_words(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.silent.add("boot/lead-1")
    ports.monotonic = lambda: ports.paused
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def stuck() -> bool:
        return (await states(ports, run))["boot/lead-1"] == "failed"

    await until(stuck)
    found = {step.key: step for step in await ports.store.read(runs.steps, run)}["boot/lead-1"]
    assert found.message.startswith("western-lead: boot not completed within 4 min")
    assert ports.paused >= 240
    ground.silent.clear()
    await driver.retry(["boot/lead-1"])
    await asyncio.wait_for(task, 20)


async def waiting_on(ports: Ports, run: str, key: str, driver: Driver) -> None:
    async def there() -> bool:
        return key in driver._waits and (await states(ports, run))[key] == "waiting"

    await until(there)


async def test_losing_contact_is_part_of_waiting_and_is_said_once(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.silent.add("boot/lead-1")
    ports.monotonic = lambda: ports.paused
    driver = Driver(ports, run)
    kinds = rollout.KINDS
    plain, asked = kinds["boot"].observe, [0]

    async def flaky(c: Context) -> dict[str, Any] | None:
        if c.step.key == "boot/lead-1":
            asked[0] += 1
            if 3 <= asked[0] <= 20:
                raise Unreachable("the switch is rebooting")
            if asked[0] > 20:
                return {}
        return await plain(c)

    kinds["boot"].observe = flaky  # type: ignore[method-assign]
    await asyncio.wait_for(driver.go(), 20)
    assert (await ports.store.read(runs.get_run, run)).state == "done"
    told = [
        (e.kind, e.payload.get("message"))
        for e in await ports.store.read(runs.events, run)
        if e.step == "boot/lead-1"
    ]
    assert told == [
        ("begun", None),
        ("acting", None),
        ("lost-contact", "the switch is rebooting"),
        ("contact-again", None),
        ("done", None),
    ]
    assert {step.key: step.attempt for step in await ports.store.read(runs.steps, run)}[
        "boot/lead-1"
    ] == 1


async def test_a_wait_is_extended_ended_and_begun_anew_by_a_person(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.silent.add("boot/lead-1")
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())
    await waiting_on(ports, run, "boot/lead-1", driver)
    before = driver._waits["boot/lead-1"].end
    await driver.extend("boot/lead-1", 900)
    assert driver._waits["boot/lead-1"].end == before + 900
    await driver.retry(["boot/lead-1"])
    await waiting_on(ports, run, "boot/lead-1", driver)
    assert driver._waits["boot/lead-1"].end < before + 900
    await driver.end_wait("boot/lead-1")

    async def failed() -> bool:
        return (await states(ports, run))["boot/lead-1"] == "failed" and driver._states[
            "boot/lead-1"
        ] == "failed"

    await until(failed)
    found = {step.key: step for step in await ports.store.read(runs.steps, run)}["boot/lead-1"]
    assert "was ended by a person" in found.message
    assert found.attempt == 2
    for request in (driver.extend("boot/lead-1", 5), driver.end_wait("boot/lead-1")):
        with pytest.raises(Conflict, match="not waiting"):
            await request
    await driver.skip("boot/lead-1", "it is up")
    await asyncio.wait_for(task, 20)
    kinds = [e.kind for e in await ports.store.read(runs.events, run) if e.step == "boot/lead-1"]
    assert [k for k in kinds if k not in ("begun", "acting")] == [
        "wait-extended",
        "retry-asked",
        "wait-end-asked",
        "failed",
        "skipped",
    ]


@pytest.mark.parametrize(
    ("gone", "again"),
    [
        # who stopped is started and waited for; nothing else of it is repeated
        (["start/lead-1"], {"start/lead-1", "boot/lead-1"}),
        (
            ["define/lead-1", "start/lead-1"],
            {"define/lead-1", "start/lead-1", "boot/lead-1"},
        ),
        (
            ["clone/lead-1", "define/lead-1", "start/lead-1"],
            {"clone/lead-1", "define/lead-1", "start/lead-1", "boot/lead-1"},
        ),
        ([], set()),
    ],
)
async def test_a_retry_makes_again_what_is_gone_and_nothing_else(
    place: tuple[ScriptedPorts, Ground, str], gone: list[str], again: set[str]
) -> None:
    ports, ground, run = place
    failing = "services/lead-1"
    ground.silent.add(failing)
    ground.troubles[failing] = [RemoteFailed("it is gone", target="lead", code="guest-gone")]
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def stuck() -> bool:
        return (await ports.store.read(runs.get_run, run)).state == "trouble"

    await until(stuck)
    tries = {step.key: step.attempt for step in await ports.store.read(runs.steps, run)}
    ground.there -= set(gone)
    ground.silent.clear()
    await driver.retry([])
    await asyncio.wait_for(task, 20)
    assert set((await states(ports, run)).values()) == {"done"}
    assert {key for key, count in ground.made.items() if count > 1} == set(gone)
    now = {step.key: step.attempt for step in await ports.store.read(runs.steps, run)}
    repeated = {key for key, count in now.items() if count > tries[key] and tries[key]}
    assert repeated == again | {failing}


async def test_what_cannot_be_asked_is_not_made_again(
    place: tuple[ScriptedPorts, Ground, str], monkeypatch: pytest.MonkeyPatch
) -> None:
    ports, ground, run = place
    ground.troubles["start/lead-1"] = [RemoteFailed("no", target="lead", code="guest-gone")]

    async def silent(_: Context) -> bool:
        raise Unreachable("nobody answers", target="gannet")

    monkeypatch.setattr(rollout, "STANDS", dict.fromkeys(rollout.STANDS, silent))
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def stuck() -> bool:
        return (await ports.store.read(runs.get_run, run)).state == "trouble"

    await until(stuck)
    before = ground.made.copy()
    await driver.retry([])
    await asyncio.wait_for(task, 20)
    assert "clone/lead-1" not in ground.made - before


@pytest.mark.parametrize("code", ["guest-gone", "guest-stopped"])
async def test_a_guest_that_vanishes_during_a_wait_fails_it_at_once(
    place: tuple[ScriptedPorts, Ground, str], code: str
) -> None:
    ports, ground, run = place
    ground.silent.add("services/lead-1")
    task = asyncio.create_task(Driver(ports, run).go())

    async def state_is(wanted: str) -> bool:
        return (await states(ports, run))["services/lead-1"] == wanted

    await until(lambda: state_is("waiting"))
    plain = rollout.KINDS["services"].observe

    async def gone(c: Context) -> dict[str, Any] | None:
        if c.step.key == "services/lead-1":
            raise RemoteFailed("VM is no longer there", code=code)
        return await plain(c)

    rollout.KINDS["services"].observe = gone  # type: ignore[method-assign]
    await until(lambda: state_is("failed"))
    assert {step.key: step.attempt for step in await ports.store.read(runs.steps, run)}[
        "services/lead-1"
    ] == 1
    task.cancel()
    await asyncio.gather(task, return_exceptions=True)


async def test_a_skipped_step_lets_the_rest_go_on_and_keeps_its_reason(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.troubles["form/cluster"] = [RemoteFailed("the cluster is formed already")] * 3
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def stuck() -> bool:
        return (await ports.store.read(runs.get_run, run)).state == "trouble"

    await until(stuck)
    await driver.skip("form/cluster", "it was formed by hand")
    await asyncio.wait_for(task, 20)
    assert {
        step.key: (step.state, step.message) for step in await ports.store.read(runs.steps, run)
    }["form/cluster"] == ("skipped", "it was formed by hand")


async def carrying(
    place: tuple[ScriptedPorts, Ground, str],
) -> tuple[Driver, asyncio.Task[None], asyncio.Event]:
    """A driver whose run carries three disks, and what lets them arrive."""
    ports, ground, run = place
    opened = asyncio.Event()

    async def gate(key: str) -> None:
        if key.startswith("carry"):
            await opened.wait()

    ground.gate = gate
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def begun() -> bool:
        return list((await states(ports, run)).values()).count("working") >= 3

    await until(begun)
    return driver, task, opened


async def test_holding_finishes_what_has_begun_and_begins_nothing(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, _, run = place
    driver, task, opened = await carrying(place)
    await driver.hold()
    opened.set()

    async def quiet() -> bool:
        return "working" not in (await states(ports, run)).values()

    await until(quiet)
    now = await states(ports, run)
    assert all(state == "done" for key, state in now.items() if key.startswith("carry"))
    assert all(state == "planned" for key, state in now.items() if key.startswith("clone"))
    await driver.resume()
    await asyncio.wait_for(task, 20)
    assert (await ports.store.read(runs.get_run, run)).state == "done"


@pytest.mark.parametrize("asked", ["hold", "resume", "undo"])
async def test_what_a_person_asks_while_the_run_settles_by_itself_moves_it_once(
    place: tuple[ScriptedPorts, Ground, str], monkeypatch: pytest.MonkeyPatch, asked: str
) -> None:
    ports, _, run = place
    driver, task, opened = await carrying(place)
    if asked == "resume":
        await driver.hold()
    write = ports.store.write

    async def slow(work: Callable[..., Any], *words: Any, **rest: Any) -> Any:
        """The store has written, and its answer takes its time: all steps end meanwhile."""
        found = await write(work, *words, **rest)
        if work is runs.move_run and words[2] in ("hold-asked", "resumed", "undo-asked"):
            opened.set()
            for _ in range(200):
                await asyncio.sleep(0.001)
                driver.wake.set()
        return found

    monkeypatch.setattr(ports.store, "write", slow)
    await getattr(driver, asked)()
    if asked == "hold":
        for _ in range(20):
            await asyncio.sleep(0.001)
        assert (await ports.store.read(runs.get_run, run)).state == "held"
        await driver.resume()
    await asyncio.wait_for(task, 20)
    ended = (await ports.store.read(runs.get_run, run)).state
    assert ended == ("undone" if asked == "undo" else "done")


async def test_taking_back_in_the_middle_leaves_nothing_and_what_was_never_begun_alone(
    place: tuple[ScriptedPorts, Ground, str],
) -> None:
    ports, ground, run = place
    ground.silent.add("boot/lead-1")
    driver = Driver(ports, run)
    task = asyncio.create_task(driver.go())

    async def waiting() -> bool:
        return (await states(ports, run))["boot/lead-1"] == "waiting"

    await until(waiting)
    ground.troubles["undo define/lead-1"] = [Unreachable("host is down")]
    await driver.undo()

    async def stuck() -> bool:
        return (await states(ports, run))["define/lead-1"] == "failed"

    await until(stuck)
    # disks stay while their guest could not be removed
    assert "clone/lead-1" in ground.there
    await driver.undo()
    await asyncio.wait_for(task, 20)
    assert ground.there == set()
    found = await states(ports, run)
    assert found["join/archive-1"] == "planned"
    assert (await ports.store.read(runs.get_run, run)).state == "undone"


def test_the_errors_of_the_tree_say_whether_trying_again_makes_sense() -> None:
    assert Unreachable("x").retryable
    assert RemoteTimeout("x").retryable
    assert not hasattr(Conflict("x"), "retryable")


async def test_a_run_of_the_first_version_with_its_tidying_step_is_taken_back(
    tmp_path: Path,
) -> None:
    from types import SimpleNamespace

    from nimble_stone.engine.steps import KINDS

    there = {"ns-r1-base0", "ns-r1-base1", "ns-base-0123", "ns-r2-base0"}

    class Host:
        @property
        def storage(self) -> Host:
            return self

        async def refresh(self, datastore: str) -> None:
            return

        async def volume(self, datastore: str, name: str) -> str | None:
            return name if name in there else None

        async def delete(self, datastore: str, name: str) -> None:
            there.discard(name)

    context: Any = SimpleNamespace(
        host=Host(),
        step=SimpleNamespace(datastore="store", detail={"place": "store"}),
        volume=lambda what: f"ns-r1-{what}",
        descriptor=SimpleNamespace(disk_order=("a", "b")),
        ports=None,
    )
    assert "2 cached images" in await KINDS["tidy"].undo(context)
    # what other runs or the store of copies hold stays
    assert there == {"ns-base-0123", "ns-r2-base0"}
    assert await KINDS["tidy"].observe(context) == {}
    assert set(rollout.UNDO_STAGE) == set(KINDS)


@given(st.data())
def test_the_queue_says_what_looking_at_every_step_would(data: st.DataObject) -> None:
    """However steps hang on each other and whatever moves."""
    count = data.draw(st.integers(min_value=1, max_value=12))
    keys = [f"s{number}" for number in range(count)]
    before = [
        tuple(data.draw(st.sets(st.sampled_from(keys[:number])))) if number else ()
        for number in range(count)
    ]
    steps = [
        Step(key, "boot", key, "n", "h", "store", 1, after, 1.0, 2.0)
        for key, after in zip(keys, before, strict=True)
    ]
    kept = {key: data.draw(st.sampled_from(StepState)) for key in keys}
    queue = Queue(steps, kept)
    for _ in range(data.draw(st.integers(min_value=0, max_value=20))):
        expected = [
            step
            for step in steps
            if kept[step.key] in OPEN and all(kept[key] in FINISHED for key in step.after)
        ]
        assert queue.ready() == expected
        key = data.draw(st.sampled_from(keys))
        # what was finished is only ever undone, and then nothing begins any more
        if kept[key] in FINISHED or not STEP_MOVES[kept[key]]:
            continue
        kept[key] = data.draw(st.sampled_from(sorted(STEP_MOVES[kept[key]])))
        queue.moved(key, kept[key])

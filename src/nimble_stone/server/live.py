"""Runs that are watched: each is read once, and from then on only what its journal adds.

A projection of each watched run is kept here and brought up to the journal's end with the rows of
the steps that moved; what changed is put into words once, for all pages, and each page applies it
to what it has. Whatever costs more than a few milliseconds is done in a thread.
"""

from __future__ import annotations

import asyncio
import json
import logging
from collections import OrderedDict, deque
from collections.abc import AsyncGenerator
from dataclasses import dataclass, field
from functools import cached_property

from nimble_stone.app.application import Application
from nimble_stone.app.claims import own_runs, without_own
from nimble_stone.app.run_requests import rollout_row
from nimble_stone.core import narrative, run_words, sequence
from nimble_stone.core.acceptance import Verdict, verdict_of
from nimble_stone.core.errors import StoneError
from nimble_stone.core.estate import Estate
from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.runs import document
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.ports.feed import Frame
from nimble_stone.server.run_answers import below, seen_steps
from nimble_stone.server.views import (
    AttemptView,
    EventView,
    RunChangeView,
    RunDelta,
    RunHead,
    RunView,
    SlotView,
    StepView,
    bare_views,
    host_views,
    live_forecast,
    node_view,
    step_views,
    words_view,
)
from nimble_stone.store import records, runs
from nimble_stone.store.news import news
from nimble_stone.store.runs import EventRow, RunRow, StepRow

log = logging.getLogger("nimble_stone.server")
SHOWN_EVENTS = 400
KEPT_RUNS, KEPT_CHANGES = 64, 512
PAGE = 2000
LOOK_S = 15.0
SHORTEST_S = 0.05
"""Between two looks at a journal: a burst of entries is one change."""
REST = 4.0
"""Times as long as a look took is rested before the next one: large runs are looked at less often.
"""
FORECAST_S = 2.0
"""How old the expected times of steps may be."""
MOVED_S = 0.5
"""A step expected by less than this earlier or later is expected as before."""


@dataclass(frozen=True)
class Change:
    """What was told of a run at once. `since`: the journal entry after which it begins."""

    number: int
    since: int
    frame: Frame


@dataclass
class Live:
    """A run as far as its journal was read."""

    row: RunRow
    frozen: FrozenRun
    rows: dict[str, StepRow]
    estate: Estate
    events: deque[EventRow]
    last: int
    now: float
    forecast: sequence.Forecast
    forecast_at: float
    verdicts: list[Verdict]
    proved_at: float | None
    attempts: list[AttemptView]
    queued: dict[str, str]
    changes: deque[Change] = field(default_factory=lambda: deque(maxlen=KEPT_CHANGES))
    number: int = 0
    """Of the newest change."""
    lock: asyncio.Lock = field(default_factory=asyncio.Lock)
    grown: asyncio.Event = field(default_factory=asyncio.Event)
    progress: str = "{}"
    watchers: int = 0
    pump: asyncio.Task[None] | None = None

    @cached_property
    def learning(self) -> frozenset[str]:
        """Keys of steps that learn values."""
        steps = self.frozen.steps.items()
        return frozenset(key for key, step in steps if step.kind == "learn")

    def grow(self) -> None:
        """Wake all who watch."""
        grown, self.grown = self.grown, asyncio.Event()
        grown.set()


class LiveRuns:
    """Answers and changes of runs."""

    def __init__(self, app: Application) -> None:
        self._app = app
        self._kept: OrderedDict[str, Live] = OrderedDict()
        self._opening: dict[str, asyncio.Lock] = {}

    async def view(self, ident: str) -> RunView:
        """How a run stands now. Raises NotFound, FormatError."""
        live = await self._open(ident)
        async with live.lock:
            await self._catch_up(live)
            return await asyncio.to_thread(_whole, live)

    async def answer(self, ident: str) -> bytes:
        """The same as JSON. Raises NotFound, FormatError."""
        return await asyncio.to_thread(_as_json, await self.view(ident))

    async def watch(
        self, ident: str, after: int, idle_s: float
    ) -> AsyncGenerator[Frame | str | None, None]:
        """Changes after a journal entry (Frame), progress whenever it changes (JSON text), None
        when nothing came for `idle_s`. A frame of kind `again` says that the changes after that
        entry are not known here: the run is to be read again.
        """
        live = await self._open(ident)
        live.watchers += 1
        if live.pump is None:
            live.pump = asyncio.create_task(self._keep_up(ident, live))
        shown = "{}"
        found, number, grown = _since_entry(live, after), live.number, live.grown
        try:
            while True:
                if found is None:
                    yield Frame(live.last, "{}", "again")
                for change in found or ():
                    yield change.frame
                if live.progress != shown:
                    shown = live.progress
                    yield shown
                try:
                    async with asyncio.timeout(idle_s):
                        await grown.wait()
                except TimeoutError:
                    yield None
                found, number, grown = _since_change(live, number), live.number, live.grown
        finally:
            live.watchers -= 1
            if not live.watchers and live.pump is not None:
                live.pump.cancel()
                live.pump = None

    async def _keep_up(self, ident: str, live: Live) -> None:
        hub = self._app.hub
        while True:
            seen, began = hub.count(ident), self._app.monotonic()
            try:
                async with live.lock:
                    await self._catch_up(live)
            except StoneError:
                log.exception("the journal of run %s cannot be read", ident)
            progress = json.dumps(hub.progress[ident])
            if progress != live.progress:
                live.progress = progress
                live.grow()
            took = self._app.monotonic() - began
            await asyncio.sleep(max(SHORTEST_S, REST * took))
            await hub.wait(ident, seen, LOOK_S)

    async def _open(self, ident: str) -> Live:
        if ident in self._kept:
            self._kept.move_to_end(ident)
            return self._kept[ident]
        lock = self._opening.setdefault(ident, asyncio.Lock())
        try:
            async with lock:
                if ident not in self._kept:
                    self._kept[ident] = await self._read(ident)
                    self._forget()
                return self._kept[ident]
        finally:
            self._opening.pop(ident, None)

    def _forget(self) -> None:
        idle = [ident for ident, live in self._kept.items() if not live.watchers]
        for ident in idle[: max(0, len(self._kept) - KEPT_RUNS)]:
            del self._kept[ident]

    async def _read(self, ident: str) -> Live:
        app, store = self._app, self._app.store
        # first: what follows is at least as new as the entry it names
        last = await store.read(runs.last_events, ident, SHOWN_EVENTS)
        row = await rollout_row(app, ident)
        frozen = await thawed(store, row)
        rows = {step.key: step for step in await store.read(runs.steps, ident)}
        own = {ident, *await own_runs(app, row.plan)}
        estate = without_own(await store.read(records.load_estate), own)
        proofs = await store.read(runs.last_proofs, ident)
        now = app.clock()
        limits = app.limiter.limits
        return Live(
            row,
            frozen,
            rows,
            estate,
            deque(last, maxlen=SHOWN_EVENTS),
            last[-1].id if last else 0,
            now,
            await asyncio.to_thread(live_forecast, frozen, rows, row.started_at, now, limits),
            app.monotonic(),
            [verdict_of(item) for item in proofs[1]] if proofs else [],
            proofs[0] if proofs else None,
            [AttemptView(**vars(one)) for one in await store.read(runs.attempts, ident)],
            app.limiter.why(ident),
        )

    async def _catch_up(self, live: Live) -> None:
        """Bring a run to the journal's end; what came of it is one more change."""
        app, store, ident = self._app, self._app.store, live.row.id
        new = await store.read(news, ident, live.last, PAGE, live.learning)
        entries, head, fresh = new.entries, new.head, new.steps
        queued = app.limiter.why(ident)
        live.now = app.clock()
        if not entries and queued == live.queued:
            return
        attempts = None
        if new.attempts is not None:
            attempts = [AttemptView(**vars(one)) for one in new.attempts]
        live.row, live.attempts = head, attempts or live.attempts
        live.rows.update(fresh)
        waits = {key for key in {*queued, *live.queued} if queued.get(key) != live.queued.get(key)}
        live.queued = queued
        if any(entry.kind == "kit-taken" for entry in entries):
            live.frozen = await thawed(app.store, await app.store.read(runs.get_run, live.row.id))
            # steps may be called otherwise: whoever watches reads the run again
            live.changes.clear()
            live.number += 1
        if new.learned:
            live.frozen.sheet = document.with_values(live.frozen.sheet, new.learned)
        if new.proofs:
            live.proved_at = new.proofs.at
            live.verdicts = [verdict_of(item) for item in new.proofs.verdicts]
        before, since = live.forecast, live.last
        if app.monotonic() - live.forecast_at >= FORECAST_S or head.state != "running":
            live.forecast_at = app.monotonic()
            live.forecast = await asyncio.to_thread(
                live_forecast,
                live.frozen,
                live.rows,
                head.started_at,
                live.now,
                app.limiter.limits,
            )
        live.events.extend(entries)
        live.last = entries[-1].id if entries else live.last
        delta = RunDelta(
            **dict(await asyncio.to_thread(_head, live)),
            since=since,
            steps=_steps(live, fresh.keys() | waits),
            slots=await asyncio.to_thread(_moved, live, before, fresh.keys() | waits),
            events=[EventView(**vars(entry)) for entry in entries],
            nodes=[
                node_view(live.frozen.sheet, live.frozen.sheet.by_id[ident])
                for ident in new.learned
            ],
            proofs=live.verdicts if new.proofs else None,
            attempts=attempts,
        )
        live.number += 1
        frame = Frame(live.last, delta.model_dump_json(), "change")
        live.changes.append(Change(live.number, since, frame))
        live.grow()


def _since_entry(live: Live, after: int) -> list[Change] | None:
    """The changes for a page that has read the journal up to an entry; None where some of them are
    not known here any more.
    """
    if after >= live.last:
        return []
    wanted = [change for change in live.changes if change.frame.id > after]
    return wanted if wanted and wanted[0].since <= after else None


def _since_change(live: Live, number: int) -> list[Change] | None:
    """The changes after one that was sent; None where some of them are not known here any more."""
    if live.changes and live.changes[0].number > number + 1:
        return None
    return [change for change in live.changes if change.number > number]


def _head(live: Live) -> RunHead:
    """How the run stands as a whole. Cost: O(steps)."""
    row = live.row
    left = max(0.0, live.forecast.end_s - (live.now - row.started_at))
    names = {node.id: node.name for node in live.frozen.sheet.nodes}
    facts = run_words.facts_of(
        row.state,
        seen_steps(live.frozen, live.rows, live.now),
        narrative.checks_of(names, live.verdicts),
        left_s=left,
        queued=list(live.queued.values()),
        reason=row.reason,
        others=change.stood if (change := live.frozen.change) else (),
    )
    words = run_words.words_of(facts)
    return RunHead(
        state=row.state,
        started_at=row.started_at,
        ended_at=row.ended_at,
        undone_at=row.undone_at,
        last_event=live.last,
        now=live.now,
        sentence=narrative.of_run(words, below(row, facts)),
        words=words_view(words),
        left_s=left,
        overdue=facts.left_s is None,
        critical=list(live.forecast.critical),
        proved_at=live.proved_at,
        proof_sentence=narrative.of_acceptance(live.frozen.sheet, live.verdicts, row.state),
    )


def _whole(live: Live) -> RunView:
    """The whole answer. Cost: O(nodes × columns + steps)."""
    sheet = live.frozen.sheet
    used = {node.value("host") for node in sheet.nodes}
    steps = list(live.frozen.steps.values())
    hosts = host_views(live.estate, set(sheet.plan.bays), names=used)
    if any(node.on_machine for node in sheet.nodes):
        hosts += bare_views(live.estate, sheet.plan.bays, used)
    return RunView.model_construct(
        **dict(_head(live)),
        id=live.row.id,
        plan=live.row.plan,
        title=sheet.plan.title or live.row.plan,
        nodes=[node_view(sheet, node) for node in (*sheet.nodes, *_gone(live))],
        hosts=hosts,
        steps=step_views(steps, live.forecast, live.rows, live.queued),
        proofs=live.verdicts,
        attempts=live.attempts,
        events=[EventView(**vars(entry)) for entry in live.events],
        change=_change(live),
    )


def _gone(live: Live) -> list[Node]:
    """Nodes that the run takes away and does not make again."""
    change = live.frozen.change
    there = live.frozen.sheet.by_id
    return [node for node in change.leaving if node.id not in there] if change else []


def _change(live: Live) -> RunChangeView | None:
    change = live.frozen.change
    if change is None:
        return None
    return RunChangeView(
        adds=list(change.adds),
        removes=list(change.left),
        resizes=list(change.resizes),
        upgrades=list(change.upgrades),
    )


def _as_json(view: RunView) -> bytes:
    """The answer as JSON, part by part: one large part would hold the interpreter, and with it all
    others, until it is written.
    """
    parts = []
    for name in ("nodes", "hosts", "steps", "events"):
        texts = ",".join(one.model_dump_json() for one in getattr(view, name))
        parts.append(f'"{name}":[{texts}]')
    rest = view.model_dump_json(exclude={"nodes", "hosts", "steps", "events"})
    return f"{rest[:-1]},{','.join(parts)}}}".encode()


def _steps(live: Live, keys: set[str]) -> list[StepView]:
    chosen = [live.frozen.steps[key] for key in keys if key in live.frozen.steps]
    return step_views(chosen, live.forecast, live.rows, live.queued)


def _moved(live: Live, before: sequence.Forecast, told: set[str]) -> dict[str, SlotView]:
    """Steps that are expected at another time than before, without those that are told anyway."""
    found = {}
    for key, slot in live.forecast.slots.items():
        old = before.slots.get(key)
        if old is None or key in told:
            continue
        if max(abs(slot.start_s - old.start_s), abs(slot.end_s - old.end_s)) >= MOVED_S:
            found[key] = SlotView(start_s=slot.start_s, end_s=slot.end_s)
    return found

"""Reading what stands again and again, and telling what differs from what was built."""

from __future__ import annotations

import asyncio
import contextlib
import logging
from collections.abc import Mapping
from dataclasses import replace

from nimble_stone.app import host_drift
from nimble_stone.app.application import Application
from nimble_stone.app.claims import own_runs
from nimble_stone.app.deployments import standing
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.drift import Drift, merged
from nimble_stone.core.errors import Conflict, InputError, StoneError
from nimble_stone.core.runs.change import Change
from nimble_stone.engine import acceptance, speaking
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.store import drift as kept
from nimble_stone.store import records, runs

log = logging.getLogger("nimble_stone.drift")
EVERY_MIN = 60
"""Minutes between two readings of a deployment, where nobody set another number."""
MOST_MIN = 7 * 24 * 60
SETTING = "drift-minutes"
LONGEST_S = 366 * 86400.0
LOOKS_S = 30.0
"""Seconds between two looks for deployments whose turn it is."""


async def every_minutes(app: Application) -> int:
    """Minutes between two readings; 0: off."""
    said = await app.store.read(records.get_meta, SETTING)
    return int(said) if said and said.isdigit() else EVERY_MIN


async def set_every(app: Application, minutes: int) -> None:
    """Set it. Raises InputError."""
    if not 0 <= minutes <= MOST_MIN:
        raise InputError(f"0 to {MOST_MIN} minutes; 0 switches it off", code="drift-minutes")
    await app.store.write(records.put_meta, SETTING, str(minutes))


async def read(app: Application, plan: str) -> list[Drift]:
    """Read a deployment now. Nothing is changed anywhere.

    Raises Conflict when nothing of the plan stands, or a run of it is under way.
    """
    if plan not in await app.store.read(kept.standing_plans):
        raise Conflict(
            f"Nothing of {plan} is deployed, or a run of it is in progress.",
            code="nothing-stands",
            hint="Wait for its run, or roll it out.",
        )
    stands = await standing(app, plan)
    try:
        frozen = await _as_it_stands(app, plan, stands)
        verdicts = await acceptance.prove(app, frozen)
        await speaking.close(app, frozen)
        verdicts += await host_drift.read(
            app, plan, stands, await app.store.read(kept.of_plan, plan)
        )
    except StoneError as error:
        trouble = app.blank(str(error))[:300]
        reading = kept.Reading(plan, app.clock(), 0, 0, trouble)
        await app.store.write(kept.put_reading, reading)
        raise
    if plan not in await app.store.read(kept.standing_plans):
        # a run began meanwhile: what was read is of a moment in between
        raise Conflict(
            f"A run of {plan} started while it was read; nothing was kept.",
            code="nothing-stands",
            hint="Wait for its run, then read again.",
        )
    now = app.clock()
    found = merged(await app.store.read(kept.of_plan, plan), verdicts, now)
    unasked = sum(not one.checked for one in verdicts)
    reading = kept.Reading(plan, now, len(verdicts), unasked, "")
    await app.store.write(kept.put, plan, found, reading)
    return found


async def _as_it_stands(app: Application, plan: str, stands: Mapping[str, BuiltNode]) -> FrozenRun:
    """The newest run's kit and packages, with exactly the nodes that stand: a run that was rolled
    back may have taken some away for good.
    """
    newest = (await own_runs(app, plan))[0]
    frozen = await thawed(app.store, await app.store.read(runs.get_run, newest))
    kit = frozen.sheet.kit
    # a workload writes: that is for rounds that a person or a run asks for
    checks = tuple(one for one in kit.acceptance if one.kind != "workload")
    frozen.sheet = replace(
        frozen.sheet,
        nodes=tuple(one.node for one in stands.values()),
        kit=kit.model_copy(update={"acceptance": checks}),
    )
    frozen.change = Change((), {ident: one.run for ident, one in stands.items()})
    return frozen


async def accept(
    app: Application, plan: str, node: str, check: str, reason: str, days: float
) -> None:
    """Accept a difference for some days, with a reason; 0 days: no longer. Raises InputError,
    NotFound.
    """
    if days and not reason.strip():
        raise InputError("Say why it is accepted.", code="reason-missing")
    until = app.clock() + min(days * 86400, LONGEST_S) if days else 0.0
    await app.store.write(kept.accept, plan, node, check, reason.strip()[:500], until, app.clock())


class Watcher:
    """Reads each deployment when its turn comes, one at a time, so that hosts and nodes are asked
    little at once.
    """

    def __init__(self, app: Application) -> None:
        self._app = app
        self._task: asyncio.Task[None] | None = None
        self._built: dict[str, str] = {}
        """Plan → the run after which its hosts were looked at."""

    def open(self) -> None:
        """Begin."""
        self._task = asyncio.create_task(self._go())

    async def close(self) -> None:
        """End."""
        if self._task is not None:
            self._task.cancel()
            with contextlib.suppress(asyncio.CancelledError):
                await self._task

    async def _go(self) -> None:
        while True:
            await self._app.pause(LOOKS_S)
            try:
                await self.built()
                await self.due()
            except StoneError as error:
                log.warning("drift: %s", error)
            except Exception:
                log.exception("drift")

    async def due(self) -> list[str]:
        """Read the deployments whose turn it is, first those of which a run has ended since. Their
        plans.
        """
        every = await every_minutes(self._app)
        if not every:
            return []
        last = await self._app.store.read(kept.readings)
        worked = await self._app.store.read(kept.last_worked_at)
        plans = await self._app.store.read(kept.standing_plans)
        read_at = {plan: last[plan].at if plan in last else 0.0 for plan in plans}
        old = self._app.clock() - every * 60
        changed = [plan for plan in plans if read_at[plan] < worked[plan]]
        turn = changed + [plan for plan in plans if plan not in changed and read_at[plan] <= old]
        for plan in turn:
            try:
                await read(self._app, plan)
            except StoneError as error:
                log.warning("drift of %s: %s", plan, error)
        return turn

    async def built(self) -> None:
        """Keep how hosts are that carry nodes since the last look."""
        for plan, run in (await self._app.store.read(kept.newest_runs)).items():
            if self._built.get(plan) == run:
                continue
            try:
                await host_drift.keep(self._app, plan, await standing(self._app, plan))
            except StoneError as error:
                log.warning("hosts of %s: %s", plan, error)
            self._built[plan] = run

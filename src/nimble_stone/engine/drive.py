"""Driving one run: which steps may start now, carrying each out, and what to do when something goes wrong.

The run's state lives in the store. This object can vanish at any moment (kill -9) and be made again from there: a step
that was working is observed anew before anything is done.
"""

from __future__ import annotations

import asyncio
import logging
from dataclasses import dataclass
from typing import Any

from nimble_stone.core.errors import Conflict, FormatError, RemoteError, RemoteTimeout, StoneError
from nimble_stone.core.sequence import Limits, Step
from nimble_stone.core.units import time_text
from nimble_stone.engine.groundwork import Preparation
from nimble_stone.engine.jobs import Context, Job
from nimble_stone.engine.rollout import Rollout
from nimble_stone.engine.world import World
from nimble_stone.store import runs

log = logging.getLogger("nimble_stone.engine")
ATTEMPTS = 3
FINISHED = {"done", "skipped"}


@dataclass
class Wish:
    """What a person wants of a run under way."""

    hold: bool = False
    undo: bool = False
    prove: bool = False


class Driver:
    """One run being carried out. `go` returns when the run has ended."""

    def __init__(self, world: World, run_id: str, limits: Limits = Limits()) -> None:
        self.world, self.run_id, self.limits = world, run_id, limits
        self.wish = Wish()
        self.wake = asyncio.Event()
        self._states: dict[str, str] = {}
        self._tried: set[str] = set()
        self._tasks: dict[str, asyncio.Task[None]] = {}

    async def _load(self) -> None:
        row = await self.world.store.read(runs.get_run, self.run_id)
        self._job: Job = Preparation(self.world, row) if row.kind == "groundwork" else await Rollout.load(self.world, row)
        rows = await self.world.store.read(runs.steps, self.run_id)
        self._states = {step.key: step.state for step in rows}
        self._tried = {step.key for step in rows if step.attempt}
        self._run_state = row.state
        self.wish.hold = row.state == "held"
        self.wish.undo = row.state == "undoing"

    async def go(self) -> None:
        """Carry the run to its end, holding, failing and waiting for a person in between."""
        await self._load()
        try:
            while True:
                self.wake.clear()
                if self.wish.undo:
                    self.wish.undo = False                 # first, so that asking again while it goes on is not lost
                    await self._take_back()
                    if self._run_state == "undone":
                        return
                elif self._run_state == "undoing":
                    pass                                   # taking back got stuck; a person asks again
                elif all(state in FINISHED for state in self._states.values()):
                    await self._prove()
                    if not self.wish.undo:
                        return
                    continue
                else:
                    self._begin_ready()
                    await self._settle_state()
                await self.wake.wait()
        finally:
            for task in self._tasks.values():
                task.cancel()
            await asyncio.gather(*self._tasks.values(), return_exceptions=True)

    # --- choosing ---

    def _begin_ready(self) -> None:
        if self.wish.hold:
            return
        for step in self._job.steps.values():
            if self._states[step.key] in ("planned", "working", "waiting") and step.key not in self._tasks and self._may_start(step):
                self._tasks[step.key] = asyncio.create_task(self._attempts(step))

    def _may_start(self, step: Step) -> bool:
        if any(self._states.get(key, "done") not in FINISHED for key in step.after):
            return False
        if step.waits:
            return True
        busy = [other for key in self._tasks if not (other := self._job.steps[key]).waits]
        return (len(busy) < self.limits.overall and sum(other.host == step.host for other in busy) < self.limits.per_host
                and sum((other.host, other.datastore) == (step.host, step.datastore) for other in busy) < self.limits.per_datastore)

    async def _settle_state(self) -> None:
        """The run's own state follows from its steps and wishes."""
        failed = any(state == "failed" for state in self._states.values())
        state = "held" if self.wish.hold and not self._tasks else "trouble" if failed and not self._tasks else "running"
        if self.wish.hold and self._run_state == "held":
            state = "held"
        if state != self._run_state:
            await self._move_run({"held": "held", "trouble": "stuck"}.get(state, "going-on"), state)

    # --- carrying out ---

    async def _attempts(self, step: Step) -> None:
        try:
            for attempt in range(1, ATTEMPTS + 1):
                try:
                    await self._once(step)
                    return
                except RemoteError as error:
                    if attempt == ATTEMPTS or not error.retryable or isinstance(error, RemoteTimeout) or error.code == "guest-stopped":
                        await self._failed(step, error)
                        return
                    await self._move(step, "try-again", state="working", message=self.world.blank(str(error)))
                    await self.world.pause(min(30.0, 2.0 ** attempt * max(0.2, self.world.pace)))
                except (Conflict, FormatError, StoneError) as error:
                    await self._failed(step, error)
                    return
        except asyncio.CancelledError:
            raise
        except Exception:
            log.exception("step %s of run %s", step.key, self.run_id)
            await self._move(step, "failed", state="failed", ended=True, message="a fault in Nimble Stone itself; the server's log has it."
                             " Retry, and report it")
        finally:
            self._tasks.pop(step.key, None)
            self.world.hub.forget(self.run_id, step.key)
            self.wake.set()

    async def _once(self, step: Step) -> None:
        context = await self._context(step)
        kind = self._job.kind(step)
        await self._move(step, "begun", state="waiting" if step.waits else "working", new_attempt=True)
        found = await kind.observe(context)
        if found is None:
            await self._journal(step, "acting")
            await kind.act(context)
            context.acted = True
            found = await self._confirmed(step, context)
        await self._move(step, "done", state="done", ended=True, message=str(found.get("way", "")), payload={"found": found})

    async def _confirmed(self, step: Step, context: Context) -> dict[str, Any]:
        """Observe until it is so: waits up to their deadline, other steps once."""
        end, tries = self.world.monotonic() + step.deadline_s, 0
        while True:
            found = await self._job.kind(step).observe(context)
            tries += 1
            if found is not None:
                return found
            if not self._job.polled(step):
                raise RemoteError(f"{step.label}: the host reported no error, but what was to be there is not", target=step.host,
                                  hint="See the transcript; retry.")
            left = end - self.world.monotonic()
            if left <= 0:
                raise RemoteTimeout(f"{context.who}: {step.label.lower()} not seen within {time_text(step.deadline_s)} ({tries} tries)",
                                    target=context.who, hint="Look at the node's console; retry waits once more.")
            context.tell(tries=tries, left_s=left)
            await self.world.pause(min(left, 3.0, max(0.25, step.expected_s / 12)))

    async def _context(self, step: Step) -> Context:
        def record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
            blank = self.world.blank
            task = asyncio.create_task(self.world.store.write(runs.add_transcript, self.run_id, step.key, self.world.clock(), target,
                                                              blank(command), blank(answer), status, seconds))
            pending.add(task)
            task.add_done_callback(pending.discard)
        pending: set[asyncio.Task[None]] = set()
        host = await self.world.kvm(await self.world.host(step.host), record)
        return self._job.context(step, host, record)

    async def _failed(self, step: Step, error: StoneError) -> None:
        await self._move(step, "failed", state="failed", ended=True, message=self.world.blank(str(error)), payload={"hint": error.hint, "code": error.code})

    async def _move(self, step: Step, kind: str, *, state: str, **rest: Any) -> None:
        await self.world.store.write(runs.move_step, self.run_id, step.key, self.world.clock(), kind, state=state, **rest)
        self._states[step.key] = state
        self._tried.add(step.key)
        self.world.hub.signal(self.run_id)

    async def _journal(self, step: Step, kind: str) -> None:
        await self.world.store.write(runs.journal, self.run_id, self.world.clock(), step.key, kind, {})
        self.world.hub.signal(self.run_id)

    async def _move_run(self, kind: str, state: str, payload: dict[str, Any] | None = None) -> None:
        await self.world.store.write(runs.move_run, self.run_id, self.world.clock(), kind, state, payload)
        self._run_state = state
        self.world.hub.signal(self.run_id)

    # --- wishes ---

    async def hold(self) -> None:
        """Begin nothing more; what works is finished. The wish itself is journalled at once."""
        self.wish.hold = True
        await self._move_run("hold-asked", "held")
        self.wake.set()

    async def resume(self) -> None:
        """Go on."""
        self.wish.hold = False
        await self._move_run("resumed", "running")
        self.wake.set()

    async def retry(self, keys: list[str]) -> None:
        """Try failed steps again; all of them when none is named. Raises Conflict when there is none."""
        chosen = [key for key, state in self._states.items() if state == "failed" and (not keys or key in keys)]
        if not chosen:
            raise Conflict("nothing has failed that could be tried again", code="nothing-failed")
        for key in chosen:
            await self._move(self._job.steps[key], "retry-asked", state="planned")
        self.wake.set()

    async def skip(self, key: str, reason: str) -> None:
        """Pass over a failed step, with a reason. Raises Conflict when it has not failed."""
        if self._states.get(key) != "failed":
            raise Conflict("only a step that has failed can be skipped", code="not-failed")
        await self._move(self._job.steps[key], "skipped", state="skipped", ended=True, message=reason)
        self.wake.set()

    async def undo(self) -> None:
        """Take back what this run made."""
        self.wish.undo = True
        await self._move_run("undo-asked", "undoing")
        self.wake.set()

    # --- the end ---

    async def _prove(self) -> None:
        if self._run_state != "proving":
            await self._move_run("proving", "proving")
        passed, told = await self._job.finish()
        if not self.wish.undo:
            await self._move_run("proved" if passed else "not-proved", "done" if passed else "unproved", told)

    async def _take_back(self) -> None:
        for task in list(self._tasks.values()):
            task.cancel()
        await asyncio.gather(*self._tasks.values(), return_exceptions=True)
        self._tasks.clear()
        touched = [step for step in reversed(list(self._job.steps.values())) if step.key in self._tried and self._states[step.key] != "undone"]
        for stage in range(self._job.stages):
            await asyncio.gather(*(self._undo_host([s for s in touched if self._job.stage(s) == stage and s.host == host])
                                   for host in {step.host for step in touched}))
            if any(self._states[step.key] != "undone" for step in touched if self._job.stage(step) == stage):
                return                                     # stays “undoing”; a person repairs the host and asks again
        await self._job.undone()
        await self._move_run("taken-back", "undone")

    async def _undo_host(self, steps: list[Step]) -> None:
        """One host's part of a stage, one step after the other."""
        for step in steps:
            try:
                await self._move(step, "undoing", state="undoing")
                context = await self._context(step)
                said = await self._job.kind(step).undo(context)
                await self._move(step, "undone", state="undone", ended=True, message=said)
            except StoneError as error:
                await self._move(step, "undo-failed", state="failed", ended=True, message=self.world.blank(str(error)), payload={"hint": error.hint})

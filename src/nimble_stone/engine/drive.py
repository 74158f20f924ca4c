"""Driving one run: which steps may start now, carrying each out, and what to do when something goes
wrong.

The run's state lives in the store. This object can vanish at any moment (kill -9) and be made again
from there: a step
that was working is observed again before anything is done.
"""

from __future__ import annotations

import asyncio
import logging
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.core.errors import (
    Conflict,
    FormatError,
    RemoteError,
    RemoteFailed,
    RemoteTimeout,
    StoneError,
    StoreError,
    Unreachable,
)
from nimble_stone.core.runs.states import FINISHED, OPEN, RunState, StepState
from nimble_stone.core.step import Step
from nimble_stone.core.units import time_text
from nimble_stone.engine import again
from nimble_stone.engine.jobs import Context, Job
from nimble_stone.engine.preparation import Preparation
from nimble_stone.engine.rollout import Rollout
from nimble_stone.ports.ports import Ports
from nimble_stone.store import runs

log = logging.getLogger("nimble_stone.engine")
ATTEMPTS = 3


@dataclass
class Wait:
    """A wait under way. `end` is monotonic; a person may put it off, or end it (`ended_by` says
    how, in words).
    """

    end: float
    ended: bool = False
    nudge: asyncio.Event = field(default_factory=asyncio.Event)


_SETTLED = {
    RunState.RUNNING: "going-on",
    RunState.HELD: "held",
    RunState.TROUBLE: "stuck",
}
"""The journal's word for each state that follows from the steps."""


def _under_way(step: Step) -> StepState:
    return StepState.WAITING if step.waits else StepState.WORKING


LOST = (Unreachable, RemoteTimeout)
"""What losing contact looks like: a part of waiting, as long as there is time."""
FINAL = ("guest-stopped", "guest-gone", "wait-ended")
"""Failures that another attempt by itself would not mend."""
MAX_EXTENSION_S = 24 * 3600.0


@dataclass
class Request:
    """What a person wants of a run under way."""

    hold: bool = False
    undo: bool = False
    prove: bool = False


class Queue:
    """Which steps may begin: not finished themselves, with all before them finished. Kept up with
    each move, so that asking costs O(ready), however many steps there are.
    """

    def __init__(self, steps: Iterable[Step], states: Mapping[str, StepState]) -> None:
        self._steps = {step.key: step for step in steps}
        self._place = {key: place for place, key in enumerate(self._steps)}
        self._followers: dict[str, list[str]] = {}
        self._before: dict[str, set[str]] = {}
        for step in self._steps.values():
            open_before = {
                key for key in step.after if states.get(key, StepState.DONE) not in FINISHED
            }
            self._before[step.key] = open_before
            for key in open_before:
                self._followers.setdefault(key, []).append(step.key)
        self._open = {key for key in self._steps if states[key] in OPEN}
        self._ready = {key for key in self._open if not self._before[key]}

    def ready(self) -> list[Step]:
        """The steps that may begin, in sequence; those that are under way are among them."""
        return [self._steps[key] for key in sorted(self._ready, key=self._place.__getitem__)]

    def moved(self, key: str, state: StepState) -> None:
        """A step has another state."""
        if state in OPEN:
            self._open.add(key)
            if not self._before[key]:
                self._ready.add(key)
            return
        self._open.discard(key)
        self._ready.discard(key)
        if state not in FINISHED:
            return
        for follower in self._followers.get(key, ()):
            self._before[follower].discard(key)
            if not self._before[follower] and follower in self._open:
                self._ready.add(follower)


def verdict(passed: bool) -> tuple[str, RunState]:
    """What the journal calls the end of the acceptance checks, and the state that follows."""
    return ("proved", RunState.DONE) if passed else ("not-proved", RunState.UNPROVED)


class Driver:
    """One run being carried out. `go` returns when the run has ended."""

    def __init__(self, ports: Ports, run_id: str) -> None:
        self.ports, self.run_id = ports, run_id
        self.request = Request()
        self.wake = asyncio.Event()
        self.loaded = asyncio.Event()
        self._states: dict[str, StepState] = {}
        self._tried: set[str] = set()
        self._tasks: dict[str, asyncio.Task[None]] = {}
        self._waits: dict[str, Wait] = {}
        self._trouble: Exception | None = None
        # the run's state is decided and written by one at a time: people ask while it settles
        self._deciding = asyncio.Lock()

    async def _load(self) -> None:
        row = await self.ports.store.read(runs.get_run, self.run_id)
        self._job: Job = (
            Preparation(self.ports, row)
            if row.kind == "groundwork"
            else await Rollout.load(self.ports, row)
        )
        rows = await self.ports.store.read(runs.steps, self.run_id)
        self._states = {step.key: step.state for step in rows}
        self._tried = {step.key for step in rows if step.attempt}
        self._released = await self.ports.store.read(runs.released, self.run_id)
        # few, and looked at whenever a step moves
        self._holds = [step for step in self._job.steps.values() if step.detail.get("hold")]
        self._queue = Queue(self._job.steps.values(), self._states)
        self._run_state = row.state
        self.request.hold = row.state == RunState.HELD
        self.request.undo = row.state == RunState.UNDOING
        self.loaded.set()

    async def go(self) -> None:
        """Carry the run to its end, holding, failing and waiting for a person in between. Raises
        StoreError when the store fails: nothing
        that was under way is known to have ended then, and all of it is observed again by the next
        driver."""
        await self._load()
        try:
            while True:
                self.wake.clear()
                if self._trouble is not None:
                    raise self._trouble
                if self.request.undo:
                    # first, so that asking again while it goes on is not lost
                    self.request.undo = False
                    await self._take_back()
                    if self._run_state == RunState.UNDONE:
                        return
                elif self._run_state == RunState.UNDOING:
                    # taking back got stuck; a person asks again
                    pass
                elif self._finished() and not self.request.hold:
                    if await self._prove():
                        return
                    continue
                else:
                    self._hold_after_stage()
                    self._begin_ready()
                    await self._settle_state()
                await self.wake.wait()
        finally:
            for task in self._tasks.values():
                task.cancel()
            await asyncio.gather(*self._tasks.values(), return_exceptions=True)
            self.ports.limiter.leave(self.run_id)

    def hosts(self) -> set[str]:
        """The hosts and machines that its steps work on."""
        return {step.host for step in self._job.steps.values()} if self.loaded.is_set() else set()

    def _finished(self) -> bool:
        return all(state in FINISHED for state in self._states.values())

    def _held_by(self) -> list[Step]:
        """Ends of stages after which the kit wants a person to look, and nobody has."""
        held = [
            step
            for step in self._holds
            if self._states[step.key] == StepState.DONE and step.key not in self._released
        ]
        return held if held and not self._finished() else []

    def _hold_after_stage(self) -> None:
        """Follows from steps and journal alone, so a server that was killed holds again."""
        if self._held_by():
            self.request.hold = True

    # --- choosing ---

    def _begin_ready(self) -> None:
        if self.request.hold:
            self.ports.limiter.want(self.run_id, (), self.wake.set)
            return
        ready = [step for step in self._queue.ready() if step.key not in self._tasks]
        working = (step for step in ready if not step.waits)
        slots = self.ports.limiter.want(self.run_id, working, self.wake.set)
        for step in ready:
            if step.waits or step.key in slots:
                self._tasks[step.key] = asyncio.create_task(self._attempts(step))

    async def _settle_state(self) -> None:
        """The run's own state follows from its steps and requests."""
        async with self._deciding:
            if self.request.undo or self._run_state == RunState.UNDOING:
                return
            failed = any(state == StepState.FAILED for state in self._states.values())
            state = RunState.RUNNING
            if self.request.hold and (not self._tasks or self._run_state == RunState.HELD):
                state = RunState.HELD
            elif failed and not self._tasks:
                state = RunState.TROUBLE
            if state != self._run_state:
                await self._move_run(_SETTLED[state], state)

    # --- carrying out ---

    async def _attempts(self, step: Step) -> None:
        try:
            for attempt in range(1, ATTEMPTS + 1):
                try:
                    await self._once(step)
                    return
                except StoreError:
                    raise
                except RemoteError as error:
                    if (
                        attempt == ATTEMPTS
                        or not error.retryable
                        or isinstance(error, RemoteTimeout)
                        or error.code in FINAL
                    ):
                        await self._failed(step, error)
                        return
                    await self._move(
                        step,
                        "try-again",
                        state=_under_way(step),
                        message=self.ports.blank(str(error)),
                    )
                    await self.ports.pause(min(30.0, 2.0**attempt * max(0.2, self.ports.pace)))
                except (Conflict, FormatError, StoneError) as error:
                    await self._failed(step, error)
                    return
        except asyncio.CancelledError:
            raise
        except StoreError as error:
            # the whole run stops until the store answers again
            self._trouble = error
        except Exception as error:
            log.exception("step %s of run %s", step.key, self.run_id)
            await self._faulted(step, error)
        finally:
            self._tasks.pop(step.key, None)
            self.ports.limiter.release(self.run_id, step.key)
            self.ports.hub.forget(self.run_id, step.key)
            self.wake.set()

    async def _faulted(self, step: Step, error: Exception) -> None:
        """A fault of ours: the step fails; where even that cannot be written, the run stops."""
        message = "internal error, see the server log. Retry, and report it"
        try:
            await self._move(step, "failed", state=StepState.FAILED, ended=True, message=message)
        except Exception:
            self._trouble = error

    async def _once(self, step: Step) -> None:
        await self._move(step, "begun", state=_under_way(step), new_attempt=True)
        context = await self._context(step)
        if self._job.polled(step):
            found = await self._waited(step, context)
        else:
            found = await self._made(step, context)
        await self._move(
            step,
            "done",
            state=StepState.DONE,
            ended=True,
            message=str(found.get("way", "")),
            payload={"found": found},
        )

    async def _made(self, step: Step, context: Context) -> dict[str, Any]:
        """Observe, act, observe again: what the host reports as done must be there."""
        kind = self._job.kind(step)
        found = await kind.observe(context)
        if found is not None:
            return found
        await self._journal(step, "acting")
        await kind.act(context)
        context.acted = True
        found = await kind.observe(context)
        if found is None:
            raise RemoteError(
                f"{step.label}: command succeeded, but the result is missing",
                target=step.host,
                hint="See the transcript; retry.",
            )
        return found

    async def _waited(self, step: Step, context: Context) -> dict[str, Any]:
        """Ask again and again until it is so, at most until the deadline. Losing contact meanwhile
        is part of waiting.
        """
        began = self.ports.monotonic()
        wait = Wait(began + step.deadline_s)
        self._waits[step.key] = wait
        tries, lost = 0, ""
        try:
            while True:
                tries += 1
                try:
                    found = await self._asked(step, context)
                    if lost:
                        await self._journal(step, "contact-again")
                        lost = ""
                    if found is not None:
                        return found
                except LOST as error:
                    if not lost:
                        await self._journal(
                            step, "lost-contact", {"message": self.ports.blank(str(error))}
                        )
                    lost = self.ports.blank(str(error))
                left = wait.end - self.ports.monotonic()
                if wait.ended:
                    raise RemoteFailed(
                        f"{context.who}: the wait for {step.label.lower()} was ended by a person"
                        f" after {tries} checks",
                        target=context.who,
                        hint="Retry to wait again, or skip the step.",
                        code="wait-ended",
                    )
                if left <= 0:
                    last = lost or context.said
                    raise RemoteTimeout(
                        f"{context.who}: {step.label.lower()} not completed within"
                        f" {time_text(wait.end - began)} ({tries} checks)"
                        + (f"; last: {last}" if last else ""),
                        target=context.who,
                        hint="Check the node's console. Retry waits again.",
                    )
                context.tell(tries=tries, left_s=left, lost=lost)
                await self._nap(wait, min(left, 3.0, max(0.25, step.expected_s / 12)))
        finally:
            self._waits.pop(step.key, None)

    async def _asked(self, step: Step, context: Context) -> dict[str, Any] | None:
        """One look; the first time that it is not so yet, what begins it is done."""
        kind = self._job.kind(step)
        found = await kind.observe(context)
        if found is not None or context.acted:
            return found
        await self._journal(step, "acting")
        await kind.act(context)
        context.acted = True
        return await kind.observe(context)

    async def _nap(self, wait: Wait, seconds: float) -> None:
        """Pause, unless a person decides something about the wait meanwhile."""
        wait.nudge.clear()
        pause = asyncio.ensure_future(self.ports.pause(seconds))
        nudge = asyncio.ensure_future(wait.nudge.wait())
        try:
            await asyncio.wait({pause, nudge}, return_when=asyncio.FIRST_COMPLETED)
        finally:
            pause.cancel()
            nudge.cancel()

    async def _context(self, step: Step) -> Context:
        def record(target: str, command: str, answer: str, status: int, seconds: float) -> None:
            blank = self.ports.blank
            task = asyncio.create_task(
                self.ports.store.write(
                    runs.add_transcript,
                    self.run_id,
                    step.key,
                    self.ports.clock(),
                    target,
                    blank(command),
                    blank(answer),
                    status,
                    seconds,
                )
            )
            pending.add(task)
            task.add_done_callback(kept)

        def kept(task: asyncio.Task[None]) -> None:
            pending.discard(task)
            if not task.cancelled():
                # looked at: a full disk is told once, by the run itself
                task.exception()

        pending: set[asyncio.Task[None]] = set()
        if self._job.on_machine(step):
            target = await self.ports.machine_driver(step.host, record)
        else:
            target = await self.ports.driver(await self.ports.host(step.host), record)
        return self._job.context(step, target, record)

    async def _stands(self, step: Step) -> bool:
        return await self._job.stands(step, await self._context(step))

    async def _failed(self, step: Step, error: StoneError) -> None:
        await self._move(
            step,
            "failed",
            state=StepState.FAILED,
            ended=True,
            message=self.ports.blank(str(error)),
            payload={"hint": error.hint, "code": error.code},
        )

    async def _move(self, step: Step, kind: str, *, state: StepState, **rest: Any) -> None:
        await self.ports.store.write(
            runs.move_step, self.run_id, step.key, self.ports.clock(), kind, state=state, **rest
        )
        self._states[step.key] = state
        self._queue.moved(step.key, state)
        self._tried.add(step.key)
        self.ports.hub.signal(self.run_id)

    async def _journal(self, step: Step, kind: str, payload: dict[str, Any] | None = None) -> None:
        await self.ports.store.write(
            runs.journal, self.run_id, self.ports.clock(), step.key, kind, payload or {}
        )
        self.ports.hub.signal(self.run_id)

    async def _move_run(
        self, kind: str, state: RunState, payload: dict[str, Any] | None = None
    ) -> None:
        await self.ports.store.write(
            runs.move_run, self.run_id, self.ports.clock(), kind, state, payload
        )
        self._run_state = state
        self.ports.hub.signal(self.run_id)

    # --- requests ---

    async def hold(self) -> None:
        """Begin nothing more; what works is finished. The request itself is journalled at once.
        Raises Conflict when there is nothing left to hold.
        """
        async with self._deciding:
            if self._run_state in (RunState.CHECKING, RunState.UNDOING):
                what = "checked" if self._run_state == RunState.CHECKING else "rolled back"
                raise Conflict(f"The run is being {what}; it cannot be held.", code="not-holdable")
            if self._run_state == RunState.HELD:
                return
            self.request.hold = True
            await self._move_run("hold-asked", RunState.HELD)
        self.wake.set()

    async def resume(self) -> None:
        """Go on after a hold; nothing happens where there was none."""
        async with self._deciding:
            for step in self._held_by():
                await self._journal(step, "released")
                self._released.add(step.key)
            self.request.hold = False
            if self._run_state == RunState.HELD:
                await self._move_run("resumed", RunState.RUNNING)
        self.wake.set()

    def check_idle(self) -> None:
        """Raises Conflict while a step is under way."""
        if self._tasks or self._run_state not in (RunState.HELD, RunState.TROUBLE):
            raise Conflict(
                "A step of the run is still running.",
                code="run-busy",
                hint="Hold the run, and wait until its steps have ended.",
            )

    async def retry(self, keys: list[str]) -> None:
        """Try failed steps again, all of them when none is named; a wait that is named begins
        again. What was made before them and is gone is made again first. Raises Conflict when no
        step has failed.
        """
        if self._run_state == RunState.UNDOING:
            raise Conflict(
                "The run is being rolled back; no step is tried again.",
                code="run-undoing",
                hint="Continue the rollback.",
            )
        waiting = [key for key in keys if key in self._waits]
        chosen = [
            key
            for key, state in self._states.items()
            if state == StepState.FAILED and (not keys or key in keys)
        ]
        if not chosen and not waiting:
            raise Conflict("No failed step to retry.", code="nothing-failed")
        for key in await again.lost(self._job, self._states, chosen, self._stands):
            await self._move(
                self._job.steps[key],
                "no-longer",
                state=StepState.PLANNED,
                message="what it made is gone",
            )
        # followers of what is planned again wait for it
        self._queue = Queue(self._job.steps.values(), self._states)
        for key in [*chosen, *waiting]:
            await self._move(self._job.steps[key], "retry-asked", state=StepState.PLANNED)
            task = self._tasks.get(key)
            # a wait: its step is planned again before it lets go
            if task is not None:
                task.cancel()
                await asyncio.gather(task, return_exceptions=True)
        self.wake.set()

    def _wait(self, key: str) -> Wait:
        if key not in self._waits:
            raise Conflict(
                "This step is not waiting.",
                code="not-waiting",
                hint="Only a wait can be ended or extended.",
            )
        return self._waits[key]

    async def extend(self, key: str, seconds: float) -> None:
        """Put the deadline of a wait off. Raises Conflict when the step is not waiting."""
        wait = self._wait(key)
        wait.end += min(seconds, MAX_EXTENSION_S)
        await self._journal(
            self._job.steps[key], "wait-extended", {"seconds": min(seconds, MAX_EXTENSION_S)}
        )
        wait.nudge.set()

    async def end_wait(self, key: str) -> None:
        """Wait no longer: the step fails, and can be tried again or skipped. Raises Conflict when
        it is not waiting.
        """
        wait = self._wait(key)
        wait.ended = True
        await self._journal(self._job.steps[key], "wait-end-asked")
        wait.nudge.set()

    async def skip(self, key: str, reason: str) -> None:
        """Pass over a failed step, with a reason; while the run is rolled back, leave as it is what
        the step made, and go on with the others. Raises Conflict when it has not failed.
        """
        if self._states.get(key) != StepState.FAILED:
            raise Conflict("only a step that has failed can be skipped", code="not-failed")
        if self._run_state == RunState.UNDOING:
            await self._leave(key, reason)
            return
        await self._move(
            self._job.steps[key], "skipped", state=StepState.SKIPPED, ended=True, message=reason
        )
        self.wake.set()

    async def _leave(self, key: str, reason: str) -> None:
        [row] = await self.ports.store.read(runs.steps, self.run_id, [key])
        if not row.undo_failed:
            raise Conflict(
                "its rollback was not tried yet; only what cannot be undone is left as it is",
                code="not-failed",
                hint="Continue the rollback.",
            )
        await self._move(
            self._job.steps[key],
            "undo-left",
            state=StepState.UNDONE,
            ended=True,
            message=f"left as it is: {reason}",
        )
        self.request.undo = True
        self.wake.set()

    async def undo(self) -> None:
        """Take back what this run made."""
        async with self._deciding:
            if self._run_state == RunState.UNDONE:
                return
            self.request.undo = True
            await self._move_run("undo-asked", RunState.UNDOING)
        self.wake.set()

    # --- the end ---

    async def _prove(self) -> bool:
        """Make the acceptance checks. False: meanwhile a person asked for something else."""
        async with self._deciding:
            if self.request.hold or self.request.undo:
                return False
            if self._run_state != RunState.CHECKING:
                await self._move_run("proving", RunState.CHECKING)
        passed, told = await self._job.finish()
        async with self._deciding:
            if self.request.undo:
                return False
            await self._move_run(*verdict(passed), told)
        return True

    async def _take_back(self) -> None:
        for task in list(self._tasks.values()):
            task.cancel()
        await asyncio.gather(*self._tasks.values(), return_exceptions=True)
        self._tasks.clear()
        self.ports.limiter.leave(self.run_id)
        touched = [
            step
            for step in reversed(list(self._job.steps.values()))
            if step.key in self._tried
            and self._states[step.key] != StepState.UNDONE
            and not self._job.stays(step)
        ]
        await self._job.undoing()
        for stage in range(self._job.stages):
            now = [step for step in touched if self._job.stage(step) == stage]
            for step in now:
                if self._job.alone(step) and not await self._undo(step):
                    # the other nodes keep running
                    return
            others = [step for step in now if not self._job.alone(step)]
            hosts = {step.host for step in others}
            await asyncio.gather(
                *(self._undo_all([s for s in others if s.host == host]) for host in hosts)
            )
            if any(self._states[step.key] != StepState.UNDONE for step in now):
                # stays “undoing”; a person repairs the host and asks again
                return
        await self._job.undone()
        async with self._deciding:
            await self._move_run("taken-back", RunState.UNDONE)

    async def _undo_all(self, steps: list[Step]) -> None:
        """One host's part of a stage, one step after the other."""
        for step in steps:
            await self._undo(step)

    async def _undo(self, step: Step) -> bool:
        """Whether a step is taken back."""
        try:
            await self._move(step, "undoing", state=StepState.UNDOING)
            context = await self._context(step)
            said = await self._job.kind(step).undo(context)
            await self._move(step, "undone", state=StepState.UNDONE, ended=True, message=said)
        except StoneError as error:
            await self._move(
                step,
                "undo-failed",
                state=StepState.FAILED,
                ended=True,
                message=self.ports.blank(str(error)),
                payload={"hint": error.hint},
            )
            return False
        return True

"""Host preparation: what would be sent, starting it, and how it stands."""

from __future__ import annotations

import secrets as randoms
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.app.host_rules import key_names
from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.core.runs.states import FINISHED, RunState, StepState
from nimble_stone.core.sequence import Step
from nimble_stone.engine import preparation
from nimble_stone.engine.engine import Engine
from nimble_stone.hosts.drivers import KINDS
from nimble_stone.hosts.work import Work
from nimble_stone.store import records, runs
from nimble_stone.store.runs import RunRow, StepRow

KIND = "groundwork"
"""The kind of such a run, as the store knows it."""


@dataclass(frozen=True)
class PlannedAction:
    """One action as it would be done. `refusals`: why it may not."""

    step: Step
    action: prep.Action
    work: Work
    refusals: list[str] = field(default_factory=list)


@dataclass(frozen=True)
class PreparationRun:
    """A run of host preparation and its steps. `last_event`: what is told is at least as new as
    this entry of the journal.
    """

    row: RunRow
    steps: list[tuple[PlannedAction, StepRow]]
    last_event: int


def new_name() -> str:
    """A name for a run; it is the mark in the commands, so it is needed before the run starts."""
    return f"g{randoms.token_hex(4)}"


async def planned(app: Application, work: prep.Preparation, run: str) -> list[PlannedAction]:
    """Every action with its exact commands, and what speaks against it. Nothing is sent."""
    estate: Estate = await app.store.read(records.load_estate)
    keys = await key_names(app)
    found = []
    for step in preparation.steps_of(work, estate):
        action = preparation.action_of(step)
        refusals = prep.refusals(action, estate, keys, work.actions)
        try:
            found.append(PlannedAction(step, action, _work(action, run, step, estate), refusals))
        except Conflict as error:
            found.append(PlannedAction(step, action, Work(()), [*refusals, str(error)]))
    return found


def _work(action: prep.Action, run: str, step: Step, estate: Estate) -> Work:
    """What would be sent, by the host's kind. Raises Conflict."""
    host = estate.host(action.host)
    kind = host.kind if host else "kvm"
    return KINDS[kind].work(action, run, preparation.before_of(step))


async def start(app: Application, engine: Engine, run: str, work: prep.Preparation) -> None:
    """Start it as the run with this name; a second request with the same name changes nothing.
    Raises Conflict as a whole when anything speaks against an action, or another run changes one
    of the objects.
    """
    against = [
        f"{one.step.host}: {one.step.label}: {text}"
        for one in await planned(app, work, run)
        for text in one.refusals
    ]
    if against:
        more = f"; and {len(against) - 6} more" if len(against) > 6 else ""
        raise Conflict(
            "; ".join(against[:6]) + more,
            code="refused",
            hint="Nothing was started. Fix or remove these actions.",
        )
    estate = await app.store.read(records.load_estate)
    steps = preparation.steps_of(work, estate)
    running = await app.store.read(runs.runs, active=True, kind=KIND)
    if other := preparation.busy(running, steps):
        raise Conflict(
            f"preparation run {other} is already changing one of these objects",
            code="run-active",
            hint="Wait until it ends.",
        )
    try:
        await app.store.read(runs.get_run, run)
    except NotFound:
        row = preparation.row_of(run, work, steps, app.clock())
        await engine.start(row, [step.key for step in steps])


async def run_of(app: Application, ident: str) -> PreparationRun:
    """A run with its steps. Raises NotFound, also for a rollout."""
    # first: what follows is at least as new as the entry it names
    last = await app.store.read(runs.last_events, ident, 1)
    row = await app.store.read(runs.get_run, ident)
    if row.kind != KIND:
        raise NotFound(f"No such preparation run: “{ident}”")
    known = preparation.steps_in(row)
    estate = await app.store.read(records.load_estate)
    steps = []
    for state in await app.store.read(runs.steps, ident):
        step = known[state.key]
        action = preparation.action_of(step)
        steps.append((PlannedAction(step, action, _work(action, ident, step, estate)), state))
    return PreparationRun(row, steps, last[-1].id if last else 0)


async def all_runs(app: Application) -> list[tuple[RunRow, str]]:
    """All runs, newest first, each with what it does in words."""
    found = []
    for row in await app.store.read(runs.runs, kind=KIND):
        labels: dict[str, Any] = dict.fromkeys(item["label"] for item in row.doc["steps"])
        found.append((row, "; ".join(labels)[:200]))
    return found


def sentence(run: PreparationRun) -> str:
    """How it stands, in one sentence."""
    states = [state for _, state in run.steps]
    failed = sum(state.state == StepState.FAILED for state in states)
    hosts = len({planned.step.host for planned, _ in run.steps})
    on = f"{hosts} host{'s' if hosts != 1 else ''}"
    ended = _ended(run.row, len(states), on)
    if ended:
        return ended
    if run.row.state == RunState.UNDOING:
        undone = sum(state.state == StepState.UNDONE for state in states)
        more = f" {failed} failed." if failed else ""
        return f"Rolling back: {undone} of {len(states)} steps.{more}"
    done = sum(state.state in FINISHED for state in states)
    if run.row.state == RunState.HELD:
        return f"On hold after {done} of {len(states)} steps."
    if failed:
        return (
            f"{failed} of {len(states)} steps failed; {done} are done. Fix the cause, then retry."
        )
    return f"{done} of {len(states)} steps on {on} are done."


def _ended(row: RunRow, steps: int, on: str) -> str:
    """The sentence of a run that has ended, '' for others. `on`: “3 hosts”."""
    match row.state:
        case RunState.DONE:
            every = "1 step" if steps == 1 else f"All {steps} steps"
            refreshed = "Host" if on == "1 host" else "Hosts"
            return f"{every} on {on} done. {refreshed} refreshed."
        case RunState.UNDONE:
            return f"Rolled back on {on}."
        case RunState.UNPROVED:
            return f"All {steps} steps done, but not every host could be refreshed."
    return ""


async def request(engine: Engine, ident: str, what: str, steps: list[str], reason: str) -> None:
    """hold, resume, retry, skip or undo. Raises NotFound for other words, InputError."""
    match what:
        case "hold":
            await engine.hold(ident)
        case "resume":
            await engine.resume(ident)
        case "retry":
            await engine.retry(ident, steps)
        case "skip":
            if len(steps) != 1 or not reason.strip():
                raise InputError("skipping names one step and a reason", code="skip-reason")
            await engine.skip(ident, steps[0], reason)
        case "undo":
            await engine.undo(ident)
        case _:
            raise NotFound(f"a preparation run cannot {what}")

"""Host preparation: what would be sent, starting it, and how it stands."""

from __future__ import annotations

import asyncio
import secrets as randoms
from dataclasses import dataclass, field
from typing import Any

from nimble_stone.app import leftovers, machine_use, run_requests
from nimble_stone.app.application import Application
from nimble_stone.app.claims import living_on
from nimble_stone.app.estate import estate_of
from nimble_stone.app.host_rules import key_names
from nimble_stone.app.run_requests import RunArguments
from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, NotFound, StoneError
from nimble_stone.core.estate import Estate, Host
from nimble_stone.core.runs.states import FINISHED, RunState, StepState
from nimble_stone.core.step import Step
from nimble_stone.core.units import count_text, size_text
from nimble_stone.engine import preparation
from nimble_stone.engine.engine import Engine
from nimble_stone.hosts.drivers import KINDS
from nimble_stone.hosts.work import Command, Op, Operation, Work
from nimble_stone.packages import extents, stored
from nimble_stone.store import records, runs
from nimble_stone.store.runs import RunRow, StepRow

_INSPECTING = {
    "unpack": "unpack the image's data on this server, once for all machines",
    "insert": "Redfish: insert the inspection medium at a one-time address of this server",
    "boot": "Redfish: boot once from CD, then power on, or restart what is on",
    "report": "wait for the machine's report over pinned HTTPS",
    "end": "Redfish: eject the medium, clear the boot override, power as it was found",
}
"""What each step of an inspection sends, for people."""
KIND = "groundwork"
"""The kind of such a run, as the store knows it."""


@dataclass(frozen=True)
class PlannedAction:
    """One action as it would be done. `refusals`: why it may not."""

    step: Step
    action: prep.Action
    work: Work
    refusals: list[str] = field(default_factory=list)
    rules: list[str] = field(default_factory=list)
    """What the host's administrator has to allow its account, line by line."""


@dataclass(frozen=True)
class CarriedOut:
    """A step of a run: what it does, and how it stands."""

    planned: PlannedAction
    state: StepRow


@dataclass(frozen=True)
class PreparationRun:
    """A run of host preparation and its steps. `last_event`: what is told is at least as new as
    this entry of the journal.
    """

    row: RunRow
    steps: list[CarriedOut]
    last_event: int


@dataclass(frozen=True)
class RunLine:
    """A run in a list. `what`: its steps in words."""

    row: RunRow
    what: str


def new_name() -> str:
    """A name for a run; it is the mark in the commands, so it is needed before the run starts."""
    return f"g{randoms.token_hex(4)}"


async def planned(app: Application, work: prep.Preparation, run: str) -> list[PlannedAction]:
    """Every action with its exact commands, and what speaks against it. Nothing is sent."""
    estate = await estate_of(app)
    found = _planned(work, run, estate, await key_names(app))
    metal = [one for one in found if prep.on_metal(one.action)]
    trouble = app.media.trouble() if app.media else "this server offers no media"
    network = app.media.network_trouble() if app.media else ""
    living = await living_on(app, {one.action.host for one in metal})
    for one in metal:
        machine, claim = estate.machine(one.action.host), living.get(one.action.host)
        if trouble:
            one.refusals.append(trouble)
        elif network and machine is not None and machine.boots == "network":
            one.refusals.append(f"it cannot boot from the network: {network}")
        if claim is not None:
            who = f"{claim.name} of run {claim.run} (plan {claim.plan})"
            one.refusals.insert(0, f"{who} lives on it; roll that run back first")
        if isinstance(one.action, prep.WriteImage):
            one.refusals.extend(await _image_refusals(app, one.action))
    for one in found:
        if isinstance(one.action, prep.RemoveVm):
            one.refusals.extend(await leftovers.refusals(app, estate, one.action))
    hosted = [one for one in found if not prep.on_metal(one.action)]
    await asyncio.gather(*(_rights(app, one, estate.host(one.action.host)) for one in hosted))
    return found


async def _rights(app: Application, one: PlannedAction, host: Host | None) -> None:
    """What the account of a host may not do of an action, asked there before anything begins."""
    if host is None or host.user == "root":
        return
    try:
        lacking = await (await app.driver(host)).preparation.lacking(one.work)
    except StoneError as error:
        one.refusals.append(f"whether {host.user} may do it was not asked: {error}")
        return
    if lacking:
        first = f"{lacking[0][:80]}" + (f" and {len(lacking) - 1} more" if lacking[1:] else "")
        one.refusals.append(f"{host.user} may not run as root: {first}")
        one.rules.extend(KINDS[host.kind].rules(host.user, lacking))


async def _image_refusals(app: Application, action: prep.WriteImage) -> list[str]:
    """Why the image of a package cannot be written, as far as the package itself tells."""
    try:
        row = await app.store.read(records.get_package, action.package)
        contents = stored.contents_of(row)
        size = await asyncio.to_thread(extents.whole_bytes, app.packages, contents)
    except StoneError as error:
        return [str(error)]
    if size > action.drive.size_bytes:
        return [f"the image is {size_text(size)}, the drive {size_text(action.drive.size_bytes)}"]
    return []


def _planned(
    work: prep.Preparation, run: str, estate: Estate, keys: frozenset[str]
) -> list[PlannedAction]:
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
    if prep.on_metal(action):
        return Work((Operation(Op.CHANGE, (Command(_INSPECTING[step.detail["part"]]),)),))
    host = estate.host(action.host)
    name = host.kind if host else "kvm"
    work = KINDS[name].work(action, run, preparation.before_of(step))
    if host is None or host.user == "root":
        return work
    return KINDS[name].as_account(work)


async def start(app: Application, engine: Engine, run: str, work: prep.Preparation) -> None:
    """Start it as the run with this name; a second request with the same name changes nothing.
    Raises Conflict as a whole when anything speaks against an action, or another run changes one
    of the objects.
    """
    found = await planned(app, work, run)
    against = [
        f"{one.step.host}: {one.step.label}: {text}" for one in found for text in one.refusals
    ]
    if against:
        more = f"; and {len(against) - 6} more" if len(against) > 6 else ""
        raise Conflict(
            "; ".join(against[:6]) + more,
            code="refused",
            hint="Nothing was started. Fix or remove these actions.",
        )
    # the very steps that were checked: the estate may have changed since
    steps = [one.step for one in found]
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
        async with machine_use.free(app, {step.host for step in steps if "part" in step.detail}):
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
    estate = await estate_of(app)
    steps = []
    for state in await app.store.read(runs.steps, ident):
        step = known[state.key]
        action = preparation.action_of(step)
        planned = PlannedAction(step, action, _work(action, ident, step, estate))
        steps.append(CarriedOut(planned, state))
    return PreparationRun(row, steps, last[-1].id if last else 0)


async def again(app: Application, ident: str) -> prep.Preparation:
    """What a run did, to be looked at and run again: nothing in it is confirmed. Raises NotFound,
    also for a rollout; Conflict for work on machines, which is asked for on their own pages.
    """
    row = (await run_of(app, ident)).row
    work = prep.Preparation.model_validate(row.doc["work"])
    if any(prep.on_metal(action) for action in work.actions):
        raise Conflict(
            f"Run {ident} worked on machines without an operating system.",
            code="on-machines",
            hint="Inspect, wipe or write them on their own pages.",
        )
    actions = tuple(
        action.model_copy(update={"confirmed": ""}) if hasattr(action, "confirmed") else action
        for action in work.actions
    )
    return work.model_copy(update={"actions": actions})


async def all_runs(app: Application) -> list[RunLine]:
    """All runs, newest first."""
    found = []
    for row in await app.store.read(runs.runs, kind=KIND):
        labels: dict[str, Any] = dict.fromkeys(item["label"] for item in row.doc["steps"])
        found.append(RunLine(row, "; ".join(labels)[:200]))
    return found


def sentence(run: PreparationRun) -> str:
    """How it stands, in one sentence."""
    states = [one.state for one in run.steps]
    failed = sum(state.state == StepState.FAILED for state in states)
    on = _on(run)
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


def _on(run: PreparationRun) -> str:
    """What it works on: “3 hosts”, “1 machine”, “1 host and 2 machines”."""
    machines = {one.planned.step.host for one in run.steps if prep.on_metal(one.planned.action)}
    hosts = {one.planned.step.host for one in run.steps} - machines
    parts = [
        count_text(len(hosts), "host", "hosts") if hosts else "",
        count_text(len(machines), "machine", "machines") if machines else "",
    ]
    return " and ".join(part for part in parts if part)


def _ended(row: RunRow, steps: int, on: str) -> str:
    """The sentence of a run that has ended, '' for others. `on`: “3 hosts”."""
    match row.state:
        case RunState.DONE:
            every = "1 step" if steps == 1 else f"All {steps} steps"
            return f"{every} on {on} done. Facts refreshed."
        case RunState.UNDONE:
            return f"Rolled back on {on}."
        case RunState.UNPROVED:
            return f"All {steps} steps done, but not everything could be refreshed."
    return ""


REQUESTS = ("hold", "resume", "retry", "skip", "undo")
"""What a person may do with such a run: of what may be done with any run, all but the waits."""


async def request(engine: Engine, ident: str, what: str, wanted: RunArguments) -> None:
    """Do it. Raises NotFound for an unknown word, InputError, Conflict."""
    if what not in REQUESTS:
        raise NotFound(f"a preparation run cannot {what}")
    await run_requests.REQUESTS[what](engine, ident, wanted)

"""Groundwork: seeing what would be done, starting it, and how it stands."""

from __future__ import annotations

import secrets as randoms
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app.application import Application
from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.core.runs.states import FINISHED, RunState, StepState
from nimble_stone.core.sequence import Step
from nimble_stone.engine import keys, preparation
from nimble_stone.hosts.drivers import KINDS
from nimble_stone.hosts.work import Work
from nimble_stone.server.deps import TheApplication, TheEngine
from nimble_stone.server.routes.runs import RunRequest
from nimble_stone.store import entries, records, runs
from nimble_stone.store.runs import RunRow

router = APIRouter(tags=["host preparation"])


class Planned(BaseModel):
    """One action as it would be done. `refusals`: why it may not; `confirm`: what has to be typed
    for it.
    """

    key: str
    host: str
    kind: str
    label: str
    refusals: list[str]
    commands: list[str]
    undo: list[str]
    undoable: bool
    confirm: str = ""


class Preview(BaseModel):
    """All actions, and the name the run will have: it stands in the commands as the mark."""

    run: str
    steps: list[Planned]


class Begin(BaseModel):
    """Actions to be carried out, as the run of that name."""

    run: str = Field(pattern=r"^g[0-9a-f]{8}$")
    work: prep.Preparation


class GroundStep(BaseModel):
    """A step and how it stands."""

    key: str
    host: str
    kind: str
    label: str
    after: list[str]
    state: str
    attempt: int
    started_at: float | None
    ended_at: float | None
    message: str
    undo_failed: bool = False
    commands: list[str]


class GroundRun(BaseModel):
    """A run of preparation."""

    id: str
    state: str
    started_at: float
    ended_at: float | None
    now: float
    sentence: str
    hosts: list[str]
    steps: list[GroundStep]
    last_event: int


class GroundLine(BaseModel):
    """A run of groundwork in a list."""

    id: str
    state: str
    started_at: float
    hosts: str
    what: str


class NewKey(BaseModel):
    """A name for a key that is to be made."""

    name: str = Field(min_length=1, max_length=60, pattern=r"^[A-Za-z0-9][A-Za-z0-9._-]*$")


class KeyView(BaseModel):
    """A key: its keyring entry and its public half."""

    name: str
    public: str


async def _key_names(app: Application) -> frozenset[str]:
    return frozenset(
        entry.name for entry in await app.store.read(entries.entries) if entry.kind == "key"
    )


@router.post("/estate/keys")
async def make_key(body: NewKey, app: TheApplication) -> KeyView:
    """Make an SSH key and keep it in the keyring, or show the public half of one that is there."""
    return KeyView(name=body.name, public=await keys.make(app, body.name))


def _planned(
    work: prep.Preparation, estate: Estate, run: str, known: frozenset[str]
) -> list[Planned]:
    found = []
    for step in preparation.steps_of(work, estate):
        action = preparation.action_of(step)
        refusals = prep.refusals(action, estate, known, work.actions)
        try:
            done = _work(action, run, step, estate)
        except Conflict as error:
            refusals, done = [*refusals, str(error)], Work(())
        found.append(
            Planned(
                key=step.key,
                host=step.host,
                kind=action.kind,
                label=step.label,
                refusals=refusals,
                commands=[c.shown for c in done.act()],
                undo=[c.shown for c in done.undo()],
                undoable=prep.undoable(action),
                confirm=action.wanted if isinstance(action, prep.WipeDisk) else "",
            )
        )
    return found


def _work(action: prep.Action, run: str, step: Step, estate: Estate) -> Work:
    """What would be sent, by the host's kind. Raises Conflict."""
    host = estate.host(action.host)
    kind = host.kind if host else "kvm"
    return KINDS[kind].work(action, run, preparation.before_of(step))


@router.post("/estate/groundwork/preview")
async def preparation_preview(body: prep.Preparation, app: TheApplication) -> Preview:
    """The exact commands of every action, what would take them back, and what speaks against them.
    Nothing is sent.
    """
    estate = await app.store.read(records.load_estate)
    run = f"g{randoms.token_hex(4)}"
    return Preview(run=run, steps=_planned(body, estate, run, await _key_names(app)))


@router.post("/estate/groundwork")
async def preparation_start(body: Begin, app: TheApplication, engine: TheEngine) -> GroundRun:
    """Start it. Refused as a whole when anything speaks against an action, or another run works on
    the same thing.
    """
    estate = await app.store.read(records.load_estate)
    planned = _planned(body.work, estate, body.run, await _key_names(app))
    if against := [
        f"{step.host}: {step.label}: {text}" for step in planned for text in step.refusals
    ]:
        raise Conflict(
            "; ".join(against[:6]) + (f"; and {len(against) - 6} more" if len(against) > 6 else ""),
            code="refused",
            hint="Nothing was started. Fix or remove these actions.",
        )
    steps = preparation.steps_of(body.work, estate)
    if other := preparation.busy(
        await app.store.read(runs.runs, active=True, kind="groundwork"), steps
    ):
        raise Conflict(
            f"preparation run {other} is already changing one of these objects",
            code="run-active",
            hint="Wait until it ends.",
        )
    try:
        await app.store.read(runs.get_run, body.run)
    except NotFound:
        await engine.start(
            preparation.row_of(body.run, body.work, steps, app.clock()),
            [step.key for step in steps],
        )
    return await _view(app, body.run)  # asked twice, begun once


def _sentence(row: RunRow, states: list[runs.StepRow]) -> str:
    done, failed = (
        sum(s.state in FINISHED for s in states),
        [s for s in states if s.state == StepState.FAILED],
    )
    hosts = len({s.key.split(":")[1] for s in states})
    on = f"{hosts} host{'s' if hosts != 1 else ''}"
    match row.state:
        case RunState.DONE:
            every = "1 step" if len(states) == 1 else f"All {len(states)} steps"
            return f"{every} on {on} done. {'Host' if hosts == 1 else 'Hosts'} refreshed."
        case RunState.UNDONE:
            return f"Rolled back on {on}."
        case RunState.UNDOING:
            return (
                f"Rolling back: {sum(s.state == 'undone' for s in states)} of {len(states)} steps."
                + (f" {len(failed)} failed." if failed else "")
            )
        case RunState.HELD:
            return f"On hold after {done} of {len(states)} steps."
        case RunState.UNPROVED:
            return f"All {len(states)} steps done, but not every host could be refreshed."
        case _ if failed:
            return (
                f"{len(failed)} of {len(states)} steps failed; {done} are done. Fix the cause, then"
                " retry."
            )
        case _:
            return f"{done} of {len(states)} steps on {on} are done."


async def _view(app: Application, ident: str) -> GroundRun:
    # first: what follows is at least as new as the entry it names
    last = await app.store.read(runs.last_events, ident, 1)
    row = await app.store.read(runs.get_run, ident)
    if row.kind != "groundwork":
        raise NotFound(f"No such preparation run: “{ident}”")
    states = await app.store.read(runs.steps, ident)
    steps, estate = preparation.steps_in(row), await app.store.read(records.load_estate)
    shown = []
    for state in states:
        step = steps[state.key]
        action = preparation.action_of(step)
        commands = [command.shown for command in _work(action, ident, step, estate).act()]
        shown.append(
            GroundStep(
                key=step.key,
                host=step.host,
                kind=action.kind,
                label=step.label,
                after=list(step.after),
                state=state.state,
                attempt=state.attempt,
                started_at=state.started_at,
                ended_at=state.ended_at,
                message=state.undo_message or state.message,
                undo_failed=state.undo_failed,
                commands=commands,
            )
        )
    return GroundRun(
        id=row.id,
        state=row.state,
        started_at=row.started_at,
        ended_at=row.ended_at,
        now=app.clock(),
        sentence=_sentence(row, states),
        hosts=list(dict.fromkeys(step.host for step in shown)),
        steps=shown,
        last_event=last[-1].id if last else 0,
    )


@router.get("/groundwork")
async def preparation_list(app: TheApplication) -> list[GroundLine]:
    """All runs of groundwork, newest first."""
    found = []
    for row in await app.store.read(runs.runs, kind="groundwork"):
        labels: dict[str, Any] = dict.fromkeys(item["label"] for item in row.doc["steps"])
        found.append(
            GroundLine(
                id=row.id,
                state=row.state,
                started_at=row.started_at,
                hosts=row.plan,
                what="; ".join(labels)[:200],
            )
        )
    return found


@router.get("/groundwork/{ident}")
async def preparation_one(ident: str, app: TheApplication) -> GroundRun:
    """How it stands."""
    return await _view(app, ident)


@router.post("/groundwork/{ident}/{request}")
async def preparation_request(
    ident: str, request: str, body: RunRequest, app: TheApplication, engine: TheEngine
) -> GroundRun:
    """hold, resume, retry, skip or undo."""
    await _view(app, ident)
    match request:
        case "hold":
            await engine.hold(ident)
        case "resume":
            await engine.resume(ident)
        case "retry":
            await engine.retry(ident, body.steps)
        case "skip":
            if len(body.steps) != 1 or not body.reason.strip():
                raise InputError("skipping names one step and a reason", code="skip-reason")
            await engine.skip(ident, body.steps[0], body.reason)
        case "undo":
            await engine.undo(ident)
        case _:
            raise NotFound(f"a preparation run cannot {request}")
    return await _view(app, ident)

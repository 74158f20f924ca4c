"""Groundwork: seeing what would be done, starting it, and how it stands."""

from __future__ import annotations

import secrets as randoms
from typing import Any

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app.application import Application
from nimble_stone.core import groundwork as g
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.estate import Estate
from nimble_stone.core.runs.states import FINISHED, RunState, StepState
from nimble_stone.engine import groundwork, keys
from nimble_stone.hosts import groundwork as exact
from nimble_stone.server.deps import TheEngine, TheWorld
from nimble_stone.server.routes.runs import Wish
from nimble_stone.store import entries, records, runs
from nimble_stone.store.runs import RunRow

router = APIRouter(tags=["groundwork"])


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
    work: g.Groundwork


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
    """A run of groundwork."""

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


async def _key_names(world: Application) -> frozenset[str]:
    return frozenset(
        entry.name for entry in await world.store.read(entries.entries) if entry.kind == "key"
    )


@router.post("/estate/keys")
async def make_key(body: NewKey, world: TheWorld) -> KeyView:
    """Make an SSH key and keep it in the keyring, or show the public half of one that is there."""
    return KeyView(name=body.name, public=await keys.make(world, body.name))


def _planned(work: g.Groundwork, estate: Estate, run: str, known: frozenset[str]) -> list[Planned]:
    found = []
    for step in groundwork.steps_of(work, estate):
        action = groundwork.action_of(step)
        refusals = g.refusals(action, estate, known, work.actions)
        try:
            done = exact.work(action, run, groundwork.before_of(step))
        except Conflict as error:
            refusals, done = [*refusals, str(error)], exact.Work(())
        found.append(
            Planned(
                key=step.key,
                host=step.host,
                kind=action.kind,
                label=step.label,
                refusals=refusals,
                commands=[c.shown for c in done.act()],
                undo=[c.shown for c in done.undo()],
                undoable=g.undoable(action),
                confirm=action.wanted if isinstance(action, g.WipeDisk) else "",
            )
        )
    return found


@router.post("/estate/groundwork/preview")
async def groundwork_preview(body: g.Groundwork, world: TheWorld) -> Preview:
    """The exact commands of every action, what would take them back, and what speaks against them.
    Nothing is sent.
    """
    estate = await world.store.read(records.load_estate)
    run = f"g{randoms.token_hex(4)}"
    return Preview(run=run, steps=_planned(body, estate, run, await _key_names(world)))


@router.post("/estate/groundwork")
async def groundwork_start(body: Begin, world: TheWorld, engine: TheEngine) -> GroundRun:
    """Start it. Refused as a whole when anything speaks against an action, or another run works on
    the same thing.
    """
    estate = await world.store.read(records.load_estate)
    planned = _planned(body.work, estate, body.run, await _key_names(world))
    if against := [
        f"{step.host}: {step.label}: {text}" for step in planned for text in step.refusals
    ]:
        raise Conflict(
            "; ".join(against[:6]) + (f"; and {len(against) - 6} more" if len(against) > 6 else ""),
            code="refused",
            hint="Nothing was begun. Correct these, or leave them out.",
        )
    steps = groundwork.steps_of(body.work, estate)
    if other := groundwork.busy(
        await world.store.read(runs.runs, active=True, kind="groundwork"), steps
    ):
        raise Conflict(
            f"groundwork {other} is at work on one of these things",
            code="run-active",
            hint="Let it finish.",
        )
    try:
        await world.store.read(runs.get_run, body.run)
    except NotFound:
        await engine.start(
            groundwork.row_of(body.run, body.work, steps, world.clock()),
            [step.key for step in steps],
        )
    return await _view(world, body.run)  # asked twice, begun once


def _sentence(row: RunRow, states: list[runs.StepRow]) -> str:
    done, failed = (
        sum(s.state in FINISHED for s in states),
        [s for s in states if s.state == StepState.FAILED],
    )
    hosts = len({s.key.split(":")[1] for s in states})
    on = f"{hosts} host{'s' if hosts != 1 else ''}"
    match row.state:
        case RunState.DONE:
            return (
                f"All {len(states)} steps on {on} are done and were seen; the hosts were read anew."
            )
        case RunState.UNDONE:
            return f"Rolled back: what this run made on {on} is gone again."
        case RunState.UNDOING:
            return (
                f"Rolling back: {sum(s.state == 'undone' for s in states)} of {len(states)} steps."
                + (f" {len(failed)} failed." if failed else "")
            )
        case RunState.HELD:
            return f"On hold after {done} of {len(states)} steps."
        case RunState.UNPROVED:
            return f"All {len(states)} steps are done, but not every host could be read afterwards."
        case _ if failed:
            return (
                f"{len(failed)} of {len(states)} steps failed; {done} are done. See why, repair it,"
                " retry."
            )
        case _:
            return f"{done} of {len(states)} steps on {on} are done."


async def _view(world: Application, ident: str) -> GroundRun:
    # first: what follows is at least as new as the entry it names
    last = await world.store.read(runs.last_events, ident, 1)
    row = await world.store.read(runs.get_run, ident)
    if row.kind != "groundwork":
        raise NotFound(f"there is no groundwork “{ident}”")
    states = await world.store.read(runs.steps, ident)
    steps = groundwork.steps_in(row)
    shown = []
    for state in states:
        step = steps[state.key]
        action = groundwork.action_of(step)
        commands = [c.shown for c in exact.work(action, ident, groundwork.before_of(step)).act()]
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
        now=world.clock(),
        sentence=_sentence(row, states),
        hosts=list(dict.fromkeys(step.host for step in shown)),
        steps=shown,
        last_event=last[-1].id if last else 0,
    )


@router.get("/groundwork")
async def groundwork_list(world: TheWorld) -> list[GroundLine]:
    """All runs of groundwork, newest first."""
    found = []
    for row in await world.store.read(runs.runs, kind="groundwork"):
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
async def groundwork_one(ident: str, world: TheWorld) -> GroundRun:
    """How it stands."""
    return await _view(world, ident)


@router.post("/groundwork/{ident}/{wish}")
async def groundwork_wish(
    ident: str, wish: str, body: Wish, world: TheWorld, engine: TheEngine
) -> GroundRun:
    """hold, resume, retry, skip or undo."""
    await _view(world, ident)
    match wish:
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
            raise NotFound(f"groundwork cannot {wish}")
    return await _view(world, ident)

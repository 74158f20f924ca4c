"""Host preparation: what would be done, starting it, and how it stands."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app import host_preparation
from nimble_stone.app.host_preparation import PlannedAction
from nimble_stone.app.run_requests import RunArguments
from nimble_stone.core import preparation as prep
from nimble_stone.engine import keys
from nimble_stone.server.deps import TheApplication, TheEngine
from nimble_stone.server.routes.runs import RunRequest
from nimble_stone.store.runs import StepRow

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
    rules: list[str] = Field(
        default=[], description="Lines for sudoers that the host's account lacks."
    )
    commands: list[str]
    undo: list[str]
    undoable: bool
    confirm: str = ""


class Preview(BaseModel):
    """All actions, and the name the run will have: it stands in the commands as the mark."""

    run: str
    steps: list[Planned]


class Begin(BaseModel):
    """Actions to be carried out, as the run with this name."""

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
    """A preparation run in a list."""

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


@router.post("/estate/keys")
async def make_key(body: NewKey, app: TheApplication) -> KeyView:
    """Make an SSH key and keep it in the keyring, or show the public half of one that is there."""
    return KeyView(name=body.name, public=await keys.make(app, body.name))


def _planned(one: PlannedAction) -> Planned:
    return Planned(
        key=one.step.key,
        host=one.step.host,
        kind=one.action.kind,
        label=one.step.label,
        refusals=one.refusals,
        rules=one.rules,
        commands=[command.shown for command in one.work.act()],
        undo=[command.shown for command in one.work.undo()],
        undoable=prep.undoable(one.action),
        confirm=prep.to_type(one.action),
    )


@router.post("/estate/groundwork/preview")
async def preparation_preview(body: prep.Preparation, app: TheApplication) -> Preview:
    """The exact commands of every action, what would take them back, and what speaks against them.
    Nothing is sent.
    """
    run = host_preparation.new_name()
    found = await host_preparation.planned(app, body, run)
    return Preview(run=run, steps=[_planned(one) for one in found])


@router.post("/estate/groundwork")
async def preparation_start(body: Begin, app: TheApplication, engine: TheEngine) -> GroundRun:
    """Start it. Refused as a whole when anything speaks against an action, or another run works on
    the same thing.
    """
    await host_preparation.start(app, engine, body.run, body.work)
    return await _view(app, body.run)


async def _view(app: TheApplication, ident: str) -> GroundRun:
    run = await host_preparation.run_of(app, ident)
    return GroundRun(
        id=run.row.id,
        state=run.row.state,
        started_at=run.row.started_at,
        ended_at=run.row.ended_at,
        now=app.clock(),
        sentence=host_preparation.sentence(run),
        hosts=list(dict.fromkeys(one.planned.step.host for one in run.steps)),
        steps=[_step(one.planned, one.state) for one in run.steps],
        last_event=run.last_event,
    )


def _step(planned: PlannedAction, state: StepRow) -> GroundStep:
    return GroundStep(
        key=planned.step.key,
        host=planned.step.host,
        kind=planned.action.kind,
        label=planned.step.label,
        after=list(planned.step.after),
        state=state.state,
        attempt=state.attempt,
        started_at=state.started_at,
        ended_at=state.ended_at,
        message=state.undo_message or state.message,
        undo_failed=state.undo_failed,
        commands=[command.shown for command in planned.work.act()],
    )


@router.get("/groundwork")
async def preparation_list(app: TheApplication) -> list[GroundLine]:
    """All preparation runs, newest first."""
    return [
        GroundLine(
            id=one.row.id,
            state=one.row.state,
            started_at=one.row.started_at,
            hosts=one.row.plan,
            what=one.what,
        )
        for one in await host_preparation.all_runs(app)
    ]


@router.get("/groundwork/{ident}")
async def preparation_one(ident: str, app: TheApplication) -> GroundRun:
    """How it stands."""
    return await _view(app, ident)


@router.get("/groundwork/{ident}/work")
async def preparation_work(ident: str, app: TheApplication) -> prep.Preparation:
    """What it did, to be looked at and run again; nothing in it is confirmed."""
    return await host_preparation.again(app, ident)


@router.post("/groundwork/{ident}/{request}")
async def preparation_request(
    ident: str, request: str, body: RunRequest, app: TheApplication, engine: TheEngine
) -> GroundRun:
    """hold, resume, retry, skip or undo."""
    await _view(app, ident)
    wanted = RunArguments(body.steps, body.reason, body.seconds)
    await host_preparation.request(engine, ident, request, wanted)
    return await _view(app, ident)

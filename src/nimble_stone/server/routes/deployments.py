"""Deployments: what stands of each plan, and what differs from what was built."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path, Query
from pydantic import BaseModel, Field

from nimble_stone.app import as_built, drift, history, retirement, taking
from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.core.drift import RESTARTS, Drift, can_be_taken, host_of
from nimble_stone.server.deps import TheApplication, TheEngine, TheKits
from nimble_stone.store import drift as kept

router = APIRouter(tags=["deployments"])
Plan = Annotated[str, Path(max_length=60)]


class DriftView(BaseModel):
    """One difference between what was built and what was found."""

    node: str = Field(description="Empty: the cluster.")
    name: str
    check: str
    host: str = Field(description="The host that breaks a rule; empty for other differences.")
    label: str
    was: str
    now: str
    since: float
    seen: float
    reason: str
    until: float
    open: bool = Field(description="Whether it is not accepted.")
    puts_back: bool = Field(description="Whether starting the node's VM again puts it back.")
    takes_in: bool = Field(description="Whether it can be taken into the plan.")


class DeploymentView(BaseModel):
    """What stands of a plan, and how it was found."""

    plan: str
    nodes: int
    runs: list[str] = Field(description="Runs that made nodes which stand.")
    read_at: float = Field(description="0: not read yet.")
    checks: int
    unasked: int = Field(description="Checks that could not be asked in the last reading.")
    trouble: str
    now: float
    drift: list[DriftView]


class EveryMinutes(BaseModel):
    """How often deployments are read."""

    minutes: int = Field(ge=0, description="Minutes between two readings; 0: off.")


class Acceptance(BaseModel):
    """A decision about one difference."""

    node: str = Field(default="", max_length=60)
    check: str = Field(max_length=200)
    reason: str = Field(default="", max_length=500)
    days: float = Field(ge=0, le=366, description="For how many days it is accepted; 0: no longer.")


async def _view(app: Application, plan: str) -> DeploymentView:
    stands = await standing(app, plan)
    reading = (await app.store.read(kept.readings)).get(plan)
    now = app.clock()
    found = await app.store.read(kept.of_plan, plan) if stands else []
    names = {ident: one.node.name for ident, one in stands.items()}
    return DeploymentView(
        plan=plan,
        nodes=len(stands),
        runs=list(dict.fromkeys(one.run for one in stands.values())),
        read_at=reading.at if reading else 0.0,
        checks=reading.checks if reading else 0,
        unasked=reading.unasked if reading else 0,
        trouble=reading.trouble if reading else "",
        now=now,
        drift=[_drift(one, names, now) for one in found],
    )


def _drift(one: Drift, names: dict[str, str], now: float) -> DriftView:
    return DriftView(
        **vars(one),
        name=names.get(one.node, one.node or "cluster"),
        host=host_of(one.check),
        open=one.is_open(now),
        puts_back=bool(one.node) and one.check in RESTARTS,
        takes_in=can_be_taken(one),
    )


@router.get("/deployments")
async def deployments_list(app: TheApplication) -> list[DeploymentView]:
    """All deployments with their drift."""
    return [await _view(app, plan) for plan in await app.store.read(kept.standing_plans)]


@router.get("/deployments/every")
async def deployments_every(app: TheApplication) -> EveryMinutes:
    """How often they are read."""
    return EveryMinutes(minutes=await drift.every_minutes(app))


@router.put("/deployments/every")
async def deployments_set_every(body: EveryMinutes, app: TheApplication) -> EveryMinutes:
    """Set it; 0 switches the readings off."""
    await drift.set_every(app, body.minutes)
    return EveryMinutes(minutes=await drift.every_minutes(app))


@router.get("/deployments/{plan}")
async def deployment_show(plan: Plan, app: TheApplication) -> DeploymentView:
    """One deployment with its drift."""
    return await _view(app, plan)


class HistoryEntry(BaseModel):
    """What happened to a deployment. Kind: run, checks, plan or drift."""

    at: float
    kind: str
    words: str
    run: str
    node: str
    detail: str


@router.get("/deployments/{plan}/history")
async def deployment_history(
    plan: Plan, app: TheApplication, limit: Annotated[int, Query(ge=1, le=500)] = 200
) -> list[HistoryEntry]:
    """Runs, acceptance checks, changes of the plan and drift, the newest first."""
    return [HistoryEntry(**vars(one)) for one in await history.of_plan(app, plan, limit)]


class AsBuiltNode(BaseModel):
    """A node as it was built: column → value."""

    node: str
    role: str
    values: dict[str, str]


class AsBuiltChange(BaseModel):
    """What changed. What: added, removed or changed."""

    node: str
    name: str
    what: str
    label: str
    was: str
    now: str


class AsBuiltView(BaseModel):
    """A deployment at an instant, and what changed since an earlier one."""

    at: float
    since: float | None
    nodes: list[AsBuiltNode]
    changed: list[AsBuiltChange]
    labels: dict[str, str] = Field(description="Column → what it is called.")


@router.get("/deployments/{plan}/built")
async def deployment_built(
    plan: Plan,
    app: TheApplication,
    at: Annotated[float | None, Query(description="Seconds; none: now.")] = None,
    since: Annotated[float | None, Query(description="An earlier instant, in seconds.")] = None,
) -> AsBuiltView:
    """The deployment as it was built at an instant, from the journal of its runs."""
    instant = app.clock() if at is None else at
    found = await as_built.at(app, plan, instant, since)
    return AsBuiltView(
        at=instant,
        since=since,
        nodes=[AsBuiltNode(**vars(one)) for one in found.records.values()],
        changed=[AsBuiltChange(**vars(one)) for one in found.changed],
        labels=dict(found.labels),
    )


@router.post("/deployments/{plan}/read")
async def deployment_read(plan: Plan, app: TheApplication) -> DeploymentView:
    """Read it now. Nothing is changed."""
    await drift.read(app, plan)
    return await _view(app, plan)


class Taking(BaseModel):
    """A difference that is taken into the plan."""

    node: str = Field(max_length=60)
    check: str = Field(max_length=60)


class TakenView(BaseModel):
    """The plan's version that says it now."""

    plan: str
    version: int


@router.post("/deployments/{plan}/take")
async def deployment_take(
    plan: Plan, body: Taking, app: TheApplication, kits: TheKits
) -> TakenView:
    """Plan a node as it was found. Its host is asked; nothing is changed there. The next run of the
    plan records it as built.
    """
    kept_plan = await taking.take_in(app, kits, plan, body.node, body.check)
    return TakenView(plan=plan, version=kept_plan.row.version)


class RetiredNode(BaseModel):
    """A node that goes with its deployment."""

    node: str
    name: str
    where: str = Field(description="Its host, or machine.")
    machine: bool
    addresses: list[str]
    disks: int
    data_disks: int
    data_bytes: int


class RetiringView(BaseModel):
    """What goes when a deployment is retired, or how far that is."""

    plan: str
    nodes: list[RetiredNode]
    left: list[str] = Field(description="Runs that are not rolled back yet, the newest first.")
    asked: str = Field(description="“all” or “keep-data” once it was asked for.")
    waits: str = Field(description="The run that waits for a person.")


class Retiring(BaseModel):
    """A decision to retire."""

    confirm: str = Field(max_length=60, description="The plan's name.")
    keep_data: bool = Field(default=False, description="Data disks that the plan added stay.")


def _retiring(plan: str, found: retirement.Retirement) -> RetiringView:
    return RetiringView(
        plan=plan,
        nodes=[RetiredNode(**vars(one)) for one in found.nodes],
        left=list(found.left),
        asked=found.asked,
        waits=found.waits,
    )


@router.get("/deployments/{plan}/retiring")
async def deployment_retiring(plan: Plan, app: TheApplication) -> RetiringView:
    """What would go, node by node; once it was asked for, what is left."""
    return _retiring(plan, await retirement.look(app, plan))


@router.post("/deployments/{plan}/retiring")
async def deployment_retire(
    plan: Plan, body: Retiring, app: TheApplication, engine: TheEngine
) -> RetiringView:
    """Take the whole deployment away: its VMs first, then what its runs made, the newest first."""
    found = await retirement.retire(app, engine, plan, body.confirm, keep_data=body.keep_data)
    return _retiring(plan, found)


@router.delete("/deployments/{plan}/retiring")
async def deployment_keep(plan: Plan, app: TheApplication) -> RetiringView:
    """Stop retiring: what is gone stays gone, no further run is rolled back."""
    return _retiring(plan, await retirement.stop(app, plan))


@router.post("/deployments/{plan}/accept")
async def deployment_accept(plan: Plan, body: Acceptance, app: TheApplication) -> DeploymentView:
    """Accept a difference for some days, with a reason."""
    await drift.accept(app, plan, body.node, body.check, body.reason, body.days)
    return await _view(app, plan)

"""Limits over all runs: how many working steps at once, overall, on one host, on one datastore."""

from __future__ import annotations

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.core.sequence import Limits
from nimble_stone.server.deps import TheApplication, TheEngine

router = APIRouter(tags=["limits"])


class LimitsIn(BaseModel):
    """Most working steps at once. Waits for what guests do by themselves do not count."""

    overall: int = Field(ge=1, le=500)
    per_host: int = Field(ge=1, le=64)
    per_datastore: int = Field(ge=1, le=64)


class Share(BaseModel):
    """A run under way: how many of its steps hold a slot, and how many wait for one."""

    run: str
    working: int
    queued: int


class RunLimits(LimitsIn):
    """The limits that hold, and who uses them now."""

    shares: list[Share]


def _view(app: TheApplication) -> RunLimits:
    limits = app.limiter.limits
    shares = [
        Share(run=run, working=working, queued=queued)
        for run, (working, queued) in sorted(app.limiter.shares().items())
    ]
    return RunLimits(
        overall=limits.overall,
        per_host=limits.per_host,
        per_datastore=limits.per_datastore,
        shares=shares,
    )


@router.get("/limits")
async def limits_get(app: TheApplication) -> RunLimits:
    """The limits, and the runs that use them."""
    return _view(app)


@router.put("/limits")
async def limits_put(body: LimitsIn, app: TheApplication, engine: TheEngine) -> RunLimits:
    """Set the limits for all runs and host preparation, from now on. Steps under way go on."""
    await engine.set_limits(Limits(body.per_host, body.per_datastore, body.overall))
    return _view(app)

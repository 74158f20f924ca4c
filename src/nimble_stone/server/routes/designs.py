"""Designing: sizes, failure impact, placement, data layouts, durations, differences."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Query
from pydantic import BaseModel, Field, FiniteFloat

from nimble_stone.app import designing
from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.designing import (
    BalanceView,
    ChancesView,
    ChangeLine,
    LayoutView,
    LossView,
    PlaceView,
    SizingView,
)
from nimble_stone.app.estate import estate_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.resolved import Resolved
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import InputError
from nimble_stone.core.plan.difference import differences
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.engine.frozen import thawed
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.store import records, runs

router = APIRouter(tags=["designs"])


class Loads(BaseModel):
    """Loads by id; those left out come from the plan, then from the kit."""

    loads: dict[str, FiniteFloat] = Field(default={}, max_length=20)


class DifferenceAnswer(BaseModel):
    """What differs, and both forecasts in seconds."""

    differences: list[ChangeLine]
    before_s: float
    after_s: float


async def _resolved(app: Application, kits: TheKits, ident: str) -> Resolved:
    return await evaluate(app, kits, (await app.store.read(records.get_plan, ident)).text)


@router.get("/plans/{ident}/headroom")
async def plan_headroom(
    ident: str,
    app: TheApplication,
    kits: TheKits,
    together: Annotated[int, Query(ge=1, le=2)] = 1,
    hosts: str = "",
) -> list[LossView]:
    """What falls with each host, or with each pair; `hosts` (commas) limits it to combinations of
    those.
    """
    found = await _resolved(app, kits, ident)
    return designing.losses(
        found.sheet, found.estate, together, tuple(filter(None, hosts.split(",")))
    )


@router.get("/plans/{ident}/why")
async def plan_why(ident: str, node: str, app: TheApplication, kits: TheKits) -> list[PlaceView]:
    """Every host, or every bare machine, as a place for one node."""
    found = await _resolved(app, kits, ident)
    return designing.places(found.sheet, found.estate, node)


@router.get("/plans/{ident}/balance")
async def plan_balance(ident: str, app: TheApplication, kits: TheKits) -> BalanceView:
    """Few moves that even the placement out, not made yet."""
    return designing.balance((await _resolved(app, kits, ident)).sheet)


@router.post("/plans/{ident}/sizing")
async def plan_sizing(ident: str, body: Loads, app: TheApplication, kits: TheKits) -> SizingView:
    """Sizes and numbers for loads, with the next smaller option and why it will not do."""
    found = await _resolved(app, kits, ident)
    return designing.sized(found.sheet, found.estate, body.loads)


@router.get("/plans/{ident}/layout")
async def plan_layout(ident: str, app: TheApplication, kits: TheKits) -> list[LayoutView]:
    """Ways to lay data on the plan's data disks, side by side."""
    return designing.layouts((await _resolved(app, kits, ident)).sheet)


@router.get("/plans/{ident}/chances")
async def plan_chances(ident: str, app: TheApplication, kits: TheKits) -> ChancesView:
    """How long the rollout takes: median and ninth tenth, by the kit and the rates of
    earlier runs.
    """
    return await designing.chances_of(app, (await _resolved(app, kits, ident)).steps)


@router.get("/plans/{ident}/difference")
async def plan_difference(
    ident: str, app: TheApplication, kits: TheKits, plan: str = "", version: int = 0, run: str = ""
) -> DifferenceAnswer:
    """What differs from another plan, an older version, or what a run built (by default the one
    that stands) to this plan.
    """
    now = await _resolved(app, kits, ident)
    if plan or version:
        text = (
            (await app.store.read(records.get_plan, plan)).text
            if plan
            else await app.store.read(records.plan_version, ident, version)
        )
        then = await evaluate(app, kits, text)
        return DifferenceAnswer(
            differences=designing.difference_views(differences(then.sheet, now.sheet)),
            before_s=then.forecast.end_s,
            after_s=now.forecast.end_s,
        )
    built = await _built(app, ident, run)
    return DifferenceAnswer(
        differences=designing.difference_views(differences(built, now.sheet)),
        before_s=0.0,
        after_s=now.forecast.end_s,
    )


async def _built(app: Application, plan: str, run: str) -> Sheet:
    ident = run or next(
        (row.id for row in await app.store.read(runs.standing) if row.plan == plan), ""
    )
    if not ident:
        raise InputError(
            "no run of this plan is deployed",
            code="no-run",
            hint="Name another plan or a version to compare with.",
        )
    return (await thawed(app.store, await app.store.read(runs.get_run, ident))).sheet


@router.get("/estate/bays/{bay}/layout")
async def bay_layout(
    bay: str,
    app: TheApplication,
    kind: str = "",
    least_gib: Annotated[float, Query(ge=0, le=1 << 30, allow_inf_nan=False)] = 0.0,
    most: Annotated[int, Query(ge=0, le=128)] = 0,
) -> list[LayoutView]:
    """Ways to lay data on a bay's drives and free disks: of a kind (SSD, HDD), of a least size, at
    most so many in each machine.
    """
    return designing.layouts_of_bay(await estate_of(app), bay, kind, int(least_gib * 2**30), most)


@router.get("/plans/{ident}/check/shared")
async def plan_shared_change(
    ident: str, column: str, value: str, app: TheApplication, kits: TheKits
) -> list[ChangeLine]:
    """What one shared value of the plan would change, before it is changed."""
    row = await app.store.read(records.get_plan, ident)
    before = await evaluate(app, kits, row.text)
    after = await evaluate(
        app, kits, await aside(yaml_text.edit, row.text, ("values", column), value or None)
    )
    return designing.difference_views(differences(before.sheet, after.sheet))

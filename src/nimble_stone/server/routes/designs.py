"""Designing: sizes, losses, places, layouts, differences; tables in and out; many plans at once;
shared values; pools.
"""

from __future__ import annotations

import asyncio
import base64
import contextlib
from typing import Annotated

from fastapi import APIRouter, Query, Response
from pydantic import BaseModel, Field, FiniteFloat

from nimble_stone.app import designing, spreadsheet
from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.choices import kit_of, usual_of
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
from nimble_stone.app.plans import keep_claims, keep_plan
from nimble_stone.app.resolved import Before, Resolved
from nimble_stone.app.texts import parse_plan, parse_values, shared_of
from nimble_stone.core import yaml_text
from nimble_stone.core.errors import Conflict, InputError, StoneError
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan import many, table
from nimble_stone.core.plan.beginning import beginning
from nimble_stone.core.plan.difference import differences
from nimble_stone.core.plan.include import gather
from nimble_stone.core.plan.model import SharedValues
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.engine.frozen import thawed
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.store import designs, records, runs

router = APIRouter(tags=["designs"])


class Loads(BaseModel):
    """Loads by id; those left out come from the plan, then from the kit."""

    loads: dict[str, FiniteFloat] = Field(default={}, max_length=20)


class DifferenceAnswer(BaseModel):
    """What differs, and both forecasts in seconds."""

    differences: list[ChangeLine]
    before_s: float
    after_s: float


class TableIn(BaseModel):
    """A table as text (CSV, or a spreadsheet's clipboard) or as a file in Base64."""

    text: str = Field(default="", max_length=4 << 20)
    file: str = Field(default="", max_length=24 << 20)

    async def rows(self) -> spreadsheet.Rows:
        """Its cells, read in a thread: a large workbook takes seconds. Raises FormatError."""
        try:
            data = base64.b64decode(self.file, validate=True) if self.file else self.text.encode()
        except ValueError as error:
            raise InputError("the file is not in Base64", code="table-form") from error
        return await asyncio.to_thread(spreadsheet.read, data)


class WrongView(BaseModel):
    row: int
    column: str
    text: str
    why: str


class LandedView(BaseModel):
    """What a table means for the plan: edits that can be made, cells that cannot, and how many say
    what is so already.
    """

    edits: list[Edit]
    wrong: list[WrongView]
    same: int


class ManyIn(TableIn):
    """A table of plans and what its rows have in common; `make`: also make them."""

    kit: str = ""
    package: str = ""
    bay: str = ""
    include: list[str] = []
    values: dict[str, str] = {}
    make: bool = False


class DrawnView(BaseModel):
    """A row of the table as a plan: nodes, hosts, the first address, findings by weight, or why it
    is none.
    """

    row: int
    name: str
    text: str
    faults: list[str]
    nodes: int
    hosts: int
    first_address: str
    memory_bytes: int
    blockers: list[Finding]
    cautions: int


class ManyView(BaseModel):
    """All rows, and the names of plans that were made."""

    plans: list[DrawnView]
    made: list[str]


class CopyIn(BaseModel):
    name: str = Field(min_length=1, max_length=40)
    bay: str = Field(min_length=1, max_length=60)
    mapping: dict[str, str] = Field(default={}, max_length=200)


class LeftView(BaseModel):
    path: str
    value: str


class CarriedOver(BaseModel):
    """The new plan's name, and values in it that still speak of the old place."""

    name: str
    left: list[LeftView]


class SharedView(BaseModel):
    """Shared values, and the plans that include them, directly or by others."""

    name: str
    title: str
    version: int
    text: str
    values: dict[str, str]
    plans: list[str]
    changed_at: float


class SharedIn(BaseModel):
    version: int | None = None
    text: str = Field(max_length=1 << 20)


class TouchedView(BaseModel):
    """What a change of shared values would do to a plan: the differences it makes there."""

    plan: str
    differences: list[ChangeLine]
    blockers_before: int
    blockers_after: int


async def _think(app: Application, kits: TheKits, ident: str) -> Resolved:
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
    found = await _think(app, kits, ident)
    return designing.losses(
        found.sheet, found.estate, together, tuple(filter(None, hosts.split(",")))
    )


@router.get("/plans/{ident}/why")
async def plan_why(ident: str, node: str, app: TheApplication, kits: TheKits) -> list[PlaceView]:
    """Every host as a place for one node."""
    return designing.places((await _think(app, kits, ident)).sheet, node)


@router.get("/plans/{ident}/balance")
async def plan_balance(ident: str, app: TheApplication, kits: TheKits) -> BalanceView:
    """Few moves that even the placement out, not made yet."""
    return designing.balance((await _think(app, kits, ident)).sheet)


@router.post("/plans/{ident}/sizing")
async def plan_sizing(ident: str, body: Loads, app: TheApplication, kits: TheKits) -> SizingView:
    """Sizes and numbers for loads, with the next smaller option and why it will not do."""
    return designing.sized((await _think(app, kits, ident)).sheet, body.loads)


@router.get("/plans/{ident}/layout")
async def plan_layout(ident: str, app: TheApplication, kits: TheKits) -> list[LayoutView]:
    """Ways to lay data on the plan's data disks, side by side."""
    return designing.layouts((await _think(app, kits, ident)).sheet)


@router.get("/plans/{ident}/chances")
async def plan_chances(ident: str, app: TheApplication, kits: TheKits) -> ChancesView:
    """How long the rollout takes: median and ninth tenth, by the kit and the rates of
    earlier runs.
    """
    return await designing.chances_of(app, (await _think(app, kits, ident)).steps)


@router.get("/plans/{ident}/difference")
async def plan_difference(
    ident: str, app: TheApplication, kits: TheKits, plan: str = "", version: int = 0, run: str = ""
) -> DifferenceAnswer:
    """What differs from another plan, an older version, or what a run built (by default the one
    that stands) to this plan.
    """
    now = await _think(app, kits, ident)
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


@router.get("/plans/{ident}/sheet.csv", response_class=Response)
async def plan_sheet_csv(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """The sheet as CSV; secrets are left out."""
    rows = table.rows_of((await _think(app, kits, ident)).sheet)
    return Response(
        spreadsheet.csv_of(rows),
        media_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{ident}.csv"'},
    )


@router.get("/plans/{ident}/sheet.xlsx", response_class=Response)
async def plan_sheet_xlsx(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """The sheet as a workbook; secrets are left out."""
    rows = table.rows_of((await _think(app, kits, ident)).sheet)
    return Response(
        spreadsheet.xlsx_of(rows, ident),
        media_type="application/vnd.openxmlformats-officedocument.spreadsheetml.sheet",
        headers={"Content-Disposition": f'attachment; filename="{ident}.xlsx"'},
    )


@router.post("/plans/{ident}/sheet")
async def plan_sheet_read(
    ident: str, body: TableIn, app: TheApplication, kits: TheKits
) -> LandedView:
    """What a table means for the plan. Nothing is changed yet."""
    landed = table.land(await body.rows(), (await _think(app, kits, ident)).sheet)
    return LandedView(
        edits=list(landed.edits),
        wrong=[WrongView(**one.__dict__) for one in landed.wrong],
        same=landed.same,
    )


@router.post("/plans/{ident}/copy")
async def plan_copy(ident: str, body: CopyIn, app: TheApplication, kits: TheKits) -> CarriedOver:
    """Carry a plan over to another bay under another name."""
    row = await app.store.read(records.get_plan, ident)
    estate = await estate_of(app)
    if not estate.bay(body.bay):
        raise InputError(f"the estate has no bay “{body.bay}”", code="bay-unknown")
    copied = await aside(many.copy, row.text, body.name, body.bay, body.mapping, estate)
    await _make(app, kits, copied.text)
    return CarriedOver(
        name=body.name, left=[LeftView(path=path, value=value) for path, value in copied.left]
    )


async def _make(app: Application, kits: TheKits, text: str) -> None:
    plan = await parse_plan(text)
    kit_of(plan, kits)
    if any(row.id == plan.name for row in await app.store.read(records.plans)):
        raise Conflict(
            f"there is a plan “{plan.name}” already",
            code="plan-exists",
            hint="Choose another name.",
        )
    resolved = await evaluate(app, kits, text)
    await keep_plan(app, resolved, text, 0)


@router.post("/plans/table")
async def plan_table(body: ManyIn, app: TheApplication, kits: TheKits) -> ManyView:
    """Plans from a table: each row after those before it, as if built one after the other. `make`
    keeps them, if every row is a plan.
    """
    own = {kit.id: await usual_of(app, kit) for kit in kits.values()}
    base = many.Base(body.kit, body.package, body.bay, tuple(body.include), body.values, own)
    estate = await estate_of(app)
    included = gather(base.include, await shared_of(app))

    def begin(kit: Kit, bay: str) -> dict[str, str]:
        return {
            column: value
            for column, value in beginning(kit, bay, estate).items()
            if column not in included
        }

    drawn = await aside(many.plans_of, await body.rows(), base, kits, begin)
    known = {row.id for row in await app.store.read(records.plans)}
    drawn = [
        (
            many.Drawn(one.row, one.name, "", (f"there is a plan “{one.name}” already",))
            if one.name in known
            else one
        )
        for one in drawn
    ]
    views, made, before = [], [], Before()
    for one in drawn:
        faults = list(one.faults)
        resolved = None
        if one.text:
            try:
                resolved = await evaluate(app, kits, one.text, before=before)
            except StoneError as error:
                faults.append(str(error))
        if resolved is None:
            views.append(
                DrawnView(
                    row=one.row,
                    name=one.name,
                    text=one.text,
                    faults=faults,
                    nodes=0,
                    hosts=0,
                    first_address="",
                    memory_bytes=0,
                    blockers=[],
                    cautions=0,
                )
            )
            continue
        before.add(resolved)
        nodes = resolved.sheet.nodes
        views.append(
            DrawnView(
                row=one.row,
                name=one.name,
                text=one.text,
                faults=[],
                nodes=len(nodes),
                hosts=len({n.value("host") for n in nodes} - {""}),
                first_address=nodes[0].value("address") if nodes else "",
                memory_bytes=sum(n.memory_bytes for n in nodes),
                blockers=[f for f in resolved.findings if f.severity == "blocker"],
                cautions=sum(f.severity == "caution" for f in resolved.findings),
            )
        )
    if body.make:
        if bad := [one for one in views if one.faults]:
            raise InputError(
                f"row {bad[0].row}: {bad[0].faults[0]}",
                code="table-faults",
                hint="No plans were created. Fix these rows and try again.",
            )
        for view in views:
            await _make(app, kits, view.text)
            made.append(view.name)
    return ManyView(plans=views, made=made)


@router.get("/values")
async def values_list(app: TheApplication) -> list[SharedView]:
    """All shared values."""
    using = await _includers(app)
    return [await _shared_view(row, using) for row in await app.store.read(designs.shared_values)]


async def _shared_view(row: designs.SharedRow, using: dict[str, list[str]]) -> SharedView:
    values = await parse_values(row.text)
    return SharedView(
        name=row.name,
        title=values.title,
        version=row.version,
        text=row.text,
        values={key: str(value) for key, value in values.values.items()},
        plans=using.get(row.name, []),
        changed_at=row.changed_at,
    )


async def _includers(app: Application) -> dict[str, list[str]]:
    known = await shared_of(app)
    found: dict[str, list[str]] = {}
    for row in await app.store.read(records.plans):
        names, seen = list((await parse_plan(row.text)).include), set[str]()
        while names:
            name = names.pop()
            if name not in seen:
                seen.add(name)
                found.setdefault(name, []).append(row.id)
                names += known[name].include if name in known else ()
    return found


@router.put("/values/{name}")
async def values_put(name: str, body: SharedIn, app: TheApplication, kits: TheKits) -> SharedView:
    """Keep shared values; every plan that includes them follows."""
    values = await _fits(app, name, body.text)
    row = await app.store.write(
        designs.put_shared, values.name, body.text, app.clock(), based_on=body.version
    )
    using = await _includers(app)
    for ident in using.get(name, []):
        # a plan that cannot be thought through (its kit is gone) goes on holding what it held
        with contextlib.suppress(StoneError):
            await keep_claims(app, await _think(app, kits, ident))
    return await _shared_view(row, using)


@router.post("/values/{name}/touches")
async def values_touch(
    name: str, body: SharedIn, app: TheApplication, kits: TheKits
) -> list[TouchedView]:
    """What a change of shared values would do to each plan that includes them. Nothing is changed
    yet.
    """
    values = await _fits(app, name, body.text)
    found = []
    for ident in (await _includers(app)).get(name, []):
        text = (await app.store.read(records.get_plan, ident)).text
        before, after = (
            await evaluate(app, kits, text),
            await evaluate(app, kits, text, instead=values),
        )
        found.append(
            TouchedView(
                plan=ident,
                differences=designing.difference_views(differences(before.sheet, after.sheet)),
                blockers_before=sum(f.severity == "blocker" for f in before.findings),
                blockers_after=sum(f.severity == "blocker" for f in after.findings),
            )
        )
    return found


async def _fits(app: Application, name: str, text: str) -> SharedValues:
    """The values a text holds, if they can stand under that name without a ring."""
    values = await parse_values(text)
    if values.name != name:
        raise InputError(
            f"the text names itself “{values.name}”, but these are “{name}”", code="values-name"
        )
    gather([name], await shared_of(app) | {name: values})
    return values


@router.delete("/values/{name}")
async def values_remove(name: str, app: TheApplication) -> dict[str, str]:
    """Forget shared values that nobody includes."""
    users = (await _includers(app)).get(name, [])
    others = [
        row.name
        for row in await app.store.read(designs.shared_values)
        if name in (await parse_values(row.text)).include
    ]
    if users or others:
        raise Conflict(
            f"“{name}” is included by {', '.join([*users, *others][:5])}",
            code="values-used",
            hint="Take the include out there first.",
        )
    await app.store.write(designs.remove_shared, name)
    return {"state": "removed"}


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

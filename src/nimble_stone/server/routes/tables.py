"""Plans and tables: the sheet as CSV and workbook, tables pasted into it, many plans from one
table, a plan copied to another bay.
"""

from __future__ import annotations

import asyncio
import base64

from fastapi import APIRouter, Response
from pydantic import BaseModel, Field

from nimble_stone.app import many_plans, spreadsheet
from nimble_stone.app.application import Application
from nimble_stone.app.copying import copy_plan
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.resolved import Resolved
from nimble_stone.core.errors import InputError
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.plan import many, table
from nimble_stone.server.deps import TheApplication, TheKits
from nimble_stone.store import records

router = APIRouter(tags=["plans"])


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
    """A table of plans and what its rows have in common. `licence_by` accepts their licences,
    `passwords` makes those that are missing; `make`: also make the plans.
    """

    kit: str = ""
    package: str = ""
    bay: str = ""
    include: list[str] = []
    values: dict[str, str] = {}
    licence_by: str = Field(default="", max_length=80)
    passwords: bool = False
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
    passwords: int = Field(description="How many passwords would be made.")


class OpenQuestion(BaseModel):
    """A column that plans of the table leave unanswered."""

    column: str
    label: str
    plans: int


class ManyView(BaseModel):
    """All rows, the names of plans that were made, what is not answered in some of them, and
    whether a licence is to be accepted.
    """

    plans: list[DrawnView]
    made: list[str]
    unanswered: list[OpenQuestion]
    licence: bool


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


async def _resolved(app: Application, kits: TheKits, ident: str) -> Resolved:
    return await evaluate(app, kits, (await app.store.read(records.get_plan, ident)).text)


@router.get("/plans/{ident}/sheet.csv", response_class=Response)
async def plan_sheet_csv(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """The sheet as CSV; secrets are left out."""
    rows = table.rows_of((await _resolved(app, kits, ident)).sheet)
    return Response(
        spreadsheet.csv_of(rows),
        media_type="text/csv; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{ident}.csv"'},
    )


@router.get("/plans/{ident}/sheet.xlsx", response_class=Response)
async def plan_sheet_xlsx(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """The sheet as a workbook; secrets are left out."""
    rows = table.rows_of((await _resolved(app, kits, ident)).sheet)
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
    landed = table.land(await body.rows(), (await _resolved(app, kits, ident)).sheet)
    return LandedView(
        edits=list(landed.edits),
        wrong=[WrongView(**one.__dict__) for one in landed.wrong],
        same=landed.same,
    )


@router.post("/plans/{ident}/copy")
async def plan_copy(ident: str, body: CopyIn, app: TheApplication, kits: TheKits) -> CarriedOver:
    """Copy a plan to another bay under another name."""
    copied = await copy_plan(app, kits, ident, body.name, body.bay, body.mapping)
    return CarriedOver(
        name=body.name, left=[LeftView(path=path, value=value) for path, value in copied.left]
    )


@router.post("/plans/table")
async def plan_table(body: ManyIn, app: TheApplication, kits: TheKits) -> ManyView:
    """Plans from a table: each row after those before it, as if built one after the other. `make`
    keeps them, if every row is a plan.
    """
    base = many.Base(body.kit, body.package, body.bay, tuple(body.include), body.values)
    together = many_plans.Together(body.licence_by.strip(), body.passwords)
    table = await many_plans.draw(app, kits, await body.rows(), base, together)
    return ManyView(
        plans=[_drawn_view(one) for one in table.drawn],
        made=await many_plans.make(app, kits, table) if body.make else [],
        unanswered=_unanswered(table),
        licence=any(one.resolved and one.resolved.licence for one in table.drawn),
    )


def _drawn_view(one: many_plans.Drawn) -> DrawnView:
    nodes = one.resolved.sheet.nodes if one.resolved else ()
    return DrawnView(
        row=one.row.row,
        name=one.row.name,
        text=one.row.text,
        faults=list(one.faults),
        nodes=len(nodes),
        hosts=len({node.value("host") for node in nodes} - {""}),
        first_address=nodes[0].value("address") if nodes else "",
        memory_bytes=sum(node.memory_bytes for node in nodes),
        blockers=[found for found in one.findings if found.severity == "blocker"],
        cautions=sum(found.severity == "caution" for found in one.findings),
        passwords=len(one.to_make),
    )


def _unanswered(table: many_plans.Table) -> list[OpenQuestion]:
    found: dict[str, OpenQuestion] = {}
    for one in table.drawn:
        if one.resolved is None:
            continue
        open_columns = {each.column for each in one.findings if each.code == "unanswered"}
        for column in one.resolved.sheet.columns:
            if column.id in open_columns and column.kind != "secret":
                question = OpenQuestion(column=column.id, label=column.label, plans=0)
                found.setdefault(column.id, question).plans += 1
    return list(found.values())

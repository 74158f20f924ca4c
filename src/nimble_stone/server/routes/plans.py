"""Plans: reading, editing, checking, starting."""

from __future__ import annotations

from typing import Annotated, Any

from fastapi import APIRouter, Query, Response
from fastapi.responses import PlainTextResponse
from pydantic import BaseModel, FailFast, Field

from nimble_stone.app import editing
from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.choices import choices_of, usual_of
from nimble_stone.app.editing import Kept
from nimble_stone.app.estate import estate_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.plans import check_live, start_run, start_several
from nimble_stone.app.readiness import blockers_of
from nimble_stone.app.texts import parse_plan
from nimble_stone.core import answers
from nimble_stone.core.deployment import Wanted
from nimble_stone.core.errors import NotFound
from nimble_stone.core.findings import Edit, Finding
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import count_of
from nimble_stone.core.runs.states import RunState
from nimble_stone.server import plan_answers as answering
from nimble_stone.server import run_answers
from nimble_stone.server.change_views import ChangesView, changes_view
from nimble_stone.server.deps import TheApplication, TheEngine, TheKitFolder, TheKits
from nimble_stone.server.views import PlanAnswer, PlanLine, PlanView, StepView, step_views
from nimble_stone.store import drift, records, runs
from nimble_stone.store.records import PlanRow

router = APIRouter(tags=["plans"])
Kits = dict[str, Kit]


class KitLine(BaseModel):
    id: str
    title: str
    summary: str
    product: str
    roles: list[str]


class NewPlan(BaseModel):
    """Either a plan file, or what a new plan begins with."""

    text: str = Field(default="", max_length=2 << 20)
    name: str = Field(default="", max_length=60)
    kit: str = ""
    bay: str = ""
    packages: dict[str, str] = Field(
        default={},
        max_length=50,
        description=(
            "Role ('' for the plan's own) → the package to begin with; what is"
            " not named here is chosen: stable and trusted."
        ),
    )


class Edits(BaseModel):
    """Changes to a plan at a version."""

    version: int
    edits: Annotated[list[Edit], Field(max_length=5000), FailFast()]


class Text(BaseModel):
    version: int | None = None
    text: str = Field(max_length=2 << 20)


class SecretEdit(BaseModel):
    """A secret typed into the sheet: kept in the keyring, the plan gets the reference."""

    version: int
    column: str = Field(max_length=120)
    node: str = Field(default="", max_length=60)
    value: str = Field(max_length=4096)


class Renewal(BaseModel):
    """A secret or certificate of the whole plan that is to be another one."""

    version: int
    column: str = Field(max_length=120)


class AcceptLicence(BaseModel):
    version: int
    by: str = Field(min_length=1, max_length=80)


class Started(BaseModel):
    """A run's id, or '' and the plan with the blockers that stand in its way."""

    run: str
    plan: PlanView


async def _kept(app: Application, kept: Kept, known: str = "") -> Response:
    return await answering.answer(app, kept.row, kept.resolved, known=known)


@router.get("/kits")
async def kit_list(kits: TheKits) -> list[KitLine]:
    """The kits there are."""
    return [
        KitLine(
            id=kit.id,
            title=kit.title,
            summary=kit.summary,
            product=kit.accepts.product,
            roles=[role.id for role in kit.roles],
        )
        for kit in kits.values()
    ]


class FaultyView(BaseModel):
    """A kit file of the data folder that cannot be used, and why."""

    file: str
    message: str


@router.get("/kits/faulty")
async def kits_faulty(room: TheKitFolder) -> list[FaultyView]:
    """Kit files that are left out; everything else works."""
    return [FaultyView(**vars(one)) for one in (await aside(room.look)).faulty]


class ChoiceView(BaseModel):
    """A package that a kit takes. `why_not`: why a new plan does not take it by itself."""

    title: str
    channel: str
    signature: str
    why_not: str


class RoleChoices(BaseModel):
    """What a role's nodes can be made from ('' for the plan's package), the best choice first;
    `usual`: what a new plan takes, '' none.
    """

    role: str
    label: str
    usual: str
    choices: list[ChoiceView]


@router.get("/kits/{ident}/packages")
async def kit_packages(ident: str, app: TheApplication, kits: TheKits) -> list[RoleChoices]:
    """What plans of a kit can be started with. Raises NotFound."""
    if ident not in kits:
        raise NotFound(f"there is no kit “{ident}”")
    kit, usual = kits[ident], await usual_of(app, kits[ident])
    return [
        RoleChoices(
            role=role,
            label=found.label if (found := kit.role(role)) else "",
            usual=usual.get(role, ""),
            choices=[ChoiceView(**vars(one)) for one in choices],
        )
        for role, choices in (await choices_of(app, kit)).items()
    ]


@router.get("/plans")
async def plan_list(app: TheApplication, kits: TheKits) -> list[PlanLine]:
    """All plans with their newest run."""
    lines = []
    estate = await estate_of(app)
    rows = await app.store.read(records.plans)
    blockers = await blockers_of(app, kits, rows)
    differing, now = await app.store.read(drift.everything), app.clock()
    for row in rows:
        own = await app.store.read(runs.runs, row.id)
        # a change that was rolled back hides nothing of what stands
        newest = [run for run in own if run.state != RunState.UNDONE] or own
        plan = await parse_plan(row.text)
        kit = kits.get(plan.kit)
        lines.append(
            PlanLine(
                id=row.id,
                title=plan.title or plan.name,
                version=row.version,
                changed_at=row.changed_at,
                kit=plan.kit,
                bay=plan.bay,
                nodes=sum(count_of(plan, role, estate) for role in kit.roles) if kit else 0,
                trouble="" if kit else f"no kit {plan.kit}",
                blockers=blockers.get(row.id),
                drift=sum(one.is_open(now) for one in differing.get(row.id, [])),
                run=(await run_answers.run_lines(app, newest[:1]))[0] if newest else None,
            )
        )
    return lines


@router.post("/plans", response_model=PlanView)
async def plan_new(body: NewPlan, app: TheApplication, kits: TheKits) -> Response:
    """Make a plan from a file, or from a kit and a bay."""
    text = body.text or await editing.first_text(
        app, kits, name=body.name, kit=body.kit, bay=body.bay, packages=body.packages
    )
    return await _kept(app, await editing.new_plan(app, kits, text))


class Asked(BaseModel):
    """A plan by its name, or a text; `live`: after asking the hosts."""

    plan: str = Field(default="", max_length=120)
    text: str = Field(default="", max_length=2_000_000)
    live: bool = False


@router.post("/plans/check", response_model=PlanView)
async def plan_check_text(body: Text, app: TheApplication, kits: TheKits) -> Response:
    """Check a plan file without keeping it."""
    plan = await parse_plan(body.text)
    row = PlanRow(plan.name, 0, body.text, app.clock())
    return await answering.answer(app, row, await evaluate(app, kits, row.text))


@router.post("/plans/answers")
async def plan_answers(body: Asked, app: TheApplication, kits: TheKits) -> dict[str, Any]:
    """What the command line answers about a plan of the server or a text: {check: …, place: …}. See
    docs/plans.md.
    """
    text = body.text or (await app.store.read(records.get_plan, body.plan)).text
    found = await (check_live(app, kits, text) if body.live else evaluate(app, kits, text))
    return {
        "check": answers.check(found.sheet, found.estate, found.findings, found.steps),
        "place": answers.place(found.sheet, found.estate),
    }


@router.get("/plans/{ident}", response_model=PlanView)
async def plan(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """A plan, resolved, checked and sequenced."""
    row = await app.store.read(records.get_plan, ident)
    return await answering.answer(app, row, await evaluate(app, kits, row.text))


@router.get("/plans/{ident}/steps")
async def plan_steps(ident: str, app: TheApplication, kits: TheKits) -> list[StepView]:
    """The whole sequence as it would be carried out."""
    resolved = await evaluate(app, kits, (await app.store.read(records.get_plan, ident)).text)
    return step_views(resolved.steps, resolved.forecast)


@router.get("/plans/{ident}/file", response_class=PlainTextResponse)
async def plan_file(ident: str, app: TheApplication) -> PlainTextResponse:
    """The plan as the YAML file it is."""
    row = await app.store.read(records.get_plan, ident)
    return PlainTextResponse(
        row.text,
        media_type="application/yaml",
        headers={"Content-Disposition": f'attachment; filename="{ident}.plan.yaml"'},
    )


@router.put("/plans/{ident}/file", response_model=PlanView)
async def plan_put(ident: str, body: Text, app: TheApplication, kits: TheKits) -> Response:
    """Replace the plan's text."""
    return await _kept(app, await editing.keep_text(app, kits, ident, body.text, body.version))


@router.patch("/plans/{ident}", response_model=PlanAnswer)
async def plan_edit(
    ident: str, body: Edits, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """Apply small changes; all or none. With `known`, the answer is only what changed since the
    answer of that tag.
    """
    kept = await editing.edit(app, kits, ident, body.version, body.edits)
    return await _kept(app, kept, known)


@router.post("/plans/{ident}/try", response_model=PlanAnswer)
async def plan_try(
    ident: str, body: Edits, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """What changes would bring, as long as they are only being typed or dragged. Nothing is kept
    and nothing is held.
    """
    return await _kept(app, await editing.attempt(app, kits, ident, body.edits), known)


@router.post("/plans/{ident}/take-back/{version}", response_model=PlanAnswer)
async def plan_take_back(
    ident: str, version: int, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """Undo the one change that made a version (undoing that in turn is redo). What others changed
    elsewhere since stays.
    """
    return await _kept(app, await editing.undo(app, kits, ident, version), known)


@router.post("/plans/{ident}/restore/{version}", response_model=PlanView)
async def plan_restore(ident: str, version: int, app: TheApplication, kits: TheKits) -> Response:
    """Make an older version the newest, whatever was changed since."""
    text = await app.store.read(records.plan_version, ident, version)
    return await _kept(app, await editing.keep_text(app, kits, ident, text, None))


@router.post("/plans/{ident}/secret", response_model=PlanView)
async def plan_secret(ident: str, body: SecretEdit, app: TheApplication, kits: TheKits) -> Response:
    """Keep a typed secret and refer to it."""
    place = editing.SecretPlace(body.column, body.node)
    kept = await editing.keep_typed_secret(app, kits, ident, body.version, place, body.value)
    return await _kept(app, kept)


class Made(BaseModel):
    """A secret made by its rule. It is kept nowhere yet."""

    value: str


@router.post("/plans/{ident}/renewal", response_model=PlanView)
async def plan_renewal(ident: str, body: Renewal, app: TheApplication, kits: TheKits) -> Response:
    """Make a new secret, or let a certificate be made anew. Deployed nodes get it with the next
    run.
    """
    kept = await editing.renew(app, kits, ident, body.version, body.column)
    return await answering.answer(app, kept.row, kept.resolved)


@router.post("/plans/{ident}/secret/make")
async def plan_secret_make(ident: str, column: str, app: TheApplication, kits: TheKits) -> Made:
    """A secret that keeps a column's rule, to be looked at and then kept. Raises InputError for a
    column that holds none.
    """
    return Made(value=await editing.made_secret(app, kits, ident, column))


@router.post("/plans/{ident}/licence", response_model=PlanView)
async def plan_licence(
    ident: str, body: AcceptLicence, app: TheApplication, kits: TheKits
) -> Response:
    """Accept the package's licence in a person's name."""
    return await _kept(app, await editing.accept_licence(app, kits, ident, body.version, body.by))


@router.post("/plans/{ident}/check", response_model=PlanView)
async def plan_check(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """Check against the live hosts: they are read again, planned addresses are asked for."""
    row = await app.store.read(records.get_plan, ident)
    resolved = await check_live(app, kits, row.text)
    return await answering.answer(app, row, resolved, checked=True)


class Start(BaseModel):
    """What a run is to do beyond what the plan says."""

    again: list[Annotated[str, Field(max_length=60)]] = Field(
        default=[], max_length=200, description="Deployed nodes to make again."
    )
    repair: list[Annotated[str, Field(max_length=60)]] = Field(
        default=[],
        max_length=2000,
        description="Deployed nodes whose VM is defined and started again; nothing else is done.",
    )

    remove: list[Annotated[str, Field(max_length=60)]] = Field(
        default=[],
        max_length=2000,
        description="Deployed nodes that the run may remove; it removes no others.",
    )

    stage: str = Field(
        default="",
        max_length=60,
        description="Stage of the setup to run again, by its id; nothing else is done.",
    )

    lost: list[Annotated[str, Field(max_length=60)]] = Field(
        default=[],
        max_length=50,
        description=(
            "Hosts and machines that are lost for good: their nodes are made again elsewhere;"
            " nothing else is done."
        ),
    )

    def wanted(self) -> Wanted:
        """What a person wants of nodes that stand."""
        again, repair, remove = tuple(self.again), tuple(self.repair), tuple(self.remove)
        return Wanted(again, repair, remove, self.stage, lost=tuple(self.lost))


@router.post("/plans/{ident}/run", response_model=Started)
async def plan_run(
    ident: str,
    app: TheApplication,
    engine: TheEngine,
    kits: TheKits,
    body: Start | None = None,
) -> Response:
    """Check against the live hosts and start; blockers stop it. Where the plan stands already, the
    run adds and removes nodes as the plan says by now.
    """
    row = await app.store.read(records.get_plan, ident)
    started = await start_run(app, engine, kits, row, wanted=body.wanted() if body else Wanted())
    assert started.resolved is not None
    data = await answering.data_of(app, row, started.resolved, checked=True)
    return Response(
        answering.packed({"run": started.run, "plan": data}), media_type="application/json"
    )


class ChangesAnswer(ChangesView):
    """The same with its steps, and with what stands in the way."""

    steps: list[StepView] = []
    findings: list[Finding] = []


@router.get("/plans/{ident}/changes")
async def plan_changes(
    ident: str,
    app: TheApplication,
    kits: TheKits,
    again: Annotated[tuple[str, ...], Query(max_length=200)] = (),
    repair: Annotated[tuple[str, ...], Query(max_length=2000)] = (),
    stage: Annotated[str, Query(max_length=60)] = "",
    lost: Annotated[tuple[str, ...], Query(max_length=50)] = (),
) -> ChangesAnswer:
    """What a run would change of what stands: nodes to be added and removed, what differs and stays
    as it is, and the steps. `again`: nodes to make again,
    `repair`: nodes to repair, `stage`: a stage to run again, `lost`: hosts that are lost.
    """
    row = await app.store.read(records.get_plan, ident)
    found = await evaluate(
        app, kits, row.text, wanted=Wanted(again, repair, stage=stage, lost=lost)
    )
    does = found.changes is not None and found.changes.any
    return ChangesAnswer(
        **changes_view(found).model_dump(),
        steps=step_views(found.steps, found.forecast) if does else [],
        findings=found.findings,
    )


class Several(BaseModel):
    """Plans by name."""

    plans: list[Annotated[str, Field(max_length=120)]] = Field(min_length=1, max_length=200)


class StartedRunView(BaseModel):
    """What came of starting one plan's run: its id, or '' with the blockers or other trouble that
    stand in its way.
    """

    plan: str
    run: str
    blockers: list[Finding]
    trouble: str


@router.post("/plans/runs")
async def plans_run(
    body: Several, app: TheApplication, engine: TheEngine, kits: TheKits
) -> list[StartedRunView]:
    """Check several plans against the live hosts and start each that has no blockers, in the order
    given.
    """
    return [
        StartedRunView(
            plan=one.plan,
            run=one.run,
            blockers=[
                finding
                for finding in (one.resolved.findings if one.resolved else ())
                if finding.severity == "blocker"
            ],
            trouble=one.trouble,
        )
        for one in await start_several(app, engine, kits, body.plans)
    ]


@router.delete("/plans/{ident}")
async def plan_remove(ident: str, app: TheApplication) -> dict[str, str]:
    """Remove a plan whose cluster does not exist (any more); its runs keep their record."""
    await editing.remove(app, ident)
    return {"state": "removed"}

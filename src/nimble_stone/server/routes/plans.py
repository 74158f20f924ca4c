"""Plans: reading, editing, checking, starting."""

from __future__ import annotations

import datetime
import secrets
from typing import Annotated, Any

from fastapi import APIRouter, Response
from fastapi.responses import PlainTextResponse
from pydantic import BaseModel, FailFast, Field

from nimble_stone.app.application import Application
from nimble_stone.app.aside import aside
from nimble_stone.app.choices import choices_of, kit_of, usual_of
from nimble_stone.app.estate import estate_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.plans import check_live, keep_plan, start_run
from nimble_stone.app.resolved import Resolved
from nimble_stone.app.texts import parse_plan
from nimble_stone.core import answers, secrets_rule, yaml_text
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.beginning import beginning
from nimble_stone.core.plan.sheet import count_of
from nimble_stone.core.runs.states import RunState
from nimble_stone.server import plan_answers as answering
from nimble_stone.server import run_answers
from nimble_stone.server.deps import TheApplication, TheEngine, TheKitFolder, TheKits
from nimble_stone.server.views import PlanLine, PlanView, StepView, step_views
from nimble_stone.store import records, runs
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


class AcceptLicence(BaseModel):
    version: int
    by: str = Field(min_length=1, max_length=80)


class Started(BaseModel):
    """A run's id, or '' and the plan with the blockers that stand in its way."""

    run: str
    plan: PlanView


async def _view(
    app: Application,
    kits: Kits,
    row: PlanRow,
    resolved: Resolved | None = None,
    *,
    checked: bool = False,
) -> Response:
    return await answering.answer(
        app, row, resolved or await evaluate(app, kits, row.text), checked=checked
    )


async def view_data(app: Application, kits: Kits, row: PlanRow) -> dict[str, Any]:
    """The whole answer as data."""
    return await answering.data_of(app, row, await evaluate(app, kits, row.text))


async def store_text(
    app: Application, kits: Kits, ident: str, text: str, version: int | None, *, known: str = ""
) -> Response:
    """Validate a text, then keep it as the next version; the answer is what changed since the one
    tagged `known`.
    """
    plan = await parse_plan(text)
    kit_of(plan, kits)
    if plan.name != ident:
        raise InputError(
            f"the plan's name is “{plan.name}”, but this is plan “{ident}”",
            code="plan-name",
            hint="A plan keeps its name; import it as a new one.",
        )
    resolved = await evaluate(app, kits, text)
    row = await keep_plan(app, resolved, text, version)
    return await answering.answer(app, row, resolved, known=known)


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
    """What plans of a kit can be begun with. Raises NotFound."""
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
    for row in await app.store.read(records.plans):
        newest = await app.store.read(runs.runs, row.id)
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
                run=(await run_answers.run_lines(app, newest[:1]))[0] if newest else None,
            )
        )
    return lines


@router.post("/plans", response_model=PlanView)
async def plan_new(body: NewPlan, app: TheApplication, kits: TheKits) -> Response:
    """Make a plan from a file, or from a kit and a bay."""
    text = body.text or await _first_text(body, kits, app)
    plan = await parse_plan(text)
    kit_of(plan, kits)
    if any(row.id == plan.name for row in await app.store.read(records.plans)):
        raise Conflict(
            f"there is a plan “{plan.name}” already",
            code="plan-exists",
            hint="Choose another name.",
        )
    return await store_text(app, kits, plan.name, text, 0)


async def _first_text(body: NewPlan, kits: TheKits, app: Application) -> str:
    if body.kit not in kits:
        raise InputError("choose a kit", code="kit-unknown")
    kit = kits[body.kit]
    newest = await usual_of(app, kit) | {
        role: title for role, title in body.packages.items() if title
    }
    roles: dict[str, dict[str, Any]] = {}
    for role in kit.roles:
        count = {} if role.count.per_host else {"count": role.count.usual}
        roles[role.id] = count | ({"package": newest[role.id]} if role.id in newest else {})
    values = beginning(kit, body.bay, await estate_of(app))
    # Names of packages and bays come from outside: the writer quotes what needs it.
    return yaml_text.write(
        {
            "nimble-stone": "plan/1",
            "name": body.name,
            "kit": kit.id,
            "package": newest.get("", ""),
            "bay": body.bay,
            "values": values,
            "roles": {ident: block for ident, block in roles.items() if block},
        }
    )


class Asked(BaseModel):
    """A plan by its name, or a text; `app`: after asking the app."""

    plan: str = Field(default="", max_length=120)
    text: str = Field(default="", max_length=2_000_000)
    live: bool = False


@router.post("/plans/check", response_model=PlanView)
async def plan_check_text(body: Text, app: TheApplication, kits: TheKits) -> Response:
    """Check a plan file without keeping it."""
    plan = await parse_plan(body.text)
    return await _view(app, kits, PlanRow(plan.name, 0, body.text, app.clock()))


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
    """A plan thought through."""
    return await _view(app, kits, await app.store.read(records.get_plan, ident))


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
    return await store_text(app, kits, ident, body.text, body.version)


@router.patch("/plans/{ident}", response_model=PlanView)
async def plan_edit(
    ident: str, body: Edits, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """Apply small changes; all or none. With `known`, the answer is only what changed since the
    answer of that tag.
    """
    row = await app.store.read(records.get_plan, ident)
    version = body.version
    if version != row.version:
        theirs = await aside(
            yaml_text.changed_paths,
            await app.store.read(records.plan_version, ident, version),
            row.text,
        )
        if clash := yaml_text.clashes((change.path for change in body.edits), theirs):
            raise Conflict(
                f"plan “{ident}” was changed by another user, also at"
                f" {', '.join(sorted({'.'.join(path) for path in clash})[:4])} (version"
                f" {row.version}, your edit was of {version})",
                code="plan-changed",
                hint="Your edit is kept. Check the new version and repeat it.",
            )
        # it touches nothing that somebody else changed: both stand
        version = row.version
    text = await aside(
        yaml_text.edit_all, row.text, [(change.path, change.value) for change in body.edits]
    )
    return await store_text(app, kits, ident, text, version, known=known)


@router.post("/plans/{ident}/try", response_model=PlanView)
async def plan_try(
    ident: str, body: Edits, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """What changes would bring, as long as they are only being typed or dragged. Nothing is kept
    and nothing is held.
    """
    row = await app.store.read(records.get_plan, ident)
    resolved = await evaluate(
        app,
        kits,
        await aside(
            yaml_text.edit_all, row.text, [(change.path, change.value) for change in body.edits]
        ),
    )
    return await answering.answer(app, row, resolved, known=known)


@router.post("/plans/{ident}/take-back/{version}", response_model=PlanView)
async def plan_take_back(
    ident: str, version: int, app: TheApplication, kits: TheKits, known: str = ""
) -> Response:
    """Take back the one change that made a version (undo; taking that back in turn is redo). What
    others changed elsewhere since stays.
    """
    if version < 2:
        raise InputError("the first version has none before it", code="nothing-before")
    row = await app.store.read(records.get_plan, ident)
    before, after = [
        await app.store.read(records.plan_version, ident, number)
        for number in (version - 1, version)
    ]
    text, again = await aside(yaml_text.taken_back, before, after, row.text)
    if again:
        raise Conflict(
            "this was changed again since, at"
            f" {', '.join(sorted({'.'.join(path) for path in again})[:4])}",
            code="changed-since",
            hint=("Nothing was undone. Check the value and change it by hand."),
        )
    return await store_text(app, kits, ident, text, row.version, known=known)


@router.post("/plans/{ident}/restore/{version}", response_model=PlanView)
async def plan_restore(ident: str, version: int, app: TheApplication, kits: TheKits) -> Response:
    """Make an older version the newest, whatever was changed since."""
    return await store_text(
        app, kits, ident, await app.store.read(records.plan_version, ident, version), None
    )


@router.post("/plans/{ident}/secret", response_model=PlanView)
async def plan_secret(ident: str, body: SecretEdit, app: TheApplication, kits: TheKits) -> Response:
    """Keep a typed secret and refer to it."""
    row = await app.store.read(records.get_plan, ident)
    resolved = await evaluate(app, kits, row.text)
    column = next(
        (
            column
            for column in resolved.sheet.columns
            if column.id == body.column and column.kind == "secret"
        ),
        None,
    )
    if column is None:
        raise InputError("this column holds no secret", code="not-secret")
    lacks = secrets_rule.violations(body.value, column.rule)
    if lacks:
        raise InputError(
            f"{column.label} {lacks[0]}",
            code="secret-weak",
            hint="Type a longer or more varied one. The old value is kept.",
        )
    reference = await app.keep_secret(secret_name(ident, body.node, body.column), body.value)
    path = ("nodes", body.node, body.column) if body.node else ("values", body.column)
    return await store_text(
        app, kits, ident, await aside(yaml_text.edit, row.text, path, reference), body.version
    )


def secret_name(ident: str, node: str, column: str) -> str:
    """A name of its own for each secret that is kept: a run under way, an older version and
    somebody else's edit keep the one they know.
    """
    return f"plan/{ident}/{node + '/' if node else ''}{column}/{secrets.token_hex(4)}"


class Made(BaseModel):
    """A secret made by its rule. It is kept nowhere yet."""

    value: str


@router.post("/plans/{ident}/secret/make")
async def plan_secret_make(ident: str, column: str, app: TheApplication, kits: TheKits) -> Made:
    """A secret that keeps a column's rule, to be looked at and then kept. Raises InputError for a
    column that holds none.
    """
    resolved = await evaluate(app, kits, (await app.store.read(records.get_plan, ident)).text)
    found = next(
        (one for one in resolved.sheet.columns if one.id == column and one.kind == "secret"), None
    )
    if found is None:
        raise InputError("this column holds no secret", code="not-secret")
    return Made(value=secrets_rule.made_by(found.rule, secrets.choice))


@router.post("/plans/{ident}/licence", response_model=PlanView)
async def plan_licence(
    ident: str, body: AcceptLicence, app: TheApplication, kits: TheKits
) -> Response:
    """Accept the package's licence in somebody's name."""
    row = await app.store.read(records.get_plan, ident)
    resolved = await evaluate(app, kits, row.text)
    if not resolved.licence:
        raise InputError("the package has no licence text", code="no-licence")
    at = datetime.datetime.fromtimestamp(app.clock(), datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    text = await aside(
        yaml_text.edit, row.text, ("licence",), {"by": body.by, "at": at, "text": resolved.licence}
    )
    return await store_text(app, kits, ident, text, body.version)


@router.post("/plans/{ident}/check", response_model=PlanView)
async def plan_check(ident: str, app: TheApplication, kits: TheKits) -> Response:
    """Check against the app: hosts are read anew, planned addresses are asked for."""
    row = await app.store.read(records.get_plan, ident)
    return await _view(app, kits, row, await check_live(app, kits, row.text), checked=True)


@router.post("/plans/{ident}/run", response_model=Started)
async def plan_run(ident: str, app: TheApplication, engine: TheEngine, kits: TheKits) -> Response:
    """Check against the live hosts and start; blockers stop it."""
    row = await app.store.read(records.get_plan, ident)
    run, resolved = await start_run(app, engine, kits, row)
    data = await answering.data_of(app, row, resolved, checked=True)
    return Response(answering.packed({"run": run, "plan": data}), media_type="application/json")


@router.delete("/plans/{ident}")
async def plan_remove(ident: str, app: TheApplication) -> dict[str, str]:
    """Remove a plan whose cluster does not exist (any more); its runs keep their record."""
    standing = [
        run.id for run in await app.store.read(runs.runs, ident) if run.state != RunState.UNDONE
    ]
    if standing:
        raise Conflict(
            f"Plan {ident} is not deleted: what run {standing[0]} built from it still exists.",
            code="plan-built",
            hint="Roll the run back first.",
        )
    await app.store.write(records.remove_plan, ident)
    return {"state": "removed"}

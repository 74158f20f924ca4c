"""Kits: listed, read, checked while they are typed, kept and removed."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter
from pydantic import BaseModel, Field

from nimble_stone.app import kit_files, kit_versions
from nimble_stone.app.aside import aside
from nimble_stone.core.kit.calls import Login
from nimble_stone.core.kit.checks import AcceptanceCheck
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.kit.order import stages
from nimble_stone.core.kit.settings import Question
from nimble_stone.core.kit.systems import ITSELF, OutsideSystem
from nimble_stone.core.kit.words import explain, role_words, takes_text
from nimble_stone.server.deps import TheApplication, TheKitFolder

router = APIRouter(tags=["kits"])
Text = Annotated[str, Field(max_length=1 << 20)]


class KitItem(BaseModel):
    """A kit for the list. `own`: a file of this server, which may replace one that ships."""

    id: str
    title: str
    summary: str
    takes: str
    roles: list[str]
    own: bool
    plans: int
    checks: int


class FaultyItem(BaseModel):
    """A file that is no kit, and why."""

    file: str
    message: str


class KitList(BaseModel):
    """All kits, and files that are none."""

    kits: list[KitItem]
    faulty: list[FaultyItem]


class KitRole(BaseModel):
    """A role: how many nodes, where, and what it needs."""

    id: str
    label: str
    words: str


class KitStage(BaseModel):
    """A box of the drawing of the order; `after`: ids of those before it."""

    id: str
    label: str
    kind: str
    of: str
    after: list[str]
    column: int
    asks: str


class KitAsk(BaseModel):
    """A setting, a port, a system or a check in a line."""

    label: str
    words: str


class KitAbout(BaseModel):
    """A kit, read as a person would."""

    id: str
    title: str
    summary: str
    takes: str
    speaks: str
    roles: list[KitRole]
    order: list[KitStage]
    questions: list[KitAsk]
    ports: list[KitAsk]
    systems: list[KitAsk]
    checks: list[KitAsk]
    lines: list[str]


class KitFault(BaseModel):
    """What is wrong with a text: “line 12, column 3”, and why."""

    place: str
    message: str


class KitPage(BaseModel):
    """A kit with its text and the plans that are made by it."""

    about: KitAbout
    text: str
    own: bool
    plans: list[str]


class KitChecked(BaseModel):
    """A text, checked; `about` is empty where it is no kit."""

    about: KitAbout | None
    faults: list[KitFault]


class KitText(BaseModel):
    """The text of a kit file."""

    text: Text


WAYS: dict[Login, str] = {
    "none": "no login",
    "basic": "name and password",
    "bearer": "a token",
    "session": "a session",
}


def _system(kit: Kit, one: OutsideSystem) -> KitAsk:
    trust = ", certificate confirmed by a person" if one.scheme == "https" else ""
    said = f"{one.scheme.upper()}, port {one.real_port}, {WAYS[one.login]}{trust}"
    calls = kit.calls_to(one.id)
    ways = [said] if any(call.path for call in calls) else []
    ways += [f"lines by TCP, port {one.real_port}"] if any(call.line for call in calls) else []
    ways += ["SSH"] if any(call.ssh for call in calls) else []
    return KitAsk(label=one.label, words=f"{one.purpose} {'; '.join(ways)}".strip())


def _speaks(kit: Kit) -> str:
    access = kit.access
    text = f"{access.scheme.upper()}, {WAYS[access.login]}"
    if access.scheme == "https":
        text += f", certificate by {access.trust.replace('-', ' ')}"
    return f"{text}, first password changed" if access.first_password else text


def _question(one: Question) -> KitAsk:
    parts = ["secret" if one.secret else "", "" if one.required else "may stay open"]
    parts += [f"usually {one.default}" if one.default else ""]
    parts += [f"one of {', '.join(one.rule.choices)}" if one.rule.choices else ""]
    return KitAsk(label=one.label, words=", ".join(filter(None, parts)))


def _check(one: AcceptanceCheck) -> KitAsk:
    of = "cluster" if one.of == "cluster" else ", ".join(one.roles) or "each node"
    if one.workload:
        steps = " → ".join(step.label for step in one.workload)
        return KitAsk(label=one.label, words=f"{of}: {steps}")
    if one.call is None:
        return KitAsk(label=one.label, words=of)
    value = "time of the answer" if one.value == "ms:" else one.value
    often = f", {one.times} times" if one.kind == "series" else ""
    compared = f" → {value}" if value else ""
    asks = "" if one.asks == ITSELF else f"{one.asks}: "
    return KitAsk(label=one.label, words=f"{of}: {asks}{one.call.words()}{compared}{often}")


def _about(kit: Kit) -> KitAbout:
    return KitAbout(
        id=kit.id,
        title=kit.title,
        summary=kit.summary,
        takes=takes_text(kit.accepts),
        speaks=_speaks(kit),
        roles=[KitRole(id=one.id, label=one.label, words=role_words(one)) for one in kit.roles],
        order=[KitStage(**{**vars(one), "after": list(one.after)}) for one in stages(kit)],
        questions=[_question(one) for one in kit.questions],
        ports=[
            KitAsk(
                label=f"{one.port}/{one.protocol}",
                words=f"{one.by or 'anybody'}: {one.purpose}".rstrip(": "),
            )
            for one in kit.ports
        ],
        systems=[_system(kit, one) for one in kit.systems],
        checks=[_check(one) for one in kit.acceptance],
        lines=explain(kit),
    )


@router.get("/kits/shelf")
async def kit_shelf(app: TheApplication, room: TheKitFolder) -> KitList:
    """All kits, those that ship and this server's own."""
    found, used = await aside(room.look), await kit_files.uses(app)
    own = await aside(kit_files.own_ids, room.folder)
    return KitList(
        kits=[
            KitItem(
                id=kit.id,
                title=kit.title,
                summary=kit.summary,
                takes=takes_text(kit.accepts),
                roles=[role.label for role in kit.roles],
                own=kit.id in own,
                plans=used[kit.id],
                checks=len(kit.acceptance),
            )
            for kit in sorted(found.kits.values(), key=lambda one: one.title.lower())
        ],
        faulty=[FaultyItem(**vars(one)) for one in found.faulty],
    )


@router.get("/kits/{ident}")
async def one_kit(ident: str, app: TheApplication, room: TheKitFolder) -> KitPage:
    """A kit with its text. Raises NotFound."""
    written = await aside(kit_files.text_of, room.folder, ident)
    found = await aside(kit_files.check, written.text)
    assert found.kit is not None
    if written.own:
        # its file may have been changed by hand
        await kit_versions.seen(app, ident, written.text)
    return KitPage(
        about=_about(found.kit),
        text=written.text,
        own=written.own,
        plans=await kit_files.plans_of(app, ident),
    )


@router.post("/kits/check")
async def check_kit(body: KitText) -> KitChecked:
    """What is wrong with a text, with line and column; nothing is kept."""
    found = await aside(kit_files.check, body.text)
    return KitChecked(
        about=_about(found.kit) if found.kit else None,
        faults=[KitFault(place=one.place, message=one.message) for one in found.faults],
    )


@router.put("/kits")
async def keep_kit(body: KitText, app: TheApplication, room: TheKitFolder) -> KitPage:
    """Keep a kit in this server's data folder, under its id. Raises InputError."""
    kit = await kit_files.keep(app, room, body.text)
    return await one_kit(kit.id, app, room)


@router.delete("/kits/{ident}")
async def drop_kit(ident: str, app: TheApplication, room: TheKitFolder) -> KitList:
    """Remove a kit of this server's own. Raises NotFound, Conflict."""
    await kit_files.remove(app, room, ident)
    return await kit_shelf(app, room)


class KitVersionItem(BaseModel):
    """A version of a kit's text: when it was first seen, and lines more and less than before."""

    number: int
    at: float
    added: int
    removed: int
    current: bool = Field(description="Whether the kit has this text now.")


class KitVersions(BaseModel):
    """The versions of a kit, the newest first."""

    versions: list[KitVersionItem]
    now: float


class KitVersionText(BaseModel):
    """One version: its text, and how the kit's text of now differs from it."""

    number: int
    at: float
    text: str
    difference: list[str] = Field(description="Lines with “+”, “-” or a blank in front.")


@router.get("/kits/{ident}/versions")
async def kit_versions_of(ident: str, app: TheApplication, room: TheKitFolder) -> KitVersions:
    """Earlier texts of a kit. Raises NotFound."""
    written = await aside(kit_files.text_of, room.folder, ident)
    found = await kit_versions.listed(app, ident, written.text)
    return KitVersions(versions=[KitVersionItem(**vars(one)) for one in found], now=app.clock())


@router.get("/kits/{ident}/versions/{number}")
async def kit_version(
    ident: str, number: int, app: TheApplication, room: TheKitFolder
) -> KitVersionText:
    """One of them, with what is otherwise now. Raises NotFound."""
    written = await aside(kit_files.text_of, room.folder, ident)
    one = await kit_versions.one(app, ident, number)
    told = await aside(kit_versions.difference, one.text, written.text)
    return KitVersionText(number=one.number, at=one.at, text=one.text, difference=told)

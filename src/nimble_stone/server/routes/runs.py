"""Runs: how they stand, live, and what a person may do."""

from __future__ import annotations

import datetime
import json
import re
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from functools import partial
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from fastapi.responses import HTMLResponse, StreamingResponse
from pydantic import BaseModel, Field

from nimble_stone.core import narrative, report
from nimble_stone.core.acceptance import Verdict, totals
from nimble_stone.core.errors import InputError, NotFound, StoneError
from nimble_stone.engine.feed import Frame
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.server.auth import Door
from nimble_stone.server.deps import TheCaller, TheEngine, TheRunViews, TheWorld
from nimble_stone.server.planning import without_own
from nimble_stone.server.views import RunLine, RunView, host_views, live_forecast, node_view, run_line, step_views
from nimble_stone.store import records, runs
from nimble_stone.store.runs import RunRow, StepRow

router = APIRouter(tags=["runs"])
PING_S = 1.0
"""A page that hears nothing for longer than this knows that it has lost the server."""
SESSION_S = 1.0
"""How long an ended session may still see what happens."""
MOST_ID = 2**53
_EVENT_ID = re.compile(r"[0-9]{1,15}")
SHOWN_EVENTS = 400


class Wish(BaseModel):
    """What a person wants of a run."""

    steps: list[str] = Field(default=[], max_length=5000)
    reason: str = Field(default="", max_length=500)
    seconds: float = Field(default=600.0, gt=0, le=86400, description="By how much a wait is extended.")


class Entry(BaseModel):
    id: int
    at: float
    target: str
    command: str
    answer: str
    status: int
    seconds: float


async def _frozen(world: TheWorld, ident: str) -> tuple[RunRow, FrozenRun]:
    row = await world.store.read(runs.get_run, ident)
    return row, await thawed(world.store, row)


def _clock_text(at: float) -> str:
    return datetime.datetime.fromtimestamp(at).astimezone().strftime("%H:%M")


async def run_view(world: TheWorld, ident: str) -> RunView:
    """A run as its page shows it."""
    row, frozen = await _frozen(world, ident)
    states: dict[str, StepRow] = {step.key: step for step in await world.store.read(runs.steps, ident)}
    now = world.clock()
    forecast = live_forecast(frozen, states, row.started_at, now, world.limiter.limits)
    estate = without_own(await world.store.read(records.load_estate), ident)
    used = {node.value("host") for node in frozen.sheet.nodes}
    proofs = await world.store.read(runs.last_proofs, ident)
    verdicts = [Verdict(**item) for item in proofs[1]] if proofs else []
    words = {key: narrative.StepState(frozen.steps[key].node, step.state, frozen.steps[key].label, step.message) for key, step in states.items()}
    last = await world.store.read(runs.last_events, ident, SHOWN_EVENTS)
    left = max(0.0, forecast.end_s - (now - row.started_at))
    return RunView(
        id=row.id, plan=row.plan, title=frozen.sheet.plan.title or row.plan, state=row.state, started_at=row.started_at, ended_at=row.ended_at,
        last_event=last[-1].id if last else 0, now=now, nodes=[node_view(frozen.sheet, node) for node in frozen.sheet.nodes],
        hosts=host_views(estate, {frozen.sheet.plan.bay}, names=used), steps=step_views(list(frozen.steps.values()), forecast, states),
        sentence=narrative.of_run(frozen.sheet, row.state, words, left, _clock_text(row.started_at)), left_s=left, critical=list(forecast.critical),
        proofs=verdicts, proved_at=proofs[0] if proofs else None,
        proof_sentence=narrative.of_acceptance(frozen.sheet, verdicts, _clock_text(proofs[0]) if proofs else ""),
        events=[{"id": e.id, "at": e.at, "step": e.step, "kind": e.kind, "payload": e.payload} for e in last])


@router.get("/runs")
async def run_list(world: TheWorld, plan: str = "") -> list[RunLine]:
    """All runs, newest first."""
    return [run_line(row) for row in await world.store.read(runs.runs, plan)]


@router.get("/runs/{ident}", response_model=RunView)
async def run(ident: str, views: TheRunViews) -> Response:
    """How a run stands."""
    return _answer(await views.get(ident))


def _answer(view: RunView) -> Response:
    return Response(view.model_dump_json(), media_type="application/json")


@router.get("/runs/{ident}/events", response_class=StreamingResponse)
async def run_events(ident: str, request: Request, world: TheWorld, caller: TheCaller, after: Annotated[int, Query(ge=0, le=MOST_ID)] = 0,
                     last_event_id: str = Header(default="")) -> StreamingResponse:
    """The journal as server-sent events; goes on after Last-Event-ID, else after `after`. Progress comes in between, without an id. The stream ends
    with the session."""
    await world.store.read(runs.get_run, ident)
    start = int(last_event_id) if _EVENT_ID.fullmatch(last_event_id) else after
    door: Door = request.app.state.door
    return StreamingResponse(_stream(world, request, ident, start, partial(door.still, caller)),
                             media_type="text/event-stream", headers={"Cache-Control": "no-store"})


async def _stream(world: TheWorld, request: Request, ident: str, after: int, still: Callable[[], Awaitable[bool]]) -> AsyncIterator[str]:
    yield "retry: 1000\n\n"
    quiet = looked = world.monotonic()
    async with aclosing(world.feed.watch(ident, after, SESSION_S)) as feed:
        async for item in feed:
            now = world.monotonic()
            if now - looked >= SESSION_S or item is None:
                looked = now
                if not await still():
                    yield "event: signed-out\ndata: {}\n\n"
                    return
                if await request.is_disconnected():
                    return
            if isinstance(item, Frame):
                yield f"id: {item.id}\nevent: journal\ndata: {item.text}\n\n"
            elif item is not None:
                yield f"event: progress\ndata: {item}\n\n"
            if item is not None:
                quiet = now
            elif now - quiet >= PING_S:
                quiet = now
                yield f"event: still\ndata: {json.dumps({'now': world.clock()})}\n\n"


@router.get("/runs/{ident}/transcript")
async def run_transcript(ident: str, step: str, world: TheWorld) -> list[Entry]:
    """Commands and answers of a step, secrets blanked."""
    return [Entry(**item) for item in await world.store.read(runs.transcript, ident, step)]


@router.get("/runs/{ident}/console")
async def run_console(ident: str, node: str, world: TheWorld) -> dict[str, str]:
    """The tail of a node's serial console, '' when there is none."""
    _, frozen = await _frozen(world, ident)
    found = frozen.sheet.node(node)
    if found is None:
        raise NotFound("no such node")
    try:
        host = await world.kvm(await world.host(found.value("host")))
        return {"text": world.blank(await host.console(found.name)), "trouble": ""}
    except StoneError as error:
        return {"text": "", "trouble": str(error)}


@router.post("/runs/{ident}/{wish}")
async def run_wish(ident: str, wish: str, body: Wish, world: TheWorld, engine: TheEngine) -> RunView:
    """hold, resume, retry, skip, extend, end-wait, undo or prove."""
    await world.store.read(runs.get_run, ident)
    if wish == "hold":
        await engine.hold(ident)
    elif wish == "resume":
        await engine.resume(ident)
    elif wish == "retry":
        await engine.retry(ident, body.steps)
    elif wish == "skip":
        if not body.reason.strip():
            raise InputError("Skipping a step needs a reason.", code="skip-reason")
        await engine.skip(ident, _only(body), body.reason)
    elif wish == "extend":
        await engine.extend(ident, _only(body), body.seconds)
    elif wish == "end-wait":
        await engine.end_wait(ident, _only(body))
    elif wish == "undo":
        await engine.undo(ident)
    elif wish == "prove":
        await engine.prove(ident)
    else:
        raise NotFound(f"a run cannot {wish}")
    return await run_view(world, ident)


def _only(body: Wish) -> str:
    if len(body.steps) != 1:
        raise InputError("Name one step.", code="one-step")
    return body.steps[0]


async def _proved(world: TheWorld, ident: str) -> tuple[RunRow, FrozenRun, str, list[Verdict]]:
    row, frozen = await _frozen(world, ident)
    proofs = await world.store.read(runs.last_proofs, ident)
    if proofs is None:
        raise NotFound("nothing of this run was proved yet", hint="Proofs are made when the run ends.")
    at = datetime.datetime.fromtimestamp(proofs[0], datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return row, frozen, at, [Verdict(**item) for item in proofs[1]]


@router.get("/runs/{ident}/acceptance.xml")
async def run_junit(ident: str, world: TheWorld) -> Response:
    """The proofs as JUnit XML."""
    row, frozen, at, verdicts = await _proved(world, ident)
    return Response(report.junit(f"{row.plan} run {row.id}", at, verdicts, {node.id: node.name for node in frozen.sheet.nodes}),
                    media_type="application/xml", headers={"Content-Disposition": f'attachment; filename="{row.plan}-{row.id}.junit.xml"'})


@router.get("/runs/{ident}/acceptance.html", response_class=HTMLResponse)
async def run_report(ident: str, world: TheWorld) -> HTMLResponse:
    """The proofs as a page of its own."""
    row, frozen, at, verdicts = await _proved(world, ident)
    count = totals(verdicts)
    sentence = f"{count['passed']} of {len(verdicts)} proofs hold." if count["failed"] else f"All {len(verdicts)} proofs hold."
    return HTMLResponse(report.html(f"{frozen.sheet.plan.title or row.plan} · acceptance", sentence, at, verdicts,
                                    {node.id: node.name for node in frozen.sheet.nodes}),
                        headers={"Content-Disposition": f'attachment; filename="{row.plan}-{row.id}.html"'})

"""Runs: how they stand, live, and what a person may do."""

from __future__ import annotations

import json
import re
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from functools import partial
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from fastapi.responses import HTMLResponse, StreamingResponse
from pydantic import BaseModel, Field

from nimble_stone.app import corrections, run_requests
from nimble_stone.app.run_requests import RunArguments, rollout_row
from nimble_stone.core.errors import NotFound, StoneError
from nimble_stone.ports.feed import Frame
from nimble_stone.server.auth import Door
from nimble_stone.server.deps import TheApplication, TheCaller, TheEngine, TheKits, TheLiveRuns
from nimble_stone.server.run_answers import run_lines
from nimble_stone.server.views import EventView, RunDelta, RunLine, RunView
from nimble_stone.store import runs

router = APIRouter(tags=["runs"])
PING_S = 1.0
"""A page that hears nothing for longer than this knows that it has lost the server."""
SESSION_S = 1.0
"""How long an ended session may still see what happens."""
MOST_ID = 2**53
_EVENT_ID = re.compile(r"[0-9]{1,15}")


class RunRequest(BaseModel):
    """What a person wants of a run."""

    steps: list[str] = Field(default=[], max_length=5000)
    reason: str = Field(default="", max_length=500)
    seconds: float = Field(
        default=600.0, gt=0, le=86400, description="By how much a wait is extended."
    )


class ConsoleView(BaseModel):
    """The tail of a node's serial console, or why it cannot be read."""

    text: str = ""
    trouble: str = ""


class Entry(BaseModel):
    """A command and its answer; `times` it was sent with that very answer, the last time at
    `last_at`.
    """

    id: int
    step: str
    at: float
    target: str
    command: str
    answer: str
    status: int
    seconds: float
    times: int
    last_at: float


@router.get("/runs")
async def run_list(app: TheApplication, plan: str = "") -> list[RunLine]:
    """All runs, newest first."""
    return await run_lines(app, await app.store.read(runs.runs, plan))


@router.get("/runs/{ident}", response_model=RunView)
async def run(ident: str, live: TheLiveRuns) -> Response:
    """How a run stands."""
    return Response(await live.answer(ident), media_type="application/json")


@router.get(
    "/runs/{ident}/changes",
    response_class=StreamingResponse,
    responses={200: {"model": RunDelta, "description": "Server-sent events; see below."}},
)
async def run_changes(
    ident: str,
    request: Request,
    live: TheLiveRuns,
    app: TheApplication,
    caller: TheCaller,
    after: Annotated[int, Query(ge=0, le=MOST_ID)] = 0,
    last_event_id: str = Header(default=""),
) -> StreamingResponse:
    """What changes in a run, for a page that has read it up to the journal entry `after`: events
    `change` (a RunDelta), `progress` (of steps under way), `again` (too much has happened; read
    the run again), `still` and `signed-out`. Goes on after Last-Event-ID.
    """
    await rollout_row(app, ident)
    start = int(last_event_id) if _EVENT_ID.fullmatch(last_event_id) else after
    door: Door = request.app.state.door
    feed = live.watch(ident, start, SESSION_S)
    return StreamingResponse(
        _stream(app, request, feed, partial(door.still, caller)),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store"},
    )


@router.get("/runs/{ident}/events", response_class=StreamingResponse)
async def run_events(
    ident: str,
    request: Request,
    app: TheApplication,
    caller: TheCaller,
    after: Annotated[int, Query(ge=0, le=MOST_ID)] = 0,
    last_event_id: str = Header(default=""),
) -> StreamingResponse:
    """The journal as server-sent events; goes on after Last-Event-ID, else after `after`. Progress
    comes in between, without an id. The stream ends
    with the session."""
    await app.store.read(runs.get_run, ident)
    start = int(last_event_id) if _EVENT_ID.fullmatch(last_event_id) else after
    door: Door = request.app.state.door
    feed = app.feed.watch(ident, start, SESSION_S)
    return StreamingResponse(
        _stream(app, request, feed, partial(door.still, caller)),
        media_type="text/event-stream",
        headers={"Cache-Control": "no-store"},
    )


async def _stream(
    app: TheApplication,
    request: Request,
    source: AsyncGenerator[Frame | str | None, None],
    still: Callable[[], Awaitable[bool]],
) -> AsyncIterator[str]:
    yield "retry: 1000\n\n"
    quiet = looked = app.monotonic()
    async with aclosing(source) as feed:
        async for item in feed:
            now = app.monotonic()
            if now - looked >= SESSION_S or item is None:
                looked = now
                if not await still():
                    yield "event: signed-out\ndata: {}\n\n"
                    return
                if await request.is_disconnected():
                    return
            if isinstance(item, Frame):
                yield f"id: {item.id}\nevent: {item.kind}\ndata: {item.text}\n\n"
            elif item is not None:
                yield f"event: progress\ndata: {item}\n\n"
            if item is not None:
                quiet = now
            elif now - quiet >= PING_S:
                quiet = now
                yield f"event: still\ndata: {json.dumps({'now': app.clock()})}\n\n"


@router.get("/runs/{ident}/transcript")
async def run_transcript(
    ident: str,
    app: TheApplication,
    step: str = "",
    after: Annotated[int, Query(ge=0, le=MOST_ID)] = 0,
    search: Annotated[str, Query(max_length=200)] = "",
    newest: bool = False,
) -> list[Entry]:
    """Commands and answers of a step, or of all, secrets blanked: 500 after an id, or the newest
    500.
    """
    await app.store.read(runs.get_run, ident)
    return [
        Entry(**item)
        for item in await app.store.read(runs.transcript, ident, step, after, search, newest=newest)
    ]


@router.get("/runs/{ident}/transcript.txt")
async def run_transcript_file(ident: str, app: TheApplication, step: str = "") -> StreamingResponse:
    """All commands and answers as text, to be kept."""
    await app.store.read(runs.get_run, ident)
    name = f"{ident}{'-' + step.replace('/', '-') if step else ''}.transcript.txt"
    safe = "".join(c for c in name if c.isascii() and (c.isalnum() or c in "-._"))
    return StreamingResponse(
        run_requests.transcript_text(app, ident, step),
        media_type="text/plain; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{safe}"'},
    )


@router.get("/runs/{ident}/events/page")
async def run_events_page(
    ident: str, app: TheApplication, before: Annotated[int, Query(ge=0, le=MOST_ID)] = 0
) -> list[EventView]:
    """Journal entries before an id (0: the newest), 400 at a time, in order."""
    await app.store.read(runs.get_run, ident)
    return [
        EventView(**vars(event))
        for event in await app.store.read(runs.events_before, ident, before)
    ]


@router.get("/runs/{ident}/console")
async def run_console(ident: str, node: str, app: TheApplication) -> ConsoleView:
    """The tail of a node's serial console, '' when there is none."""
    try:
        return ConsoleView(text=await run_requests.console(app, ident, node))
    except NotFound:
        raise
    except StoneError as error:
        return ConsoleView(trouble=str(error))


class KitOffer(BaseModel):
    """What the kit of a run's plan has now that the run has not: parts that differ, none when it is
    the same, and why they cannot be taken over.
    """

    parts: list[str]
    refused: list[str]


@router.get("/runs/{ident}/kit")
async def run_kit(ident: str, app: TheApplication, kits: TheKits) -> KitOffer:
    """Whether the kit was corrected since the run began."""
    found = await corrections.offer(app, kits, ident)
    return KitOffer(parts=list(found.parts), refused=list(found.refused))


@router.post("/runs/{ident}/kit", response_model=RunView)
async def run_take_kit(
    ident: str, app: TheApplication, engine: TheEngine, kits: TheKits, live: TheLiveRuns
) -> Response:
    """Take the corrected kit over: setup steps that are not done, checks and access follow it from
    now on. The run waits: it is held, or a step has failed.
    """
    await corrections.take(app, engine, kits, ident)
    return Response(await live.answer(ident), media_type="application/json")


@router.post("/runs/{ident}/{request}", response_model=RunView)
async def run_request(
    ident: str,
    request: str,
    body: RunRequest,
    app: TheApplication,
    engine: TheEngine,
    live: TheLiveRuns,
) -> Response:
    """hold, resume, retry, resume-retry, skip, extend, end-wait, undo or prove."""
    wanted = RunArguments(body.steps, body.reason, body.seconds)
    await run_requests.request(app, engine, ident, request, wanted)
    return Response(await live.answer(ident), media_type="application/json")


class ComparedView(BaseModel):
    """A check in two rounds. Outcomes: passed, failed, not checked, not made."""

    node: str
    check: str
    label: str
    was: str
    now: str
    was_outcome: str
    now_outcome: str


class RoundsView(BaseModel):
    """The newest round of acceptance checks beside the one before it, which is null where there
    was only one.
    """

    at: float
    before: float | None
    changed: list[ComparedView]
    measured: list[ComparedView]


@router.get("/runs/{ident}/acceptance")
async def run_rounds(ident: str, app: TheApplication) -> RoundsView:
    """What changed since the round before, and what was measured in both."""
    rounds = await run_requests.compared(app, ident)
    return RoundsView(
        at=rounds.at,
        before=rounds.before,
        changed=[ComparedView(**vars(one)) for one in rounds.found.changed],
        measured=[ComparedView(**vars(one)) for one in rounds.found.measured],
    )


@router.get("/runs/{ident}/acceptance.xml")
async def run_junit(ident: str, app: TheApplication) -> Response:
    """Acceptance results as JUnit XML."""
    found = await run_requests.acceptance(app, ident)
    name = f"{found.row.plan}-{found.row.id}.junit.xml"
    return Response(
        found.junit(), media_type="application/xml", headers={"Content-Disposition": _as(name)}
    )


@router.get("/runs/{ident}/acceptance.html", response_class=HTMLResponse)
async def run_report(ident: str, app: TheApplication) -> HTMLResponse:
    """Acceptance results as a page."""
    found = await run_requests.acceptance(app, ident)
    name = f"{found.row.plan}-{found.row.id}.html"
    return HTMLResponse(found.html(), headers={"Content-Disposition": _as(name)})


def _as(name: str) -> str:
    return f'attachment; filename="{name}"'

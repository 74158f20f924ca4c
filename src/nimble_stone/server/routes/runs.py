"""Runs: how they stand, live, and what a person may do."""

from __future__ import annotations

import datetime
import json
import re
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Mapping
from contextlib import aclosing
from functools import partial
from typing import Annotated

from fastapi import APIRouter, Header, Query, Request, Response
from fastapi.responses import HTMLResponse, StreamingResponse
from pydantic import BaseModel, Field

from nimble_stone.core import report
from nimble_stone.core.acceptance import Verdict, totals
from nimble_stone.core.errors import InputError, NotFound, StoneError
from nimble_stone.engine.engine import Engine
from nimble_stone.engine.frozen import FrozenRun, thawed
from nimble_stone.ports.feed import Frame
from nimble_stone.server.auth import Door
from nimble_stone.server.deps import TheApplication, TheCaller, TheEngine, TheLiveRuns
from nimble_stone.server.run_answers import rollout_row, run_lines
from nimble_stone.server.views import EventView, RunDelta, RunLine, RunView
from nimble_stone.store import runs
from nimble_stone.store.runs import RunRow

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


async def _frozen(app: TheApplication, ident: str) -> tuple[RunRow, FrozenRun]:
    row = await rollout_row(app, ident)
    return row, await thawed(app.store, row)


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
    the run anew), `still` and `signed-out`. Goes on after Last-Event-ID.
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
        _transcript_text(app, ident, step),
        media_type="text/plain; charset=utf-8",
        headers={"Content-Disposition": f'attachment; filename="{safe}"'},
    )


async def _transcript_text(app: TheApplication, ident: str, step: str) -> AsyncIterator[str]:
    after = 0
    while page := await app.store.read(runs.transcript, ident, step, after):
        for entry in page:
            at = datetime.datetime.fromtimestamp(entry["at"], datetime.UTC).strftime(
                "%Y-%m-%d %H:%M:%S UTC"
            )
            times = f" ({entry['times']} times)" if entry["times"] > 1 else ""
            ended = f"(status {entry['status']}, {entry['seconds']:.2f} s)"
            yield (
                f"{at} {entry['step']} {entry['target']}$"
                f" {entry['command']}{times}\n{entry['answer']}\n{ended}\n\n"
            )
        after = page[-1]["id"]


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
    _, frozen = await _frozen(app, ident)
    found = frozen.sheet.node(node)
    if found is None:
        raise NotFound("no such node")
    try:
        host = await app.driver(await app.host(found.value("host")))
        return ConsoleView(text=app.blank(await host.vms.console(found.name)))
    except StoneError as error:
        return ConsoleView(trouble=str(error))


async def _skip(engine: Engine, ident: str, body: RunRequest) -> None:
    if not body.reason.strip():
        raise InputError("Skipping a step needs a reason.", code="skip-reason")
    await engine.skip(ident, _only(body), body.reason)


REQUESTS: Mapping[str, Callable[[Engine, str, RunRequest], Awaitable[None]]] = {
    "hold": lambda engine, ident, _: engine.hold(ident),
    "resume": lambda engine, ident, _: engine.resume(ident),
    "resume-retry": lambda engine, ident, _: engine.resume_and_retry(ident),
    "retry": lambda engine, ident, body: engine.retry(ident, body.steps),
    "skip": _skip,
    "extend": lambda engine, ident, body: engine.extend(ident, _only(body), body.seconds),
    "end-wait": lambda engine, ident, body: engine.end_wait(ident, _only(body)),
    "undo": lambda engine, ident, _: engine.undo(ident),
    "prove": lambda engine, ident, _: engine.prove(ident),
}
"""What a person may do with a run."""


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
    await rollout_row(app, ident)
    work = REQUESTS.get(request)
    if work is None:
        raise NotFound(f"a run cannot {request}")
    await work(engine, ident, body)
    return Response(await live.answer(ident), media_type="application/json")


def _only(body: RunRequest) -> str:
    if len(body.steps) != 1:
        raise InputError("Name one step.", code="one-step")
    return body.steps[0]


async def _proved(app: TheApplication, ident: str) -> tuple[RunRow, FrozenRun, str, list[Verdict]]:
    row, frozen = await _frozen(app, ident)
    proofs = await app.store.read(runs.last_proofs, ident)
    if proofs is None:
        raise NotFound(
            "no acceptance checks ran yet", hint="Acceptance checks run at the end of a run."
        )
    at = datetime.datetime.fromtimestamp(proofs[0], datetime.UTC).strftime("%Y-%m-%dT%H:%M:%SZ")
    return row, frozen, at, [Verdict(**item) for item in proofs[1]]


@router.get("/runs/{ident}/acceptance.xml")
async def run_junit(ident: str, app: TheApplication) -> Response:
    """The proofs as JUnit XML."""
    row, frozen, at, verdicts = await _proved(app, ident)
    return Response(
        report.junit(
            f"{row.plan} run {row.id}",
            at,
            verdicts,
            {node.id: node.name for node in frozen.sheet.nodes},
        ),
        media_type="application/xml",
        headers={"Content-Disposition": f'attachment; filename="{row.plan}-{row.id}.junit.xml"'},
    )


@router.get("/runs/{ident}/acceptance.html", response_class=HTMLResponse)
async def run_report(ident: str, app: TheApplication) -> HTMLResponse:
    """The proofs as a page of its own."""
    row, frozen, at, verdicts = await _proved(app, ident)
    count = totals(verdicts)
    not_run = f", {count['open']} could not run" if count["open"] else ""
    sentence = f"All {len(verdicts)} acceptance checks passed."
    if count["passed"] < len(verdicts):
        sentence = f"{count['failed']} of {len(verdicts)} acceptance checks failed{not_run}."
    return HTMLResponse(
        report.html(
            f"{frozen.sheet.plan.title or row.plan} · acceptance",
            sentence,
            at,
            verdicts,
            {node.id: node.name for node in frozen.sheet.nodes},
        ),
        headers={"Content-Disposition": f'attachment; filename="{row.plan}-{row.id}.html"'},
    )

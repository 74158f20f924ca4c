"""What hosts fetch themselves: outside /api, without a session, by a one-time signed address."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import AsyncIterator
from contextlib import ExitStack

from fastapi import APIRouter, Request
from starlette.responses import Response, StreamingResponse

from nimble_stone.core.disk.convert import Conversion
from nimble_stone.core.errors import NotFound
from nimble_stone.packages import transfer
from nimble_stone.packages.pulling import TRIAL_BYTES, Offer, Tickets
from nimble_stone.server.deps import TheApplication, TheTickets

router = APIRouter(include_in_schema=False)
MEDIA_TYPE = "application/octet-stream"


@router.get("/pull/trial")
async def pull_trial(tickets: TheTickets) -> Response:
    """Some MiB to measure with, where hosts fetch at all. Nothing of ours is in them."""
    if not tickets.base:
        raise NotFound("hosts do not fetch from this server")
    return Response(bytes(TRIAL_BYTES), media_type=MEDIA_TYPE)


@router.get("/pull/{ticket}")
async def pull(ticket: str, request: Request, app: TheApplication, tickets: TheTickets) -> Response:
    """A disk in the format of the host's datastore, from the byte that Range asks for."""
    offer = tickets.find(ticket)
    stack = ExitStack()
    try:
        conversion = None
        if offer.path is None:
            conversion = await asyncio.to_thread(tickets.begin, offer, stack)
        total = _size(offer, conversion)
    except OSError as error:
        stack.close()
        raise NotFound("the file that was offered is gone") from error
    except BaseException:
        stack.close()
        raise
    match = re.fullmatch(r"bytes=(\d{1,16})-", request.headers.get("Range", "").strip())
    start = int(match[1]) if match else 0
    if start > total:
        stack.close()
        return Response(status_code=416, headers={"Content-Range": f"bytes */{total}"})

    async def body() -> AsyncIterator[bytes]:
        began, sent = time.monotonic(), 0
        with stack:
            async for piece in _pieces(tickets, offer, conversion, start):
                yield piece
                sent += len(piece)
                if offer.path:
                    offer.told(start + sent)
                if offer.rate and (early := sent / offer.rate - (time.monotonic() - began)) > 0:
                    await app.pause(early)
        offer.done = True

    headers = {
        "Content-Length": str(total - start),
        "Accept-Ranges": "bytes",
        "Cache-Control": "no-store",
    }
    if start:
        headers["Content-Range"] = f"bytes {start}-{total - 1}/{total}"
    status = 206 if start else 200
    return StreamingResponse(body(), status, headers=headers, media_type=MEDIA_TYPE)


def _size(offer: Offer, conversion: Conversion | None) -> int:
    if offer.path:
        return offer.path.stat().st_size
    return conversion.file_bytes if conversion else 0


def _pieces(
    tickets: Tickets, offer: Offer, conversion: Conversion | None, start: int
) -> AsyncIterator[bytes]:
    if offer.path:
        return transfer.file_pieces(offer.path, start)
    assert conversion is not None
    return transfer.pieces(tickets.pieces(offer, conversion, start), lambda _: None)

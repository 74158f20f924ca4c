"""What hosts fetch themselves: outside /api, without a session, by a one-time signed address."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import AsyncIterator
from contextlib import ExitStack

from fastapi import APIRouter, Request
from starlette.responses import Response, StreamingResponse

from nimble_stone.core.errors import InputError, NotFound
from nimble_stone.engine import transfer
from nimble_stone.engine.pulling import TRIAL_BYTES
from nimble_stone.server.deps import TheWorld

router = APIRouter(include_in_schema=False)


@router.get("/pull/trial")
async def pull_trial(world: TheWorld) -> Response:
    """Some MiB to measure with, where hosts fetch at all. Nothing of ours is in them."""
    if world.desk is None or not world.desk.base:
        raise NotFound("hosts do not fetch from this server")
    return Response(bytes(TRIAL_BYTES), media_type="application/octet-stream")


@router.get("/pull/{ticket}")
async def pull(ticket: str, request: Request, world: TheWorld) -> Response:
    """A disk as qcow2, from the byte that Range asks for."""
    desk = world.desk
    if desk is None:
        raise InputError("this server offers nothing to fetch")
    offer = desk.find(ticket)
    stack = ExitStack()
    try:
        conversion = None if offer.path else await asyncio.to_thread(desk.begin, offer, stack)
        total = (
            offer.path.stat().st_size if offer.path else conversion.file_bytes if conversion else 0
        )
        match = re.fullmatch(r"bytes=(\d{1,16})-", request.headers.get("Range", "").strip())
        start = int(match[1]) if match else 0
        if start > total:
            stack.close()
            return Response(status_code=416, headers={"Content-Range": f"bytes */{total}"})
    except OSError as error:
        raise NotFound("the file that was offered is gone") from error
    except BaseException:
        stack.close()
        raise

    async def body() -> AsyncIterator[bytes]:
        began, sent = time.monotonic(), 0
        with stack:
            async for piece in (
                transfer.file_pieces(offer.path, start)  # type: ignore[union-attr]
                if offer.path
                else (
                    transfer.pieces(desk.pieces(offer, conversion, start), lambda _: None)
                    if conversion
                    else ()
                )
            ):
                yield piece
                sent += len(piece)
                if offer.path:
                    offer.told(start + sent)
                if offer.rate and (early := sent / offer.rate - (time.monotonic() - began)) > 0:
                    await world.pause(early)
        offer.done = True

    headers = {
        "Content-Length": str(total - start),
        "Accept-Ranges": "bytes",
        "Cache-Control": "no-store",
    }
    if start:
        headers["Content-Range"] = f"bytes {start}-{total - 1}/{total}"
    return StreamingResponse(
        body(), 206 if start else 200, headers=headers, media_type="application/octet-stream"
    )

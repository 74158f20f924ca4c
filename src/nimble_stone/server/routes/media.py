"""What management controllers fetch: outside /api, without a session, by a one-time address."""

from __future__ import annotations

import re
from typing import Literal

from fastapi import APIRouter, Depends, Request
from starlette.responses import Response, StreamingResponse

from nimble_stone.server.deps import TheMedia
from nimble_stone.server.media import Media, Medium, Small

router = APIRouter(include_in_schema=False)


async def _admitted(request: Request, media: TheMedia) -> None:
    client = request.client.host if request.client else ""
    await media.admit(request.path_params["token"], client)


ADMITTED = [Depends(_admitted)]
MOST_WORDS = 1024
_RANGE = re.compile(r"bytes=(\d{0,16})-(\d{0,16})")


@router.api_route("/media/{token}/{name}.iso", methods=["GET", "HEAD"], dependencies=ADMITTED)
async def medium(token: str, name: str, request: Request, media: TheMedia) -> Response:
    """The medium of a machine, or the part of it that Range asks for (RFC 9110, 14)."""
    found = await media.opened(token, f"{name}.iso", read=request.method == "GET")
    return _sent(found, request, "application/x-iso9660-image", media, token)


@router.api_route("/media/{token}/boot/{path:path}", methods=["GET", "HEAD"], dependencies=ADMITTED)
async def boot_file(token: str, path: str, request: Request, media: TheMedia) -> Response:
    """A kernel or ramdisk, for a machine that boots from the network."""
    found = await media.part(token, f"/{path}", read=request.method == "GET")
    return _sent(found, request, "application/octet-stream", media, token)


@router.get("/media/{token}/files/{path:path}", dependencies=ADMITTED)
async def answer_file(token: str, path: str, media: TheMedia) -> Response:
    """An answer file, for an installer that booted from the network."""
    return Response(await media.text(token, f"/{path}"), media_type="text/plain")


@router.get("/media/{token}/job", dependencies=ADMITTED)
async def job(token: str, media: TheMedia) -> Response:
    """What the inspection system does, when it booted from the network."""
    return Response(await media.text(token, "job"), media_type="text/plain")


@router.get("/netboot/{mac}")
async def boot_script(mac: str, media: TheMedia) -> Response:
    """What iPXE does on the machine with this port."""
    found = await media.script(mac.replace("-", ":")[:17])
    return Response(found, media_type="text/plain")


def _sent(
    found: Medium | Small, request: Request, media_type: str, media: Media, token: str
) -> Response:
    """The whole, or the part that Range asks for."""
    size = found.size
    start, end, status = 0, size, 200
    headers = {"Accept-Ranges": "bytes", "Cache-Control": "no-store"}
    asked = _RANGE.fullmatch(request.headers.get("Range", "").strip())
    if asked and (asked[1] or asked[2]):
        status = 206
        if asked[1]:
            start = int(asked[1])
            end = min(end, int(asked[2]) + 1) if asked[2] else end
        else:
            start = max(0, end - int(asked[2]))
        if start >= end:
            return Response(status_code=416, headers={"Content-Range": f"bytes */{size}"})
        headers["Content-Range"] = f"bytes {start}-{end - 1}/{size}"
    headers["Content-Length"] = str(end - start)
    if request.method == "HEAD":
        return Response(status_code=status, headers=headers, media_type=media_type)
    pieces = media.counted(token, found.pieces(start, end))
    return StreamingResponse(pieces, status, headers=headers, media_type=media_type)


@router.api_route("/media/{token}/{what}", methods=["POST", "PUT"], dependencies=ADMITTED)
async def told(
    token: str, what: Literal["done", "failed", "progress"], request: Request, media: TheMedia
) -> Response:
    """An installer tells how it stands. The body is at most 1 KiB of plain text; `serial` in the
    query names the machine.
    """
    body = b""
    async for piece in request.stream():
        body += piece
        if len(body) > MOST_WORDS:
            return Response(status_code=413)
    words = " ".join(body.decode("utf-8", "replace").split())
    shown = "".join(c for c in words if c.isprintable())[:200]
    serial = request.query_params.get("serial", "")[:100]
    return Response(status_code=await media.told(token, what, shown, serial))


@router.get("/media/{token}/{what}", dependencies=ADMITTED)
async def told_by_get(
    token: str,
    what: Literal["done", "failed", "progress"],
    media: TheMedia,
    serial: str = "",
    words: str = "",
) -> Response:
    """The same for installers that can only fetch."""
    shown = "".join(c for c in words if c.isprintable())[:200]
    return Response(status_code=await media.told(token, what, shown, serial[:100]))

"""Taking packages in: uploads by the open tus 1.0 protocol, URLs, and how far each attempt is."""

from __future__ import annotations

import base64
import binascii
import re
from collections.abc import AsyncIterator

from fastapi import APIRouter, Request, Response
from pydantic import BaseModel, Field
from starlette.requests import ClientDisconnect

from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.weburl import shown
from nimble_stone.packages.intake import Intake
from nimble_stone.server.deps import TheApplication, TheIntake
from nimble_stone.store import library
from nimble_stone.store.library import TakeIn, TakeInFile

router = APIRouter(tags=["take-ins"])
TUS = {"Tus-Resumable": "1.0.0", "Cache-Control": "no-store"}
_PLACE = re.compile(r"^([0-9a-f]{16})\.(\d{1,4})$")


class NoticedView(BaseModel):
    """Something noticed in a package."""

    severity: str
    code: str
    message: str
    where: str
    clause: str


class TakeInView(BaseModel):
    """An attempt to bring a package in. Bytes, and bytes per second; `total` is 0 while it is not
    known.
    """

    id: str
    source: str
    name: str
    origin: str
    state: str
    files: list[str]
    received: int
    done: int
    total: int
    rate: float
    package: str
    code: str
    message: str
    hint: str
    findings: list[NoticedView]
    began_at: float
    changed_at: float


class NewTakeIn(BaseModel):
    """A package to be fetched, or the files of one to be uploaded together."""

    url: str = Field(default="", max_length=2000)
    sha256: str = Field(default="", max_length=64)
    name: str = Field(default="", max_length=200)
    files: list[tuple[str, int]] = Field(
        default=[], max_length=2000, description="Name and size in bytes of each file."
    )


def view(intake: Intake, row: TakeIn) -> TakeInView:
    """The attempt with its progress."""
    progress = intake.progress.get(row.id)
    received = (
        sum(intake.received(row.id, n) for n in range(len(row.files)))
        if row.state == "receiving"
        else 0
    )
    total = sum(file.size or 0 for file in row.files)
    verifying = row.state == "verifying" and progress is not None
    return TakeInView(
        id=row.id,
        source=row.source,
        name=row.name,
        origin=shown(row.origin) if row.source == "url" else row.origin,
        state=row.state,
        files=[file.name for file in row.files],
        received=received,
        done=progress.done if verifying and progress else received,
        total=progress.total if verifying and progress else total,
        rate=progress.rate if progress else 0.0,
        package=row.package,
        code=str(row.problem.get("code", "")),
        message=str(row.problem.get("message", "")),
        hint=str(row.problem.get("hint", "")),
        findings=[NoticedView(**f) for f in row.problem.get("findings", [])],
        began_at=row.began_at,
        changed_at=row.changed_at,
    )


@router.get("/take-ins")
async def take_in_list(app: TheApplication, intake: TheIntake) -> list[TakeInView]:
    """All attempts that are remembered, newest first."""
    return [view(intake, row) for row in await app.store.read(library.take_ins)]


@router.get("/take-ins/{ident}")
async def take_in(ident: str, app: TheApplication, intake: TheIntake) -> TakeInView:
    """One attempt."""
    return view(intake, await app.store.read(library.get_take_in, ident))


@router.post("/take-ins")
async def take_in_new(body: NewTakeIn, intake: TheIntake) -> TakeInView:
    """Fetch a package from a URL, or announce files that will be uploaded to
    /take-ins/files/{id}.{number}.
    """
    if body.url:
        return view(intake, await intake.from_url(body.url.strip(), body.sha256.strip()))
    if not body.files:
        raise InputError("give a URL or a list of files", code="take-in-files")
    name = body.name or body.files[0][0]
    return view(
        intake, await intake.begin("upload", name, [TakeInFile(*file) for file in body.files])
    )


@router.delete("/take-ins/{ident}")
async def take_in_stop(ident: str, intake: TheIntake) -> dict[str, str]:
    """Stop an attempt, or forget one that has ended."""
    await intake.stop(ident)
    return {"state": "stopped"}


# --- tus 1.0 (https://tus.io/protocols/resumable-upload): core, creation, termination ---


@router.options("/take-ins/files", include_in_schema=False)
async def tus_options() -> Response:
    """What of the protocol is spoken."""
    return Response(
        status_code=204,
        headers=TUS
        | {
            "Tus-Version": "1.0.0",
            "Tus-Extension": "creation,termination",
            "Tus-Max-Size": str(1 << 50),
        },
    )


@router.post("/take-ins/files", include_in_schema=False)
async def tus_create(request: Request, app: TheApplication, intake: TheIntake) -> Response:
    """Begin an upload of one file; `Upload-Metadata: filename` is its name."""
    _version(request)
    size = _number(request, "Upload-Length")
    name = _metadata(request).get("filename", "package")
    row = await intake.begin("upload", name, [TakeInFile(name, size)])
    return Response(status_code=201, headers=TUS | {"Location": f"/api/take-ins/files/{row.id}.0"})


@router.head("/take-ins/files/{place}", include_in_schema=False)
async def tus_head(
    place: str, request: Request, app: TheApplication, intake: TheIntake
) -> Response:
    """How much has arrived."""
    _version(request)
    row, number = await _find(place, app)
    if row.state not in ("receiving", "verifying", "done"):
        return Response(status_code=410, headers=TUS)
    size = row.files[number].size or 0
    offset = intake.received(row.id, number) if row.state == "receiving" else size
    return Response(
        status_code=200, headers=TUS | {"Upload-Offset": str(offset), "Upload-Length": str(size)}
    )


@router.patch("/take-ins/files/{place}", include_in_schema=False)
async def tus_patch(
    place: str, request: Request, app: TheApplication, intake: TheIntake
) -> Response:
    """Bytes from an offset on. What arrives before a break stays."""
    _version(request)
    if request.headers.get("Content-Type", "").split(";")[0] != "application/offset+octet-stream":
        return Response(
            "Content-Type must be application/offset+octet-stream", status_code=415, headers=TUS
        )
    row, number = await _find(place, app)
    if row.state != "receiving":
        return Response(
            "this upload expects no bytes",
            status_code=410 if row.state in ("failed", "stopped") else 409,
            headers=TUS,
        )
    try:
        got = await intake.receive(
            row.id, number, _number(request, "Upload-Offset"), _pieces(request)
        )
    except Conflict as error:
        if error.code in ("take-in-offset", "take-in-busy"):
            return Response(str(error), status_code=409, headers=TUS)
        raise
    return Response(status_code=204, headers=TUS | {"Upload-Offset": str(got)})


@router.delete("/take-ins/files/{place}", include_in_schema=False)
async def tus_delete(
    place: str, request: Request, app: TheApplication, intake: TheIntake
) -> Response:
    """End an upload; nothing of it is kept."""
    _version(request)
    row, _ = await _find(place, app)
    if row.state in ("receiving", "verifying"):
        await intake.stop(row.id)
    return Response(status_code=204, headers=TUS)


async def _pieces(request: Request) -> AsyncIterator[bytes]:
    """The body; a broken connection ends it, and what came is kept."""
    try:
        async for piece in request.stream():
            yield piece
    except ClientDisconnect:
        return


async def _find(place: str, app: TheApplication) -> tuple[TakeIn, int]:
    match = _PLACE.match(place)
    if not match:
        raise NotFound("there is no such upload")
    row = await app.store.read(library.get_take_in, match[1])
    if int(match[2]) >= len(row.files) or row.source != "upload":
        raise NotFound("there is no such upload")
    return row, int(match[2])


def _version(request: Request) -> None:
    if request.headers.get("Tus-Resumable") != "1.0.0":
        raise InputError(
            "this server supports tus 1.0.0; the request needs Tus-Resumable: 1.0.0",
            code="tus-version",
        )


def _number(request: Request, header: str) -> int:
    text = request.headers.get(header, "")
    if not re.fullmatch(r"\d{1,16}", text):
        raise InputError(f"the header {header} must be a number of bytes", code="tus-header")
    return int(text)


def _metadata(request: Request) -> dict[str, str]:
    found = {}
    for pair in request.headers.get("Upload-Metadata", "").split(","):
        key, _, value = pair.strip().partition(" ")
        try:
            found[key] = base64.b64decode(value, validate=True).decode("utf-8", "replace")
        except (binascii.Error, ValueError) as error:
            raise InputError("Upload-Metadata is not Base64", code="tus-header") from error
    return found

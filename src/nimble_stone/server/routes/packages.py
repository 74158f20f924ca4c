"""Packages: showing, comparing, labelling, removing; who is trusted; what lies on datastores."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from urllib.parse import unquote

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.requests import ClientDisconnect

from nimble_stone.app import package_library
from nimble_stone.app.package_library import Users, kits_for, package_of, plans_using
from nimble_stone.core.errors import FormatError, InputError
from nimble_stone.core.package import compare
from nimble_stone.core.package.contents import Contents
from nimble_stone.packages import copies, stored
from nimble_stone.packages.intake import Intake
from nimble_stone.server import package_views
from nimble_stone.server.deps import TheApplication, TheIntake, TheKits
from nimble_stone.server.package_views import (
    ChangeView,
    CompareView,
    CopyView,
    PackageItem,
    PackageView,
    VersionView,
)
from nimble_stone.store import library, records
from nimble_stone.store.library import TakeInFile
from nimble_stone.store.records import PackageRow

router = APIRouter(tags=["packages"])


class Label(BaseModel):
    """The team's own words on a package."""

    channel: str = Field(default="", max_length=40)
    note: str = Field(default="", max_length=4000)
    product: str = Field(
        default="", max_length=80, description="For a file that says neither itself; empty: as is."
    )
    version: str = Field(default="", max_length=80)


class Person(BaseModel):
    """A person who accepts."""

    by: str = Field(min_length=2, max_length=120)


class TrustedView(BaseModel):
    """A certificate on the trust list."""

    fingerprint: str
    subject: str
    not_after: float
    added_at: float


class Pem(BaseModel):
    """Certificates as PEM text."""

    pem: str = Field(max_length=200_000)


@router.get("/packages")
async def package_list(app: TheApplication, kits: TheKits) -> list[PackageItem]:
    """All packages: by product, newest first."""
    plans = await package_library.users(app)
    return [_item(row, kits, plans) for row in await app.store.read(records.packages)]


def _item(row: PackageRow, kits: TheKits, plans: Users) -> PackageItem:
    return package_views.item(
        row, stored.contents_of(row), kits_for(row, kits.values()), plans_using(row, plans)
    )


@router.get("/packages/compare")
async def package_compare(old: str, new: str, app: TheApplication, kits: TheKits) -> CompareView:
    """What changed from one package to another."""
    plans = await package_library.users(app)
    rows = [await package_of(app, old), await package_of(app, new)]
    return CompareView(
        old=_item(rows[0], kits, plans),
        new=_item(rows[1], kits, plans),
        changes=[
            ChangeView(group=c.group, kind=c.kind, what=c.what, before=c.before, after=c.after)
            for c in compare.compare(*(stored.contents_of(row) for row in rows))
        ],
    )


@router.get("/packages/{sha256}")
async def package(sha256: str, app: TheApplication, kits: TheKits, lang: str = "") -> PackageView:
    """One package, in a language where it has it."""
    row = await package_of(app, sha256)
    return await _view(app, kits, row, stored.contents_of(row), lang)


async def _view(
    app: TheApplication, kits: TheKits, row: PackageRow, contents: Contents, lang: str = ""
) -> PackageView:
    plans = await package_library.users(app)
    if lang:
        contents = await asyncio.to_thread(stored.in_language, app.packages, contents, lang[:20])
    signed = await package_library.signature_of(app, contents)
    nodes = await package_library.deployed_nodes(app)
    versions = [
        VersionView(
            sha256=other.sha256,
            version=other.version,
            channel=other.channel,
            added_at=other.added_at,
            plans=plans_using(other, plans),
            nodes=nodes.get(other.sha256, 0),
            current=other.sha256 == row.sha256,
        )
        for other in await app.store.read(records.packages)
        if other.product == row.product
    ]
    return package_views.view(
        row,
        contents,
        kits_for(row, kits.values()),
        plans_using(row, plans),
        signed,
        await package_library.accepted_licences(app, package_library.licence_of(contents)),
        [
            (copy, await copies.users(app, copy))
            for copy in await app.store.read(library.copies, row.sha256)
        ],
        versions,
    )


@router.post("/packages")
async def package_take_in(
    request: Request,
    app: TheApplication,
    intake: TheIntake,
    kits: TheKits,
    name: str = "package.ova",
) -> PackageView:
    """Take a package of one file in with a single request: the body is its bytes. Uploads that can
    be resumed: /take-ins/files.
    """
    size = request.headers.get("Content-Length", "")
    if not size.isdigit() or not 0 < int(size) <= 1 << 50:
        raise InputError(
            "the request must have the package's length (Content-Length)", code="upload-length"
        )
    title = (
        "".join(c for c in unquote(name).replace("\\", "/").rsplit("/", 1)[-1] if c.isprintable())[
            :200
        ]
        or "package"
    )
    row = await intake.begin("upload", title, [TakeInFile(title, int(size))])
    got = await intake.receive(row.id, 0, 0, _pieces(request))
    if got < int(size):
        await intake.stop(row.id)
        raise InputError(
            "the upload was interrupted", code="upload-cut", hint="Send the file again."
        )
    return await _ended(app, intake, kits, row.id)


async def _pieces(request: Request) -> AsyncIterator[bytes]:
    try:
        async for piece in request.stream():
            yield piece
    except ClientDisconnect:
        return


async def _ended(app: TheApplication, intake: Intake, kits: TheKits, ident: str) -> PackageView:
    ended = await intake.wait(ident)
    if ended.state != "done":
        raise FormatError(
            str(ended.problem.get("message", "the import was stopped")),
            code=str(ended.problem.get("code", "take-in-ended")),
            hint=str(ended.problem.get("hint", "")),
        )
    row = await package_of(app, ended.package)
    return await _view(app, kits, row, stored.contents_of(row))


@router.patch("/packages/{sha256}")
async def package_label(
    sha256: str, body: Label, app: TheApplication, kits: TheKits
) -> PackageView:
    """Set channel and note; of a file without a descriptor product and version too. Raises Conflict
    while plans name it.
    """
    row = await package_of(app, sha256)
    await package_library.rename(app, row, body.product.strip(), body.version.strip())
    await app.store.write(records.label_package, row.sha256, body.channel.strip(), body.note)
    return await package(row.sha256, app, kits)


@router.post("/packages/{sha256}/accept")
async def package_accept(
    sha256: str, body: Person, app: TheApplication, kits: TheKits
) -> PackageView:
    """Accept the licence text in a person's name; plans with this text need no further
    acceptance.
    """
    row = await package_of(app, sha256)
    await package_library.accept_licence(app, row, body.by)
    return await package(sha256, app, kits)


@router.delete("/packages/{sha256}")
async def package_remove(sha256: str, app: TheApplication, intake: TheIntake) -> dict[str, str]:
    """Remove a package that no plan and no run needs."""
    await package_library.remove(app, intake, sha256)
    return {"state": "removed"}


@router.get("/copies")
async def copy_list(app: TheApplication) -> list[CopyView]:
    """Copies of all packages on datastores."""
    return [
        CopyView(
            place=c.place,
            name=c.name,
            datastore=c.datastore,
            host=c.host,
            size=c.size,
            used_at=c.used_at,
            used_by=await copies.users(app, c),
        )
        for c in await app.store.read(library.copies)
    ]


class ClearedView(BaseModel):
    """How many copies were cleared, and why others stay."""

    cleared: int
    kept: list[str]


@router.delete("/packages/{sha256}/copies")
async def copy_clear(sha256: str, app: TheApplication) -> ClearedView:
    """Clear the copies that no node builds on and no run needs; what could not be cleared, with its
    reason.
    """
    row = await package_of(app, sha256)
    cleared, kept = await copies.clear(app, row.sha256)
    return ClearedView(cleared=cleared, kept=kept)


@router.get("/trust")
async def trust_list(app: TheApplication) -> list[TrustedView]:
    """The publishers and authorities this team trusts."""
    return [
        TrustedView(
            fingerprint=t.fingerprint, subject=t.subject, not_after=t.not_after, added_at=t.added_at
        )
        for t in await app.store.read(library.trusted)
    ]


@router.post("/trust")
async def trust_add(body: Pem, app: TheApplication) -> list[TrustedView]:
    """Trust certificates, given as PEM."""
    await package_library.trust(app, body.pem)
    return await trust_list(app)


@router.delete("/trust/{fingerprint}")
async def trust_drop(fingerprint: str, app: TheApplication) -> list[TrustedView]:
    """Trust a certificate no longer."""
    await package_library.distrust(app, fingerprint)
    return await trust_list(app)

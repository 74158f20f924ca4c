"""Packages: showing, comparing, labelling, removing; who is trusted; what lies on datastores."""

from __future__ import annotations

import asyncio
import datetime
from collections.abc import AsyncIterator
from dataclasses import replace
from urllib.parse import unquote

from fastapi import APIRouter, Request
from pydantic import BaseModel, Field
from starlette.requests import ClientDisconnect

from nimble_stone.app.application import Application
from nimble_stone.app.texts import parse_plan
from nimble_stone.core.errors import Conflict, FormatError, InputError, NotFound
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package import compare, signature
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.plan.packages import takes
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
from nimble_stone.store import library, records, runs
from nimble_stone.store.library import Accepted, TakeInFile, Trusted
from nimble_stone.store.records import PackageRow

router = APIRouter(tags=["packages"])


class Label(BaseModel):
    """The team's own words on a package."""

    channel: str = Field(default="", max_length=40)
    note: str = Field(default="", max_length=4000)


class Person(BaseModel):
    """Somebody who accepts."""

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


def _kits_for(row: PackageRow, kits: TheKits) -> list[Kit]:
    return [
        kit
        for kit in kits.values()
        if any(
            takes(accepts, row.product, row.version)
            for accepts in (kit.accepts, *(role.accepts for role in kit.roles if role.accepts))
        )
    ]


async def _plans_by_package(app: TheApplication) -> dict[str, list[str]]:
    """What plans call their package → plan ids."""
    found: dict[str, list[str]] = {}
    for plan in await app.store.read(records.plans):
        try:
            parsed = await parse_plan(plan.text)
            for wanted in {parsed.package, *(block.package for block in parsed.roles.values())} - {
                ""
            }:
                found.setdefault(wanted, []).append(plan.id)
        except (FormatError, InputError):
            continue
    return found


def _using(row: PackageRow, plans: dict[str, list[str]]) -> list[str]:
    return sorted(
        plan
        for wanted, ids in plans.items()
        for plan in ids
        if wanted == f"{row.product} {row.version}"
        or (len(wanted) >= 12 and row.sha256.startswith(wanted))
    )


async def _find(app: TheApplication, wanted: str) -> PackageRow:
    row = await app.store.read(records.find_package, wanted)
    if row is None:
        raise NotFound("no such package", hint="`nimble-stone package list` shows those there are.")
    return row


@router.get("/packages")
async def package_list(app: TheApplication, kits: TheKits) -> list[PackageItem]:
    """All packages: by product, newest first."""
    plans = await _plans_by_package(app)
    return [
        package_views.item(row, stored.contents_of(row), _kits_for(row, kits), _using(row, plans))
        for row in await app.store.read(records.packages)
    ]


@router.get("/packages/compare")
async def package_compare(old: str, new: str, app: TheApplication, kits: TheKits) -> CompareView:
    """What changed from one package to another."""
    plans = await _plans_by_package(app)
    rows = [await _find(app, old), await _find(app, new)]
    contents = [stored.contents_of(row) for row in rows]
    items = [
        package_views.item(row, own, _kits_for(row, kits), _using(row, plans))
        for row, own in zip(rows, contents, strict=True)
    ]
    return CompareView(
        old=items[0],
        new=items[1],
        changes=[
            ChangeView(group=c.group, kind=c.kind, what=c.what, before=c.before, after=c.after)
            for c in compare.compare(*contents)
        ],
    )


@router.get("/packages/{sha256}")
async def package(sha256: str, app: TheApplication, kits: TheKits, lang: str = "") -> PackageView:
    """One package, in a language where it has it."""
    row = await _find(app, sha256)
    return await _view(app, kits, row, stored.contents_of(row), lang)


async def _view(
    app: TheApplication, kits: TheKits, row: PackageRow, contents: Contents, lang: str = ""
) -> PackageView:
    plans = await _plans_by_package(app)
    trust = [
        certificate
        for t in await app.store.read(library.trusted)
        for certificate in signature.read_certificates(t.pem.encode())
    ]
    if lang:
        contents = await asyncio.to_thread(stored.in_language, app.packages, contents, lang[:20])
    try:
        signed = await asyncio.to_thread(
            stored.signature_now, app.packages, contents, trust, app.clock()
        )
    except FormatError:
        signed = signature.Signature(contents.integrity.signature, contents.integrity.signer)
    nodes: dict[str, int] = {}
    for run in await app.store.read(runs.runs):
        if run.state != "undone":
            own = run.own_packages
            for ident in run.doc["plan"].get("nodes", {}):
                made_from = own.get(ident.rpartition("-")[0], run.package)
                nodes[made_from] = nodes.get(made_from, 0) + 1
    versions = [
        VersionView(
            sha256=other.sha256,
            version=other.version,
            channel=other.channel,
            added_at=other.added_at,
            plans=_using(other, plans),
            nodes=nodes.get(other.sha256, 0),
            current=other.sha256 == row.sha256,
        )
        for other in await app.store.read(records.packages)
        if other.product == row.product
    ]
    view = package_views.view(
        row,
        contents,
        _kits_for(row, kits),
        _using(row, plans),
        signed,
        [],
        [
            (copy, await copies.users(app, copy))
            for copy in await app.store.read(library.copies, row.sha256)
        ],
        versions,
    )
    view.accepted = [
        package_views.AcceptedView(by=a.by, at=a.at, plan="")
        for a in await app.store.read(library.accepted, view.licence_sha256)
    ]
    view.accepted += await _accepted_in_plans(app, view.licence_sha256)
    return view


async def _accepted_in_plans(
    app: TheApplication, text_sha256: str
) -> list[package_views.AcceptedView]:
    """Who accepted the text for a single plan."""
    found = []
    for row in await app.store.read(records.plans):
        try:
            licence = (await parse_plan(row.text)).licence
        except (FormatError, InputError):
            continue
        if licence and text_sha256 and licence.text == text_sha256:
            found.append(
                package_views.AcceptedView(by=licence.by, at=_epoch(licence.at), plan=row.id)
            )
    return found


def _epoch(text: str) -> float:
    try:
        return datetime.datetime.fromisoformat(text).timestamp()
    except ValueError:
        return 0.0


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
    row = await _find(app, ended.package)
    return await _view(app, kits, row, stored.contents_of(row))


@router.patch("/packages/{sha256}")
async def package_label(
    sha256: str, body: Label, app: TheApplication, kits: TheKits
) -> PackageView:
    """Set channel and note."""
    row = await _find(app, sha256)
    await app.store.write(records.label_package, row.sha256, body.channel.strip(), body.note)
    return await package(row.sha256, app, kits)


@router.post("/packages/{sha256}/accept")
async def package_accept(
    sha256: str, body: Person, app: TheApplication, kits: TheKits
) -> PackageView:
    """Accept the licence text in a person's name; plans with this text need no further
    acceptance.
    """
    view = await package(sha256, app, kits)
    if not view.licence_sha256:
        raise Conflict("the package has no licence text to accept", code="no-licence")
    await app.store.write(
        library.put_accepted,
        Accepted(view.licence_sha256, body.by.strip(), app.clock(), view.sha256),
    )
    return await package(sha256, app, kits)


@router.delete("/packages/{sha256}")
async def package_remove(sha256: str, app: TheApplication, intake: TheIntake) -> dict[str, str]:
    """Remove a package that no plan and no run needs."""
    row = await _find(app, sha256)
    if users := _using(row, await _plans_by_package(app)):
        raise Conflict(
            f"the package is used by {', '.join(users[:5])}",
            code="package-in-use",
            hint="Choose another package in those plans first.",
        )
    if await app.store.read(library.copies, row.sha256):
        raise Conflict(
            "datastores still have cached images of the package",
            code="package-in-use",
            hint="Delete them first, on the package's page.",
        )
    await intake.remove(row.sha256)
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
    row = await _find(app, sha256)
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
    for certificate in signature.read_certificates(body.pem.encode()):
        await app.store.write(
            library.put_trusted,
            Trusted(
                signature.fingerprint(certificate),
                signature.name_of(certificate.subject),
                certificate.not_valid_after_utc.timestamp(),
                signature.pem(certificate),
                app.clock(),
            ),
        )
    await _judge_signatures_again(app)
    return await trust_list(app)


async def _judge_signatures_again(app: Application) -> None:
    """Which packages count as trusted follows the trust list: new plans choose by it."""
    trust = [
        certificate
        for t in await app.store.read(library.trusted)
        for certificate in signature.read_certificates(t.pem.encode())
    ]
    for row in await app.store.read(records.packages):
        contents = stored.contents_of(row)
        if contents.integrity.signature == "absent":
            continue
        try:
            signed = await asyncio.to_thread(
                stored.signature_now, app.packages, contents, trust, app.clock()
            )
        except (FormatError, OSError):
            # its files cannot be read: what was known stays
            continue
        if signed.state != contents.integrity.signature:
            integrity = replace(contents.integrity, signature=signed.state, signer=signed.signer)
            await app.store.write(
                records.renew_package,
                row.sha256,
                stored.dump(replace(contents, integrity=integrity)),
            )


@router.delete("/trust/{fingerprint}")
async def trust_drop(fingerprint: str, app: TheApplication) -> list[TrustedView]:
    """Trust a certificate no longer."""
    await app.store.write(library.drop_trusted, fingerprint)
    await _judge_signatures_again(app)
    return await trust_list(app)

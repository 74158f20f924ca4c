"""Packages: taking in while it streams, showing, removing."""

from __future__ import annotations

import asyncio
import os
import secrets
import shutil
from urllib.parse import unquote

from fastapi import APIRouter, Request
from starlette.requests import ClientDisconnect

from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.package.contents import Contents, Intake
from nimble_stone.core.units import size_text
from nimble_stone.engine import packages
from nimble_stone.server import planning
from nimble_stone.server.deps import TheKits, TheWorld
from nimble_stone.server.views import PackageView, package_view
from nimble_stone.store import records
from nimble_stone.store.records import PackageRow

router = APIRouter(tags=["packages"])
MARGIN = 256 << 20
BATCH = 1 << 20


async def _view(world: TheWorld, kits: TheKits, row: PackageRow) -> PackageView:
    fitting = [kit.title for kit in kits.values() if kit.accepts.product == row.product
               and (not kit.accepts.versions or row.version.startswith(kit.accepts.versions))]
    using = []
    for plan in await world.store.read(records.plans):
        wanted = planning.parse_plan(plan.text).package
        if wanted == f"{row.product} {row.version}" or (len(wanted) >= 12 and row.sha256.startswith(wanted)):
            using.append(plan.id)
    return package_view(row, fitting, using)


@router.get("/packages")
async def package_list(world: TheWorld, kits: TheKits) -> list[PackageView]:
    """All packages, newest first."""
    return [await _view(world, kits, row) for row in await world.store.read(records.packages)]


@router.get("/packages/{sha256}")
async def package(sha256: str, world: TheWorld, kits: TheKits) -> PackageView:
    """One package."""
    row = await world.store.read(records.find_package, sha256)
    if row is None:
        raise NotFound("no such package")
    return await _view(world, kits, row)


@router.post("/packages")
async def package_take_in(request: Request, world: TheWorld, kits: TheKits, name: str = "package.ova") -> PackageView:
    """Take an OVA in: the body is its bytes. Digests are verified while it streams; a failure leaves nothing behind."""
    announced = int(request.headers.get("Content-Length") or 0)
    free = shutil.disk_usage(world.packages).free
    if announced + MARGIN > free:
        raise Conflict(f"the package is {size_text(announced)} long, but only {size_text(free)} are free here", code="disk-full",
                       hint="Free space on the server's disk, or move its data folder.")
    part = world.packages / f"{secrets.token_hex(8)}.part"
    try:
        contents = await _receive(request, part)
        final = packages.file_of(world.packages, contents.sha256)
        os.replace(part, final)
        try:
            thin = await asyncio.to_thread(packages.thin_bytes, world.packages, contents)
        except BaseException:
            if await world.store.read(records.find_package, contents.sha256) is None:
                final.unlink(missing_ok=True)
            raise
    except ClientDisconnect as error:
        raise InputError("the upload was broken off", code="upload-cut", hint="Send the file again.") from error
    finally:
        part.unlink(missing_ok=True)
    own = contents.descriptor
    row = PackageRow(contents.sha256, own.product, own.version, packages.dump(contents), contents.size, thin, unquote(name)[:200], world.clock())
    await world.store.write(records.put_package, row)
    return await _view(world, kits, row)


async def _receive(request: Request, part: os.PathLike[str]) -> Contents:
    """Write the body to a file while it is read as an archive. The file is synced before it counts."""
    intake, batch, seen = Intake(), bytearray(), 0

    def take(data: bytes) -> None:
        intake.feed(data)
        file.write(data)
    with open(part, "xb") as file:
        async for piece in request.stream():
            batch += piece
            seen += len(piece)
            if len(batch) >= BATCH:
                await asyncio.to_thread(take, bytes(batch))
                batch.clear()
                if seen % (64 << 20) < BATCH and shutil.disk_usage(part).free < MARGIN:
                    raise Conflict("the disk ran full while the package came in", code="disk-full", hint="Free space on the server's disk.")
        await asyncio.to_thread(take, bytes(batch))
        file.flush()
        await asyncio.to_thread(os.fsync, file.fileno())
    return await asyncio.to_thread(intake.finish)


@router.delete("/packages/{sha256}")
async def package_remove(sha256: str, world: TheWorld) -> dict[str, str]:
    """Remove a package that no run needs."""
    await world.store.write(records.remove_package, sha256)
    packages.file_of(world.packages, sha256).unlink(missing_ok=True)
    return {"state": "removed"}

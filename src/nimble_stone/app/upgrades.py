"""Data of earlier versions, brought forward in numbered steps. Each is done once, after the
schema's own migrations and a copy of the database; nothing else knows the old shapes.

Add a step at the end of STEPS; never change or remove one.
"""

from __future__ import annotations

import asyncio
import logging
import os
from collections.abc import Awaitable, Callable, Mapping
from contextlib import ExitStack
from dataclasses import dataclass
from typing import Any

from nimble_stone.app.application import Application
from nimble_stone.app.claims import holding_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core.errors import StoneError
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.package.contents import Contents, examine
from nimble_stone.core.package.given import Given
from nimble_stone.core.runs import document
from nimble_stone.engine.frozen import made_from
from nimble_stone.packages import stored
from nimble_stone.packages.files import FileSource
from nimble_stone.store import designs, records, runs

log = logging.getLogger("nimble_stone.app")
DONE = "data-version"
"""Where the number of the last step that was done is kept."""


@dataclass(frozen=True)
class Ground:
    """What an upgrade works on."""

    app: Application
    kits: Mapping[str, Kit]


@dataclass(frozen=True)
class Upgrade:
    """One step: its number, what it does in words, and the work. Safe to be done again after it was
    broken off.
    """

    number: int
    what: str
    work: Callable[[Ground], Awaitable[None]]


async def bring_forward(app: Application, kits: Mapping[str, Kit]) -> None:
    """Do every step that was not done yet. What one of them cannot read stays as it is, and the log
    says so.
    """
    done = int(await app.store.read(records.get_meta, DONE) or 0)
    open_steps = [step for step in STEPS if step.number > done]
    if not open_steps:
        return
    await app.store.copy_before(f"data-{STEPS[-1].number}")
    ground = Ground(app, kits)
    for step in open_steps:
        log.info("upgrade %s: %s", step.number, step.what)
        await step.work(ground)
        await app.store.write(records.put_meta, DONE, str(step.number))


async def _packages(ground: Ground) -> None:
    app = ground.app
    (app.packages / "blobs").mkdir(exist_ok=True, mode=0o700)
    for old in app.packages.glob("*.ova"):
        os.replace(old, stored.blob(app.packages, old.stem))
    for row in await app.store.read(records.packages):
        path = stored.blob(app.packages, row.sha256)
        if "format" in row.doc or not path.exists():
            continue
        contents = await asyncio.to_thread(_examined, row, app)
        await app.store.write(records.renew_package, row.sha256, stored.dump(contents))


def _examined(row: records.PackageRow, app: Application) -> Contents:
    with ExitStack() as stack:
        path = stored.blob(app.packages, row.sha256)
        descriptor = os.open(path, os.O_RDONLY | os.O_CLOEXEC)
        stack.callback(os.close, descriptor)
        return examine([Given(row.file_name, FileSource(descriptor), row.sha256)])


async def _claims(ground: Ground) -> None:
    app = ground.app
    known = {claim.plan for claim in await app.store.read(designs.claims)}
    for row in await app.store.read(records.plans):
        if row.id in known:
            continue
        try:
            resolved = await evaluate(app, ground.kits, row.text)
        except StoneError as error:
            log.warning("plan %s holds nothing: %s", row.id, error)
            continue
        await app.store.write(designs.hold, resolved.sheet.plan.name, holding_of(resolved))


def _renewed(row: runs.RunRow, found: Mapping[str, records.PackageRow]) -> dict[str, Any]:
    return document.renewed(row.doc, made_from(row, found))


async def _documents(ground: Ground) -> None:
    app = ground.app
    for row in await app.store.read(runs.runs, "", kind="rollout"):
        if row.doc.get("version", 1) >= document.VERSION:
            continue
        try:
            found = await app.store.read(records.packages_of, row.packages)
            doc = await asyncio.to_thread(_renewed, row, found)
        except (KeyError, StoneError) as error:
            log.warning("the document of run %s stays as it is: %s", row.id, error)
            continue
        await app.store.write(runs.renew_document, row.id, doc)


STEPS = (
    Upgrade(1, "package files by their digest, contents read again", _packages),
    Upgrade(2, "plans hold what they mean to build", _claims),
    Upgrade(3, "documents of runs hold resolved nodes", _documents),
)

"""System disks that upgrades left behind: each keeps the one before, so that it can be rolled back.
They take room until a person no longer wants that.
"""

from __future__ import annotations

import asyncio
from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing, under_way
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.errors import Conflict, InputError
from nimble_stone.engine import retiring
from nimble_stone.engine.frozen import thawed
from nimble_stone.engine.steps.context import volume_of
from nimble_stone.store import records, runs

GONE = "former-gone/"
"""Where it is noted that a run's rollback lacks a disk: one that was removed."""


@dataclass(frozen=True)
class FormerDisk:
    """A volume that a node no longer uses. `made_by`: the run it is from; `needed_by`: the upgrade
    whose rollback needs it; bytes as they lie there.
    """

    node: str
    name: str
    host: str
    datastore: str
    volume: str
    physical_bytes: int
    made_by: str
    needed_by: str


async def look(app: Application, plan: str) -> list[FormerDisk]:
    """Those that are there, by their hosts' own account. Raises RemoteError."""
    nodes = [one for one in (await standing(app, plan)).values() if one.node.disks_of]
    found = await asyncio.gather(*(_of(app, one) for one in nodes))
    return [disk for disks in found for disk in disks]


async def _of(app: Application, one: BuiltNode) -> list[FormerDisk]:
    """A node's, the newest first: each upgrade names the run whose disk it replaced."""
    host = await app.driver(await app.host(one.node.value("host")))
    datastore, name = one.node.value("datastore"), one.node.name
    await host.storage.refresh(datastore)
    found, run = [], one.run
    while run:
        frozen = await thawed(app.store, await app.store.read(runs.get_run, run))
        change = frozen.change
        former = change.built[one.node.id] if change and one.node.id in change.upgrades else ""
        if not former:
            break
        before = await thawed(app.store, await app.store.read(runs.get_run, former))
        package = before.sheet.packages.of(one.node.role)
        own = len(package.descriptor.disk_order) if package else 0
        for what in (*(f"disk{number}" for number in range(own)), "config"):
            volume = volume_of(former, f"{name}-{what}")
            there = await host.storage.volume(datastore, volume)
            if there is not None:
                size = there.physical_bytes
                found.append(
                    FormerDisk(one.node.id, name, host.name, datastore, volume, size, former, run)
                )
        run = former
    return found


async def remove(app: Application, plan: str, confirm: str) -> Sequence[FormerDisk]:
    """Delete them. Upgrades that need them can no longer be rolled back. Raises InputError without
    the plan's name, Conflict while a run of the plan goes on or it is being retired, RemoteError.
    """
    if confirm != plan:
        raise InputError(
            "Upgrades whose former system disks are gone cannot be rolled back.",
            code="confirm",
            hint=f"Type the plan's name: {plan}",
        )
    if await under_way(app, plan) or await retiring.asked(app, plan):
        raise Conflict(
            f"a run of {plan} is in progress", code="run-exists", hint="Wait until it has ended."
        )
    found = await look(app, plan)
    for disk in found:
        host = await app.driver(await app.host(disk.host))
        users = await host.preparation.vms_with_disk(disk.datastore, disk.volume)
        if users:
            raise Conflict(
                f"{disk.volume} on {disk.host} is a disk of {', '.join(users)}",
                code="in-use",
                hint=f"Take it from {users[0]}, then try again.",
            )
        await app.store.write(records.put_meta, GONE + disk.needed_by, disk.volume)
        await host.storage.delete(disk.datastore, disk.volume)
    return found


async def check_kept(app: Application, run: str) -> None:
    """What a rollback of a run needs was not removed. Raises Conflict."""
    volume = await app.store.read(records.get_meta, GONE + run)
    if volume:
        raise Conflict(
            f"Run {run} cannot be rolled back: {volume} and other former disks were removed.",
            code="former-gone",
            hint="Choose the former version in the plan, or retire the deployment.",
        )

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
from nimble_stone.core.estate import Facts
from nimble_stone.core.plan.sheet import Node
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
    """A node's, the newest first: each upgrade names the run whose disk it replaced, and where the
    node was then.
    """
    ident, run = one.node.id, one.run
    found: list[FormerDisk] = []
    while run:
        change = (await thawed(app.store, await app.store.read(runs.get_run, run))).change
        if change is None or ident not in change.upgrades:
            break
        was, former = change.before(ident), change.built[ident]
        before = await thawed(app.store, await app.store.read(runs.get_run, former))
        package = before.sheet.packages.of(was.role)
        own = len(package.descriptor.disk_order) if package else 0
        names = [f"disk{number}" for number in range(own)]
        found += await _lying(app, was, [*names, "config"], former, run)
        run = former
    return found


async def _lying(
    app: Application, was: Node, names: Sequence[str], made_by: str, needed_by: str
) -> list[FormerDisk]:
    """Those of some volumes that are there."""
    host = await app.driver(await app.host(was.value("host")))
    datastore = was.value("datastore")
    await host.storage.refresh(datastore)
    found = []
    for name in names:
        volume = volume_of(made_by, f"{was.name}-{name}")
        there = await host.storage.volume(datastore, volume)
        if there is not None:
            size = there.physical_bytes
            found.append(
                FormerDisk(was.id, was.name, host.name, datastore, volume, size, made_by, needed_by)
            )
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
    used = {name: await _used_on(app, name) for name in dict.fromkeys(one.host for one in found)}
    for disk in found:
        if disk.volume in used[disk.host]:
            raise Conflict(
                f"{disk.volume} on {disk.host} is a disk of a VM",
                code="in-use",
                hint="Take it from that VM, then try again.",
            )
    for disk in found:
        host = await app.driver(await app.host(disk.host))
        await app.store.write(records.put_meta, GONE + disk.needed_by, disk.volume)
        await host.storage.delete(disk.datastore, disk.volume)
    return found


async def _used_on(app: Application, name: str) -> set[str]:
    """Volumes that VMs of a host have, by their last names: those carry our mark."""
    host = await app.driver(await app.host(name))
    facts = await host.reading.facts(app.clock(), Facts(host=name, domain_type="qemu"))
    return {disk.rpartition("/")[2] for guest in facts.guests for disk in guest.disks}


async def check_kept(app: Application, run: str) -> None:
    """What a rollback of a run needs was not removed. Raises Conflict."""
    volume = await app.store.read(records.get_meta, GONE + run)
    if volume:
        raise Conflict(
            f"Run {run} cannot be rolled back: {volume} and other former disks were removed.",
            code="former-gone",
            hint="Choose the former version in the plan, or retire the deployment.",
        )

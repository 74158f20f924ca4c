"""Whether what a finished step made is still there. Changes nothing."""

from __future__ import annotations

from collections.abc import Awaitable, Callable

from nimble_stone.engine.steps.context import Context
from nimble_stone.engine.steps.disks import node_disks
from nimble_stone.packages import copies, stored


async def _carry(c: Context) -> bool:
    """The copies on the datastore."""
    await c.host.storage.refresh(c.step.datastore)
    names = [copies.name_of(c.contents.sha256, disk) for disk in stored.disk_ids(c.contents)]
    found = [await c.host.storage.volume(c.step.datastore, name) for name in names]
    return all(found)


async def _clone(c: Context) -> bool:
    """All disks of the node."""
    disks = node_disks(c)
    for store in dict.fromkeys(disk.datastore for disk in disks):
        await c.host.storage.refresh(store)
    found = [await c.host.storage.volume(disk.datastore, disk.volume) for disk in disks]
    return all(found)


async def _medium(c: Context) -> bool:
    """The config ISO."""
    await c.host.storage.refresh(c.step.datastore)
    name = c.volume(f"{c.node.name}-config")
    return await c.host.storage.volume(c.step.datastore, name) is not None


async def _define(c: Context) -> bool:
    """A VM of that name. One that is not ours is there too: the step itself says whose it is."""
    return await c.host.vms.find(c.node.name) is not None


async def _swap(c: Context) -> bool:
    """The VM is of this run, with its new system disk."""
    found = await c.host.vms.find(c.node.name)
    return found is not None and found.is_of(c.maker)


async def _start(c: Context) -> bool:
    """It runs."""
    return await c.host.vms.running(c.node.name)


STANDS: dict[str, Callable[[Context], Awaitable[bool]]] = {
    "carry": _carry,
    "clone": _clone,
    "medium": _medium,
    "define": _define,
    "swap": _swap,
    "start": _start,
}

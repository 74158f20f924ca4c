"""A VM goes to another host or datastore: it is off meanwhile, and its disks are copied by this
server, except those on a datastore that both hosts have.
"""

from __future__ import annotations

from collections.abc import AsyncIterator
from dataclasses import dataclass, replace

from nimble_stone.core.change_sequence import FROM_HOST, FROM_STORE
from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.engine.steps import past, vms
from nimble_stone.engine.steps.context import Context, Found, Kind, our_vm, remove_volume
from nimble_stone.engine.steps.disks import NodeDisk, keeps_data, kept_words, node_disks
from nimble_stone.engine.steps.returning import back
from nimble_stone.engine.steps.upgrading import DEFINES
from nimble_stone.hosts.api import Vm
from nimble_stone.store import records

COPY_S = 6 * 3600
"""The longest that one disk may take to be copied."""


class Move:
    """The VM is defined where it is planned, with all its disks, and nowhere else."""

    async def observe(self, c: Context) -> Found | None:
        """It is, with its disks there."""
        found = await _ours(c)
        if found is None or not {_source(one) for one in node_disks(c)} <= set(found.sources):
            return None
        there = await _before(c)
        if there.host.name != c.host.name and await there.host.vms.find(c.node.name) is not None:
            return None
        return {"way": f"from {there.host.name} to {c.host.name}"}

    async def act(self, c: Context) -> None:
        """Shut it down, copy what is not there, define it there, and remove its definition here.
        Raises Conflict for a VM or a volume that is not ours, RemoteFailed.
        """
        await _relocated(await _before(c), c)

    async def undo(self, c: Context) -> str:
        """It is where it was, with what it has written since, and runs. One that was removed
        meanwhile is not brought back.
        """
        before = await _before(c)
        if await _ours(c) is None and await _ours(before) is None:
            # what lies where it was is of the run that made it
            keeps = await keeps_data(c)
            await _cleared(before, c, data=not keeps)
            return await kept_words(c) if keeps else ""
        await _relocated(c, before)
        if not await before.host.vms.running(c.node.name):
            await before.host.vms.start(c.node.name)
        await back(before)
        await _cleared(before, c)
        return f"{c.node.name} is on {before.host.name} again"


class Clear:
    """What a moved VM left behind is gone."""

    async def observe(self, c: Context) -> Found | None:
        """Known only after it was removed."""
        return {} if c.acted else None

    async def act(self, c: Context) -> None:
        """Remove the former disks, unless the VM is not where it should be."""
        found = await _ours(c)
        if found is None:
            raise Conflict(
                f"VM {c.node.name} is not on {c.host.name}; its former disks are left unchanged",
                code="not-ours",
                hint="See where it is.",
            )
        await _cleared(c, await _before(c))

    async def undo(self, c: Context) -> str:
        """They come back when the move is rolled back."""
        return ""


async def _before(c: Context) -> Context:
    """The step as it would be carried out where the node was."""
    assert c.run.change is not None
    name, store = c.step.detail[FROM_HOST], c.step.detail[FROM_STORE]
    former = next(one for one in c.run.change.former if one.id == c.node.id)
    nodes = tuple(former if one.id == former.id else one for one in c.run.sheet.nodes)
    return replace(
        c,
        run=replace(c.run, sheet=replace(c.run.sheet, nodes=nodes)),
        step=replace(c.step, host=name, datastore=store),
        host=await c.ports.driver(await c.ports.host(name), c.record),
        answer={},
    )


async def _ours(c: Context) -> Vm | None:
    return await our_vm(c, c.maker)


async def _relocated(source: Context, target: Context) -> None:
    """From where it is to where it should be; safe to be begun again at any point."""
    name = source.node.name
    here, there = await _ours(source), await _ours(target)
    if here is None:
        if there is None:
            raise RemoteFailed(
                f"VM {name} is neither on {source.host.name} nor on {target.host.name}",
                target=name,
                code="guest-gone",
                hint="Make the node again.",
            )
        return
    if await source.host.vms.running(name):
        await vms.shut_down(source)
    for pair in await _pairs(source, target):
        await _copied(source, target, pair)
    same_host = source.host.name == target.host.name
    await vms.Define().define(await _defining(target), here.uuid)
    if not same_host:
        await source.host.vms.remove(name, source.maker)


async def _defining(c: Context) -> Context:
    """The step that defined the VM, for where it is to be now."""
    before = await past.earlier(c, c.maker, c.node)
    before = replace(
        before,
        domain_types={**before.domain_types, **c.run.domain_types},
        processors={**before.processors, **c.run.processors},
    )
    own = [step for step in before.steps.values() if step.node == c.node.id]
    return await past.at(c, before, next(step for step in own if step.kind in DEFINES))


@dataclass(frozen=True)
class _Pair:
    """A volume that is to be on another datastore."""

    volume: str
    was: str
    now: str


async def _pairs(source: Context, target: Context) -> list[_Pair]:
    """What has to be copied: disks and the config ISO, but for datastores that both hosts have."""
    facts = (await source.ports.store.read(records.load_estate)).facts

    def place(host: str, store: str) -> str:
        found = facts[host].datastore(store) if host in facts else None
        return (found.shared if found else "") or f"{host}/{store}"

    config = source.volume(f"{source.node.name}-config")
    was = [*node_disks(source), NodeDisk(config, "", 0, source.step.datastore)]
    now = [*node_disks(target), NodeDisk(config, "", 0, target.step.datastore)]
    return [
        _Pair(old.volume, old.datastore, new.datastore)
        for old, new in zip(was, now, strict=True)
        if place(source.host.name, old.datastore) != place(target.host.name, new.datastore)
    ]


async def _copied(source: Context, target: Context, pair: _Pair) -> None:
    """The volume lies there as it lies here; both hosts' digests say so. Raises RemoteFailed."""
    await source.host.storage.refresh(pair.was)
    await target.host.storage.refresh(pair.now)
    volume = await source.host.storage.volume(pair.was, pair.volume)
    if volume is None:
        raise RemoteFailed(
            f"volume {pair.volume} is not on {pair.was} of {source.host.name}",
            target=source.host.name,
            hint="Make the node again.",
        )
    wanted = await source.host.storage.digest(volume.path)
    there = await target.host.storage.volume(pair.now, pair.volume)
    if there is not None and await target.host.storage.digest(there.path) == wanted:
        return
    await remove_volume(target, pair.volume, pair.now)
    storage = target.host.storage
    if volume.format == storage.disk_format:
        await storage.create_disk(pair.now, pair.volume, volume.capacity_bytes)
    else:
        await storage.create_image(pair.now, pair.volume, volume.physical_bytes)
    pieces: AsyncIterator[bytes] = source.host.storage.download(
        pair.was, pair.volume, limit_s=COPY_S
    )
    await target.host.storage.upload(
        pair.now,
        pair.volume,
        pieces,
        limit_s=COPY_S,
        sent=target.transfer(volume.physical_bytes),
    )
    await target.host.storage.refresh(pair.now)
    there = await target.host.storage.volume(pair.now, pair.volume)
    if there is None or await target.host.storage.digest(there.path) != wanted:
        raise RemoteFailed(
            f"{pair.volume} on {target.host.name} is not what was copied from {source.host.name}",
            target=target.host.name,
            hint="Retry copies it again.",
            code="copy-differs",
        )


async def _cleared(kept: Context, left: Context, *, data: bool = True) -> None:
    """The volumes at the place that was left are gone; those of shared datastores are the same.
    `data`: those that the plan added too.
    """
    stay = {disk.volume for disk in node_disks(left) if not data and not disk.ident}
    for pair in await _pairs(left, kept):
        if pair.volume not in stay:
            await left.host.storage.refresh(pair.was)
            await remove_volume(left, pair.volume, pair.was)


def _source(disk: NodeDisk) -> str:
    return f"{disk.datastore}/{disk.volume}"


KINDS: dict[str, Kind] = {"move": Move(), "clear": Clear()}

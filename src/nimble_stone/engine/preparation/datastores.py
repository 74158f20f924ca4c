"""Datastores of a host: made, renamed, started, and the volume that fences by them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain
from nimble_stone.engine.preparation.disks import disk_now
from nimble_stone.engine.preparation.sequence import before_of
from nimble_stone.hosts.api import HostDriver
from nimble_stone.hosts.work import Command, Op
from nimble_stone.store import records, runs


@dataclass(frozen=True)
class Wanted:
    """A datastore that is to be: its name, its path on the host, the export it mounts."""

    name: str
    path: str
    export: str


class Store(Plain):
    """A datastore that is made."""

    def _wanted(self, c: Context) -> Wanted:
        action = c.action
        assert isinstance(action, prep.FolderStore | prep.NfsStore | prep.DiskStore)
        export = f"{action.server}:{action.export}" if isinstance(action, prep.NfsStore) else ""
        return Wanted(action.name, c.host.preparation.store_path(action), export)

    async def observe(self, c: Context) -> Found | None:
        """It is defined, started, and lies where it is to lie. Raises Conflict when another one has
        the name.
        """
        wanted = self._wanted(c)
        name, path, export = wanted.name, wanted.path, wanted.export
        found = await c.host.preparation.store(name)
        if found is None:
            return None
        if (export and found.shared != export) or (not export and found.path.rstrip("/") != path):
            raise Conflict(
                f"{c.step.host} has a datastore {name} at {found.shared or found.path}",
                code="name-taken",
                hint="Choose another name.",
            )
        return (
            {"capacity": found.capacity_bytes, "free": found.free_bytes}
            if await c.host.preparation.store_ready(name)
            else None
        )

    async def act(self, c: Context) -> None:
        """A disk is looked at again right before it is formatted; one that bears our mark was
        formatted by an earlier try.
        """
        action, done = c.action, set[Op]()
        if isinstance(action, prep.DiskStore):
            if await self._disk_ours(c, action):
                done = {Op.FORMAT_DISK}
            elif (disk := await disk_now(c, action.device)).use != "free" or (
                await c.host.preparation.signatures(action.device)
            ):
                raise Conflict(
                    f"{action.device} on {c.step.host} is not free:"
                    f" {disk.why or 'it is formatted'}",
                    code="disk-in-use",
                    hint="Choose another disk.",
                )
        for command in c.work.act(without=done):
            await c.host.preparation.send(command)

    async def _disk_ours(self, c: Context, action: prep.DiskStore) -> bool:
        return (await c.host.preparation.signatures(action.device)).get("UUID") == c.uuid(
            "disk", action.name
        )

    async def _pool_ours(self, c: Context) -> bool:
        name = self._wanted(c).name
        found = await c.host.preparation.store(name)
        return found is not None and found.uuid == c.uuid("pool", name)

    async def ours(self, c: Context) -> bool:
        """The pool by its UUID, or its disk by that of the file system."""
        action = c.action
        return await self._pool_ours(c) or (
            isinstance(action, prep.DiskStore) and await self._disk_ours(c, action)
        )

    async def stays(self, c: Context) -> str:
        """Something lies in it."""
        wanted = self._wanted(c)
        if not await self._pool_ours(c):
            return ""
        # an export belongs to others too: what lies in it is no reason to keep the mount
        if not wanted.export:
            inside = await c.host.preparation.contents(wanted.path)
            if found := [item for item in inside if item != "lost+found"]:
                return f"something lies in it: {', '.join(found[:3])}"
        return await used(c, wanted.name)

    async def undoing(self, c: Context) -> Sequence[Command]:
        """The pool where it bears our mark, and the file system where that does."""
        action = c.action
        if not isinstance(action, prep.DiskStore):
            return c.work.undo()
        mine = [Op.DEFINE_POOL] if await self._pool_ours(c) else []
        if await self._disk_ours(c, action):
            mine.append(Op.FORMAT_DISK)
        return c.work.undo(mine)


class Rename(Plain):
    """Another name for a datastore."""

    async def observe(self, c: Context) -> Found | None:
        """It has the new name, and is started."""
        action = c.action
        assert isinstance(action, prep.RenameStore)
        there = (
            await c.host.preparation.store(action.to) is not None
            and await c.host.preparation.store(action.name) is None
        )
        return (
            {"name": action.to}
            if there and await c.host.preparation.store_ready(action.to)
            else None
        )

    async def act(self, c: Context) -> None:
        """Not while a guest uses it by name."""
        action = c.action
        assert isinstance(action, prep.RenameStore)
        if why := await used(c, action.name):
            raise Conflict(
                f"{c.step.host}: {action.name}: {why}",
                code="in-use",
                hint="Keep the name, or change those VMs first.",
            )
        await super().act(c)

    async def ours(self, c: Context) -> bool:
        """It has the new name by us, or neither name because a try was cut."""
        action, before = c.action, before_of(c.step)
        assert isinstance(action, prep.RenameStore)
        old, new = (
            await c.host.preparation.store(action.name),
            await c.host.preparation.store(action.to),
        )
        return old is None and (new is None or (before is not None and new.uuid == before.uuid))

    async def stays(self, c: Context) -> str:
        """The same for the way back."""
        action = c.action
        assert isinstance(action, prep.RenameStore)
        return await used(c, action.to)


@dataclass(frozen=True)
class _Sharing:
    """Another host that has a datastore, and what it is called there."""

    driver: HostDriver
    datastore: str


class Fence(Plain):
    """A small shared volume that every host sees."""

    async def observe(self, c: Context) -> Found | None:
        """It is there, and all hosts of the bay that share the datastore see it. Raises
        RemoteFailed for one that does not.
        """
        action = c.action
        assert isinstance(action, prep.FencingVolume)
        volume = prep.fence_name(action)
        await c.host.storage.refresh(action.datastore)
        if await c.host.storage.volume(action.datastore, volume) is None:
            return None
        others = await self._others(c)
        for other in others:
            await other.driver.storage.refresh(other.datastore)
            if await other.driver.storage.volume(other.datastore, volume) is None:
                raise RemoteFailed(
                    f"{other.driver.name} does not see {volume} on {other.datastore}, though it"
                    " mounts the same export",
                    target=other.driver.name,
                    hint="See what it has mounted there; then retry.",
                )
        return {"seen_by": 1 + len(others)}

    async def stays(self, c: Context) -> str:
        """VMs use it. A hypervisor would remove it under them."""
        action = c.action
        assert isinstance(action, prep.FencingVolume)
        volume = prep.fence_name(action)
        names = await c.host.preparation.vms_with_disk(action.datastore, volume)
        for other in await self._others(c):
            names += await other.driver.preparation.vms_with_disk(other.datastore, volume)
        return f"VMs use it: {', '.join(names[:4])}" if names else ""

    async def _others(self, c: Context) -> list[_Sharing]:
        """The other hosts of the bay that have the datastore, and what it is called there."""
        action = c.action
        assert isinstance(action, prep.FencingVolume)
        estate = await c.ports.store.read(records.load_estate)
        mine, here = estate.facts[c.step.host].datastore(action.datastore), await c.estate_host()
        found = []
        if mine is None or not mine.shared:
            # a datastore of its own is seen by nobody else
            return []
        for host in estate.bay(here.bay):
            facts = estate.facts.get(host.name)
            if host.name == here.name or facts is None or facts.trouble:
                continue
            stores = [one for one in facts.datastores if one.shared == mine.shared and one.active]
            if stores:
                found.append(_Sharing(await c.ports.driver(host, c.record), stores[0].name))
        return found

    async def ours(self, c: Context) -> bool:
        """A volume cannot bear a run's mark beyond its name: it is another run's when one that
        stands made it.
        """
        for row in await c.ports.store.read(runs.runs, kind="groundwork"):
            tries: int = await c.ports.store.read(runs.acted, row.id, c.step.key)
            if tries and row.id != c.run and row.state != RunState.UNDONE:
                return False
        return True


class StartStore(Plain):
    """A datastore that is defined is started."""

    async def observe(self, c: Context) -> Found | None:
        """It is started."""
        return {} if await c.host.preparation.store_ready(prep.target(c.action)) else None

    async def stays(self, c: Context) -> str:
        """It is in use by now."""
        return await used(c, prep.target(c.action))


async def used(c: Context, name: str) -> str:
    """Which VMs have disks on a datastore, in words; '' when there are none."""
    users = await c.host.preparation.vms_on_store(name)
    return f"VMs use it: {', '.join(users[:4])}" if users else ""


KINDS: dict[str, Kind] = {
    "datastore-folder": Store(),
    "datastore-disk": Store(),
    "datastore-nfs": Store(),
    "rename-datastore": Rename(),
    "start-datastore": StartStore(),
    "fencing-volume": Fence(),
}

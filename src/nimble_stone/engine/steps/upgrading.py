"""A VM gets another system disk, and keeps its further disks, its name and its place."""

from __future__ import annotations

from nimble_stone.core.errors import Conflict, RemoteFailed
from nimble_stone.engine.steps import past, vms
from nimble_stone.engine.steps.context import Context, Found, Kind, our_vm
from nimble_stone.engine.steps.disks import node_disks
from nimble_stone.engine.steps.returning import back

DEFINES = ("define", "swap")


class Swap:
    """The VM is defined with the system disk of this run; its data disks are those it had. The
    former system disk stays on its datastore, so that a rollback can bring it back.
    """

    def __init__(self) -> None:
        self._define = vms.Define()

    async def observe(self, c: Context) -> Found | None:
        """The VM bears this run's mark. Raises Conflict for a foreign one."""
        found = await c.host.vms.find(c.node.name)
        if found is not None and found.is_of(_former(c)):
            return None
        return await self._define.observe(c)

    async def act(self, c: Context) -> None:
        """Have its system shut down, then define it anew. Raises RemoteFailed where it does not
        shut down, Conflict for a VM that is not ours.
        """
        found = await our_vm(c, _former(c))
        if found is not None and await c.host.vms.running(c.node.name):
            await vms.shut_down(c)
        await self._define.act(c, found.uuid if found else "")

    async def undo(self, c: Context) -> str:
        """It is as it was before, and runs. What does not shut down is switched off: the version
        that it runs may be broken. A VM that was removed meanwhile is not brought back.
        """
        name, former = c.node.name, _former(c)
        found = await c.host.vms.find(name)
        if found is None:
            await c.host.vms.remove(name, c.run.id, c.step.datastore)
            return ""
        if not found.is_of(former):
            await our_vm(c, c.run.id)
            before = await self._before(c, former)
            await _still_there(before)
            if await c.host.vms.running(name):
                await _off(c)
            await self._define.act(before, found.uuid)
        if not await c.host.vms.running(name):
            await c.host.vms.start(name)
        await back(c)
        return f"{name} has its former system disk again"

    async def _before(self, c: Context, former: str) -> Context:
        """The step that defined the VM before, for the node as it was in the end."""
        assert c.run.change is not None
        node = next(one for one in c.run.change.former if one.id == c.node.id)
        before = await past.earlier(c, former, node)
        own = [step for step in before.steps.values() if step.node == node.id]
        return await past.at(c, before, next(step for step in own if step.kind in DEFINES))


def _former(c: Context) -> str:
    """The run whose mark the VM bears before this one."""
    assert c.run.change is not None
    return c.run.change.built[c.node.id]


async def _still_there(before: Context) -> None:
    """What it had before is there. Raises Conflict before anything is switched off."""
    for disk in node_disks(before):
        await before.host.storage.refresh(disk.datastore)
        if await before.host.storage.volume(disk.datastore, disk.volume) is None:
            raise Conflict(
                f"the former disk {disk.volume} of {before.node.name} is gone; its version is not"
                " brought back",
                code="former-gone",
                hint="Choose the former version in the plan, or retire the deployment.",
            )


async def _off(c: Context) -> None:
    try:
        await vms.shut_down(c)
    except RemoteFailed as error:
        if error.code != "not-shut-down":
            raise
        await c.host.vms.cut(c.node.name)


KINDS: dict[str, Kind] = {"swap": Swap()}

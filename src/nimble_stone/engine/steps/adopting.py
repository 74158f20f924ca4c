"""A VM that others made becomes a node: it is marked, and nothing else of it changes."""

from __future__ import annotations

from nimble_stone.core.change_sequence import UUID
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import Mark
from nimble_stone.core.units import count_text
from nimble_stone.engine import retiring
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.disks import keeps_data, kept_words, node_disks


class Adopt:
    """The VM bears our mark."""

    async def observe(self, c: Context) -> Found | None:
        """That very VM bears it."""
        found = await c.host.vms.find(c.node.name)
        ours = found is not None and found.uuid == c.step.detail[UUID] and found.is_of(c.maker)
        return {"uuid": found.uuid} if found is not None and ours else None

    async def act(self, c: Context) -> None:
        """Mark it. Raises Conflict for a VM that is gone, another one, or bears a mark."""
        mark = Mark(run=c.maker, node=c.node.id, plan=c.run.sheet.plan.name)
        await c.host.vms.adopt(c.node.name, c.step.detail[UUID], mark)

    async def undo(self, c: Context) -> str:
        """Release it: it runs on as it was found. Where the whole deployment is retired it is gone
        already, and its disks go.
        """
        if await retiring.asked(c.ports, c.run.sheet.plan.name):
            return await Adopted().undo(c)
        gone = await c.host.vms.release(c.node.name, c.maker)
        return f"VM {c.node.name} released; it stays on {c.host.name}" if gone else ""


class Adopted(Adopt):
    """The same of a node that a run removes, or makes again."""

    async def undo(self, c: Context) -> str:
        """The VM and the disks that it had are deleted. Raises Conflict for a disk that another VM
        has.
        """
        await c.host.vms.remove(c.node.name, c.maker)
        gone, keeps = 0, await keeps_data(c)
        for disk in node_disks(c):
            if not disk.found or (keeps and not disk.ident):
                continue
            await c.host.storage.refresh(disk.datastore)
            if await c.host.storage.volume(disk.datastore, disk.volume) is None:
                continue
            if users := await c.host.preparation.vms_with_disk(disk.datastore, disk.volume):
                raise Conflict(
                    f"disk {disk.volume} of {c.node.name} is also a disk of {', '.join(users)};"
                    " it is left unchanged",
                    code="not-ours",
                    hint=f"Take it from {users[0]}, then retry.",
                )
            await c.host.storage.delete_adopted(disk.datastore, disk.volume)
            gone += 1
        removed = f"{count_text(gone, 'disk')} of {c.node.name} removed" if gone else ""
        return "; ".join(filter(None, (removed, await kept_words(c) if keeps else "")))


KINDS: dict[str, Kind] = {"adopt": Adopt()}

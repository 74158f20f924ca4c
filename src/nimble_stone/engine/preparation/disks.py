"""Disks of a host: emptied, and looked at again right before they are used."""

from __future__ import annotations

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.core.estate import BlockDevice
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain
from nimble_stone.store import runs


class Wipe(Plain):
    """A disk without signatures."""

    async def observe(self, c: Context) -> Found | None:
        """Nothing is on it. Raises Conflict when it is not what was confirmed; then nothing was
        begun either.

        An earlier try that was cut may have left the partition table alone; that much may differ.
        """
        action = c.action
        assert isinstance(action, prep.WipeDisk)
        disk = await disk_now(c, action.device)
        if disk.use == "free" or c.acted:
            return {"free": action.device} if disk.use == "free" else None
        tries: int = await c.ports.store.read(runs.acted, c.run, c.step.key)
        cut = tries > 0 and disk.why.startswith("a partition table")
        if (
            disk.use != "remains"
            or (disk.serial, disk.size_bytes) != (action.serial, action.size_bytes)
            or not (disk.why == action.content or cut)
        ):
            raise Conflict(
                f"{action.device} on {c.step.host} is not what was confirmed:"
                f" {disk.why or disk.use}, serial {disk.serial or 'none'}",
                code="disk-changed",
                hint="Refresh the host and check.",
            )
        return None

    async def undo(self, c: Context) -> str:
        """There is no way back."""
        return f"{c.step.label}: the data cannot be restored"


async def disk_now(c: Context, device: str) -> BlockDevice:
    """A disk as it is now. Raises Conflict when it is gone."""
    disk = await c.host.preparation.disk(device)
    if disk is None:
        raise Conflict(
            f"{c.step.host} has no disk {device} now", code="disk-gone", hint="Refresh the host."
        )
    return disk


KINDS: dict[str, Kind] = {"wipe-disk": Wipe()}

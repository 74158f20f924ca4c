"""VMs of ours that were left on a host which had been lost."""

from __future__ import annotations

from nimble_stone.core import preparation as prep
from nimble_stone.core.errors import Conflict
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.preparation.context import Context, Found, Plain


class RemoveVm(Plain):
    """A VM that is gone."""

    async def observe(self, c: Context) -> Found | None:
        """It is not defined. Raises Conflict for a VM of that name that is another one."""
        action = c.action
        assert isinstance(action, prep.RemoveVm)
        found = await c.host.vms.find(action.name)
        if found is None:
            # a try that was cut may have left its disks
            return {"gone": action.name} if c.acted else None
        if found.uuid != action.uuid or not found.is_of(action.run):
            raise Conflict(
                f"VM {action.name} on {c.step.host} is another one now",
                code="not-ours",
                hint="Refresh the host and check.",
            )
        return None

    async def undo(self, c: Context) -> str:
        """There is no way back."""
        return f"{c.step.label}: it cannot be restored"


KINDS: dict[str, Kind] = {"remove-vm": RemoveVm()}

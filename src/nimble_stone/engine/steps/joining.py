"""A node is let into a deployed cluster before it starts for the first time."""

from __future__ import annotations

from nimble_stone.core.errors import NotFound
from nimble_stone.core.kit.membership import Joining
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.membership import ask, happened, taken_out


def joining_of(c: Context) -> Joining:
    """What the kit asks for. Raises NotFound where it does not."""
    wanted = c.step.detail["joining"]
    found = next((one for one in c.run.sheet.kit.joining if one.id == wanted), None)
    if found is None:
        raise NotFound(f"the kit has no joining step “{wanted}”")
    return found


class Admit:
    """The cluster expects the node."""

    async def observe(self, c: Context) -> Found | None:
        """It does; where nothing tells, it was asked to."""
        one = joining_of(c)
        if one.observe is None:
            return {} if c.acted else None
        return {} if await happened(c, one) else None

    async def act(self, c: Context) -> None:
        """Ask for it."""
        await ask(c, joining_of(c), f"{c.node.name} is not let in")

    async def undo(self, c: Context) -> str:
        """It no longer does, where the kit says how that is asked."""
        return await taken_out(c, c.step.detail["joining"])


KINDS: dict[str, Kind] = {"admit": Admit()}

"""A node leaves a deployment that stands: it is taken out of its cluster, then removed."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.change_sequence import LOST, STAYS
from nimble_stone.core.errors import NotFound
from nimble_stone.core.kit.membership import Leaving
from nimble_stone.core.step import Step
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.engine.steps import past
from nimble_stone.engine.steps.adopting import Adopted
from nimble_stone.engine.steps.context import Context, Found, Kind
from nimble_stone.engine.steps.machines import shut_down_machine
from nimble_stone.engine.steps.membership import ask, happened
from nimble_stone.engine.steps.undo_order import UNDO_STAGE


def leaving_of(c: Context) -> Leaving:
    """What the kit asks for. Raises NotFound where it does not."""
    wanted = c.step.detail["leaving"]
    found = next((one for one in c.run.sheet.kit.leaving if one.id == wanted), None)
    if found is None:
        raise NotFound(f"the kit has no leaving step “{wanted}”")
    return found


class Leave:
    """The cluster no longer counts on the node."""

    async def observe(self, c: Context) -> Found | None:
        """It has left; where nothing tells, it was asked to."""
        one = leaving_of(c)
        if one.observe is None:
            return {} if c.acted else None
        return {} if await happened(c, one) else None

    async def act(self, c: Context) -> None:
        """Ask for it."""
        await ask(c, leaving_of(c), f"{c.node.name} does not leave")

    async def undo(self, c: Context) -> str:
        """Who has left is not let in again: it is removed next."""
        return ""


class Retire:
    """The node's VM, disks, media and names are gone: its part of the run that made it is rolled
    back by the same steps.
    """

    def __init__(self, kinds: Mapping[str, Kind]) -> None:
        self._kinds = kinds
        # what an upgrade replaced is not brought back, and what was adopted is not released
        self._goes_as = {"swap": kinds["define"], "adopt": Adopted()}

    async def observe(self, c: Context) -> Found | None:
        """No VM of that name is ours any more. Whether all else is gone is known only after it was
        removed.
        """
        if not c.acted:
            return None
        if c.step.detail.get(LOST):
            what = "what was written is" if c.node.on_machine else "VM and disks are"
            return {"way": f"{what} left on {c.step.host}"}
        return None if await self._stands(c) else {"way": c.answer.get("said", "")}

    async def act(self, c: Context) -> None:
        """Roll its steps back, the last ones first. Raises RemoteFailed where a system whose data
        stays does not shut down.
        """
        if c.step.detail.get(STAYS):
            await shut_down_machine(c)
        said = []
        async for before in past.makers(c, self._by(c)):
            said += await self._rolled_back(c, before)
        c.answer["said"] = "; ".join(filter(None, said))[:300]

    async def _rolled_back(self, c: Context, before: FrozenRun) -> list[str]:
        own = [step for step in before.steps.values() if step.node == c.node.id]
        if c.step.detail.get(LOST):
            own = [step for step in own if _elsewhere(before, step)]
        stages = sorted({UNDO_STAGE[step.kind] for step in own})
        said = []
        for stage in stages:
            for step in reversed([one for one in own if UNDO_STAGE[one.kind] == stage]):
                kind = self._goes_as.get(step.kind) or self._kinds[step.kind]
                said.append(await kind.undo(await past.at(c, before, step)))
        return said

    def _by(self, c: Context) -> str:
        assert c.run.change is not None
        return c.run.change.left[c.node.id]

    async def _stands(self, c: Context) -> bool:
        if c.node.on_machine:
            return False
        vm = await c.host.vms.find(c.node.name)
        return vm is not None and vm.is_of(self._by(c))

    async def undo(self, c: Context) -> str:
        """What was removed cannot be brought back."""
        return ""


def _elsewhere(before: FrozenRun, step: Step) -> bool:
    """Whether what a step made is kept by others than the node and its host: name records, the
    estate's entry, what was made in a system outside the plan.
    """
    if step.kind == "call":
        wanted = step.detail["forming"]
        return any(one.id == wanted and one.undo for one in before.sheet.kit.forming)
    return step.kind in ("names", "enroll")


KINDS: dict[str, Kind] = {"leave": Leave()}

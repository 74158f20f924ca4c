"""The kinds of steps, a family a module. Each says how to observe that it is done, how to act, and
how to undo what it made. A further kind: a class in its family's KINDS (docs/add-a-step.md).
"""

from nimble_stone.engine.steps import (
    adopting,
    calling,
    changing,
    copying,
    disks,
    hosts,
    installing,
    joining,
    kernels,
    leaving,
    machines,
    moving,
    names,
    stages,
    upgrading,
    vm_installing,
    vms,
    waiting,
)
from nimble_stone.engine.steps.context import Context, Kind
from nimble_stone.engine.steps.standing import STANDS

KINDS: dict[str, Kind] = {
    **adopting.KINDS,
    **copying.KINDS,
    **disks.KINDS,
    **kernels.KINDS,
    **vms.KINDS,
    **vm_installing.KINDS,
    **names.KINDS,
    **machines.KINDS,
    **installing.KINDS,
    **waiting.KINDS,
    **calling.KINDS,
    **hosts.KINDS,
    **joining.KINDS,
    **leaving.KINDS,
    **stages.KINDS,
    **upgrading.KINDS,
    **moving.KINDS,
    **changing.KINDS,
}
KINDS["retire"] = leaving.Retire(KINDS)
POLLED = {
    *waiting.KINDS,
    *calling.KINDS,
    "admit",
    "change",
    "leave",
    *machines.KINDS,
    *installing.KINDS,
    *stages.KINDS,
    "install-vm",
}

__all__ = ["KINDS", "POLLED", "STANDS", "Context", "Kind"]

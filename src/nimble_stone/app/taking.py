"""Drift that a person wants to keep: what was found becomes what is planned, and the next run of
the plan records it as built. Nothing is changed on a host.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.app.editing import Kept, edit
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core.drift import SIZES
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import OWN_MEMORY, OWN_VCPU
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.units import GIB, size_text
from nimble_stone.hosts.api import Vm
from nimble_stone.store import records


async def take_in(
    app: Application, kits: Mapping[str, Kit], plan: str, node: str, check: str
) -> Kept:
    """Plan a node as it is: its vCPUs and memory, read from its host now. Raises NotFound for a
    node that is not deployed, InputError for other checks and where the plan cannot say it,
    Conflict for a VM that is not there, RemoteError.
    """
    if check not in SIZES:
        raise InputError(
            "this difference cannot be taken into the plan",
            code="drift-not-planned",
            hint="Put it back, or accept it.",
        )
    built = (await standing(app, plan)).get(node)
    if built is None:
        raise NotFound(f"no node “{node}” of {plan} is deployed")
    host = await app.driver(await app.host(built.node.value("host")))
    state = await host.vms.state(built.node.name)
    if state is None or not state.stored.is_of(built.run):
        raise Conflict(
            f"{host.name} has no VM {built.node.name} of run {built.run}",
            code="guest-gone",
            hint="Put it back, or make the node again.",
        )
    row = await app.store.read(records.get_plan, plan)
    sheet = (await evaluate(app, kits, row.text)).sheet
    planned = sheet.node(node)
    if planned is None:
        raise NotFound(f"the plan has no node “{node}” any more")
    return await edit(app, kits, plan, row.version, size_edits(sheet, planned, state.stored))


def size_edits(sheet: Sheet, node: Node, vm: Vm) -> Sequence[Edit]:
    """What plans a node with the vCPUs and memory of a VM: a size of its package, else its own
    numbers where the kit allows them. Raises InputError where neither says it.
    """
    where = ("nodes", node.id)
    own = [Edit(path=(*where, column)) for column in (OWN_VCPU, OWN_MEMORY) if column in node.cells]
    for ident, size in sheet.packages.sizes(node.role).items():
        if (size.vcpu, size.memory_bytes >> 20) == (vm.vcpu, vm.memory_bytes >> 20):
            return [Edit(path=(*where, "size"), value=ident), *own]
    role = sheet.kit.role(node.role)
    gib = vm.memory_bytes // GIB
    custom = role.custom if role else None
    if (
        custom is not None
        and gib * GIB == vm.memory_bytes
        and custom.vcpu.least <= vm.vcpu <= custom.vcpu.most
        and custom.memory_gib.least <= gib <= custom.memory_gib.most
    ):
        return [
            Edit(path=(*where, OWN_VCPU), value=vm.vcpu),
            Edit(path=(*where, OWN_MEMORY), value=gib),
        ]
    raise InputError(
        f"no size of role {role.label if role else node.role} has {vm.vcpu} vCPU and"
        f" {size_text(vm.memory_bytes)}",
        code="size-unknown",
        hint="Put it back, or accept it.",
    )

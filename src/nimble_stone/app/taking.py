"""Drift that a person wants to keep: what was found becomes what is planned, and the next run of
the plan records it as built. Nothing is changed on a host.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.app.editing import Kept, edit
from nimble_stone.app.evaluate import evaluate
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.drift import DISKS, SIZES
from nimble_stone.core.errors import Conflict, InputError, NotFound
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan import planned_size
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.units import size_text
from nimble_stone.hosts.api import HostDriver, Vm
from nimble_stone.store import records


async def take_in(
    app: Application, kits: Mapping[str, Kit], plan: str, node: str, check: str
) -> Kept:
    """Plan a node as it is: its vCPUs and memory, or its disks, read from its host now. Raises
    NotFound for a node that is not deployed, InputError for other checks and where the plan cannot
    say it, Conflict for a VM that is not there, RemoteError.
    """
    if check not in SIZES | DISKS:
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
    if check in SIZES:
        edits = size_edits(sheet, planned, state.stored)
    else:
        edits = disk_edits(sheet, planned, await _capacities(host, built, state.stored))
    return await edit(app, kits, plan, row.version, edits)


async def _capacities(host: HostDriver, built: BuiltNode, vm: Vm) -> dict[str, int]:
    """Name → bytes of the further disks that a VM has."""
    found = {}
    for source in vm.sources:
        store, _, volume = source.rpartition("/")
        ref = next((d.ref for d in built.node.extra if volume.endswith(f"-{d.ref}")), "")
        if ref and (there := await host.storage.volume(store, volume)):
            found[ref] = there.capacity_bytes
    return found


def disk_edits(sheet: Sheet, node: Node, capacities: Mapping[str, int]) -> Sequence[Edit]:
    """What plans a node with the disks of a VM. Raises InputError where the plan cannot say it."""
    found = planned_size.disk_edits(sheet, node, capacities)
    if found is not None:
        return found
    raise InputError(
        "data disks are taken into the plan only where all of a kind are equally large, in whole"
        " GiB, and not smaller than planned",
        code="size-unknown",
        hint="Grow them by the plan, or accept the difference.",
    )


def size_edits(sheet: Sheet, node: Node, vm: Vm) -> Sequence[Edit]:
    """What plans a node with the vCPUs and memory of a VM. Raises InputError where neither a size
    of its package nor the kit's limits say it.
    """
    found = planned_size.edits(sheet, node, vm.vcpu, vm.memory_bytes)
    if found is not None:
        return found
    role = sheet.kit.role(node.role)
    raise InputError(
        f"no size of role {role.label if role else node.role} has {vm.vcpu} vCPU and"
        f" {size_text(vm.memory_bytes)}",
        code="size-unknown",
        hint="Put it back, or accept it.",
    )

"""Planning a node with vCPUs, memory and disks that it was found with. Pure."""

from __future__ import annotations

from collections.abc import Mapping

from nimble_stone.core.findings import Edit
from nimble_stone.core.plan.columns import OWN_MEMORY, OWN_VCPU
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.units import GIB


def edits(sheet: Sheet, node: Node, vcpu: int, memory_bytes: int) -> list[Edit] | None:
    """What plans a node so: a size of its package, else its own numbers where the kit allows them;
    None where neither says it.
    """
    where = ("nodes", node.id)
    own = [Edit(path=(*where, column)) for column in (OWN_VCPU, OWN_MEMORY) if column in node.cells]
    for ident, size in sheet.packages.sizes(node.role).items():
        if (size.vcpu, size.memory_bytes >> 20) == (vcpu, memory_bytes >> 20):
            return [Edit(path=(*where, "size"), value=ident), *own]
    role = sheet.kit.role(node.role)
    gib = memory_bytes // GIB
    custom = role.custom if role else None
    if (
        custom is not None
        and gib * GIB == memory_bytes
        and custom.vcpu.least <= vcpu <= custom.vcpu.most
        and custom.memory_gib.least <= gib <= custom.memory_gib.most
    ):
        return [
            Edit(path=(*where, OWN_VCPU), value=vcpu),
            Edit(path=(*where, OWN_MEMORY), value=gib),
        ]
    return None


def disk_edits(sheet: Sheet, node: Node, capacities: Mapping[str, int]) -> list[Edit] | None:
    """What plans a node's further disks as large as they are. `capacities`: the disk's name →
    bytes. None where no disk is larger than planned, or the plan cannot say it: it has one size, in
    GiB, for all disks of a kind.
    """
    planned = {disk.ref: disk.capacity_bytes for disk in node.extra}
    found = []
    for disk in sheet.kit.extra_disks:
        own = [ref for ref in planned if ref.removeprefix(disk.id).isdigit()]
        sizes = {capacities.get(ref, 0) for ref in own}
        if sizes == {planned[ref] for ref in own}:
            continue
        size = min(sizes)
        if len(sizes) != 1 or size % GIB or size < max(planned[ref] for ref in own):
            return None
        found.append(Edit(path=("nodes", node.id, f"disk.{disk.id}"), value=size // GIB))
    return found or None

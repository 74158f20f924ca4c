"""Planning a node with vCPUs and memory that it was found with. Pure."""

from __future__ import annotations

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

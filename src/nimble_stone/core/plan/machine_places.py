"""Every machine of the bay as a place for one node. Pure."""

from __future__ import annotations

from nimble_stone.core.estate import Estate
from nimble_stone.core.placement_why import Place
from nimble_stone.core.plan.machines import by_network, wanted_of, why_not
from nimble_stone.core.plan.sheet import Node, Sheet


def places(sheet: Sheet, estate: Estate, node: Node) -> list[Place]:
    """Those that fit first, in the order of their names; a node takes a whole machine. Cost:
    O(machines × drives).
    """
    package = sheet.packages.of(node.role)
    full = package.descriptor.full_bytes if package else 0
    wanted = wanted_of(node.cells, node.size, full, by_network(sheet.kit.role(node.role)))
    found = []
    for machine in estate.machines_in(sheet.plan.bays):
        here = machine.name == node.value("host")
        others = [one.name for one in sheet.by_host.get(machine.name, ()) if one.id != node.id]
        if machine.name in sheet.plan.placement.avoid:
            reason = "is excluded from this plan"
        elif others:
            reason = f"carries {others[0]}"
        else:
            reason = why_not(estate.machine_facts.get(machine.name), wanted, machine)
        found.append(Place(machine.name, 1.0, not reason, here, reason))
    return sorted(found, key=lambda place: not place.fits)

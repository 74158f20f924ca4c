"""VMs of ours that were left on a host which had been lost; their nodes are elsewhere by now."""

from __future__ import annotations

from collections import Counter, defaultdict
from collections.abc import Mapping

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing, under_way
from nimble_stone.core import preparation as prep
from nimble_stone.core.estate import Estate, Mark
from nimble_stone.store import runs


async def homes(app: Application, estate: Estate) -> Mapping[Mark, str]:
    """Mark of such a VM → the host where its node is. Cost: O(VMs + nodes of plans with several
    runs).
    """
    rows = Counter(row.plan for row in await app.store.read(runs.standing))
    seen: dict[str, set[Mark]] = defaultdict(set)
    for facts in estate.facts.values():
        for guest in facts.guests:
            if guest.mark and rows[guest.mark.plan] > 1:
                seen[guest.mark.plan].add(guest.mark)
    found: dict[Mark, str] = {}
    for plan, marks in seen.items():
        if await under_way(app, plan):
            # which VM is the node's is settled when the run has ended
            continue
        there = await standing(app, plan)
        for mark in marks:
            one = there.get(mark.node)
            if one is not None and one.run != mark.run:
                found[mark] = one.node.value("host")
    return found


async def refusals(app: Application, estate: Estate, action: prep.RemoveVm) -> list[str]:
    """Why a VM is not deleted: it is no such one, as far as the journals of our runs tell."""
    facts = estate.facts.get(action.host)
    found = next((vm for vm in facts.guests if vm.name == action.name), None) if facts else None
    mark = found.mark if found else None
    if mark is None or (await homes(app, estate)).get(mark) != action.home:
        return [f"VM {action.name} is not a VM that was left on {action.host}"]
    return []

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
    """Mark of such a VM → the host where its node is. A host that was read before the run ended
    which made the node again says nothing of it. Cost: O(VMs + nodes of plans with several runs).
    """
    rows = Counter(row.plan for row in await app.store.read(runs.standing))
    until = await app.store.read(runs.worked_until)
    seen: dict[str, dict[Mark, float]] = defaultdict(dict)
    for facts in estate.facts.values():
        for guest in facts.guests:
            if guest.mark and rows[guest.mark.plan] > 1:
                marks = seen[guest.mark.plan]
                marks[guest.mark] = max(facts.read_at, marks.get(guest.mark, 0.0))
    found: dict[Mark, str] = {}
    for plan, marks in seen.items():
        if await under_way(app, plan):
            # which VM is the node's is settled when the run has ended
            continue
        there = await standing(app, plan)
        for mark, read_at in marks.items():
            one = there.get(mark.node)
            if one is None or read_at < until.get(one.run, 0.0):
                continue
            if one.run != mark.run:
                found[mark] = one.node.value("host")
    return found


async def just_undone(app: Application, estate: Estate) -> set[str]:
    """Runs that were rolled back since a host with a VM of theirs was read: it is gone by now."""
    until = await app.store.read(runs.worked_until)
    return {
        guest.mark.run
        for facts in estate.facts.values()
        for guest in facts.guests
        if guest.mark and facts.read_at < until.get(guest.mark.run, 0.0)
    }


async def refusals(app: Application, estate: Estate, action: prep.RemoveVm) -> list[str]:
    """Why a VM is not deleted: it is no such one, as far as the journals of our runs tell."""
    facts = estate.facts.get(action.host)
    found = next((vm for vm in facts.guests if vm.name == action.name), None) if facts else None
    mark = found.mark if found else None
    if mark is None or (await homes(app, estate)).get(mark) != action.home:
        return [f"VM {action.name} is not a VM that was left on {action.host}"]
    return []

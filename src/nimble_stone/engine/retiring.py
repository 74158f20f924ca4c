"""A whole deployment is taken away: its VMs first, so that nothing is restarted only to be deleted;
then its runs are rolled back, the newest first.
"""

from __future__ import annotations

import asyncio
from collections import defaultdict

from nimble_stone.core.plan.sheet import Node
from nimble_stone.core.runs.states import RunState
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.ports.ports import Ports
from nimble_stone.store import records, runs
from nimble_stone.store.runs import StateRow

PLACE = "retiring/"
"""Where it is noted that a plan's deployment is being retired, and what becomes of its data."""
ALL, KEEP_DATA = "all", "keep-data"
LAST = "last:"
"""What a note begins with when the run that is being rolled back is the last one."""


async def asked(ports: Ports, plan: str) -> str:
    """How a rollback is to be: `ALL`, `KEEP_DATA`, or '' where the deployment stays. A run whose
    rollback began one way ends that way, also when retiring was stopped meanwhile.
    """
    return (await _noted(ports, plan)).removeprefix(LAST)


async def under_way(ports: Ports, plan: str) -> str:
    """The same while further runs follow; '' when it was stopped."""
    noted = await _noted(ports, plan)
    return "" if noted.startswith(LAST) else noted


async def _noted(ports: Ports, plan: str) -> str:
    return await ports.store.read(records.get_meta, PLACE + plan) or ""


async def ask(ports: Ports, plan: str, *, keep_data: bool) -> None:
    """Note it, so that a server which is killed goes on with it."""
    await ports.store.write(records.put_meta, PLACE + plan, KEEP_DATA if keep_data else ALL)


async def stop(ports: Ports, plan: str) -> None:
    """No further run is rolled back."""
    noted = await under_way(ports, plan)
    newest = await _newest(ports, plan)
    if newest is not None and newest.state == RunState.UNDOING:
        await ports.store.write(records.put_meta, PLACE + plan, LAST + noted)
    else:
        await ports.store.write(records.drop_meta, PLACE + plan)


async def next_run(ports: Ports, plan: str) -> str:
    """The run that is rolled back next; '' when none follows, which is noted. One that is being
    rolled back, and waits for a person, is none: it comes first.
    """
    newest = await _newest(ports, plan)
    if newest is not None and newest.state == RunState.UNDOING:
        return ""
    if newest is None or not await under_way(ports, plan):
        await ports.store.write(records.drop_meta, PLACE + plan)
        return ""
    return newest.id


async def _newest(ports: Ports, plan: str) -> StateRow | None:
    """The newest run that is not rolled back."""
    rows = await ports.store.read(runs.of_plan, plan)
    return next((row for row in reversed(rows) if row.state != RunState.UNDONE), None)


async def vms_removed(ports: Ports, run: FrozenRun) -> None:
    """The VMs of a run's nodes are gone, wherever its plan is being retired: those that bear a mark
    of the runs that made them, on all hosts side by side. Raises RemoteError, Conflict.
    """
    if not await asked(ports, run.sheet.plan.name):
        return
    by_host: dict[str, list[Node]] = defaultdict(list)
    for node in run.sheet.nodes:
        if not node.on_machine:
            by_host[node.value("host")].append(node)
    await asyncio.gather(*(_removed(ports, run, host, nodes) for host, nodes in by_host.items()))


async def _removed(ports: Ports, run: FrozenRun, name: str, nodes: list[Node]) -> None:
    host = await ports.driver(await ports.host(name))
    for node in nodes:
        found = await host.vms.find(node.name)
        for maker in run.makers(node.id):
            if found is not None and found.is_of(maker):
                await host.vms.remove(node.name, maker)

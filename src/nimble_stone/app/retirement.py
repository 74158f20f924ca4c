"""Retiring a deployment: what of it would go, and having it go."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.app.application import Application
from nimble_stone.app.deployments import standing
from nimble_stone.core.deployment import BuiltNode
from nimble_stone.core.errors import Conflict, InputError
from nimble_stone.core.runs.states import ACTIVE, RunState
from nimble_stone.engine import retiring
from nimble_stone.engine.engine import Engine
from nimble_stone.store import runs


@dataclass(frozen=True)
class Leaves:
    """A node that would go. `where`: its host, or machine; `addresses`: what comes free; bytes."""

    node: str
    name: str
    where: str
    machine: bool
    addresses: tuple[str, ...]
    disks: int
    data_disks: int
    data_bytes: int


@dataclass(frozen=True)
class Retirement:
    """What would go with a deployment. `left`: runs that are not rolled back yet; `asked`: what was
    asked for, '' nothing; `waits`: the run that waits for a person.
    """

    nodes: tuple[Leaves, ...]
    left: tuple[str, ...]
    asked: str
    waits: str


async def look(app: Application, plan: str) -> Retirement:
    """Nothing is changed."""
    rows = await app.store.read(runs.of_plan, plan)
    left = [row for row in rows if row.state != RunState.UNDONE]
    asked = await retiring.under_way(app, plan)
    nodes = () if asked else tuple(map(_leaves, (await standing(app, plan)).values()))
    waits = ""
    if asked and left and left[-1].state == RunState.UNDOING:
        row = await app.store.read(runs.get_run, left[-1].id)
        stuck = bool(row.reason) or await app.store.read(runs.undo_waits, row.id)
        waits = row.id if stuck else ""
    return Retirement(nodes, tuple(row.id for row in reversed(left)), asked, waits)


def _leaves(one: BuiltNode) -> Leaves:
    node = one.node
    addresses = (node.value("address"), node.value("address6"))
    own = len(one.package.descriptor.disks) if one.package and not node.on_machine else 0
    if node.is_adopted:
        own = len(node.volumes) - sum(
            disk.ref in {one.ref for one in node.extra} for disk in node.volumes
        )
    return Leaves(
        node.id,
        node.name,
        node.value("host"),
        node.on_machine,
        tuple(filter(None, addresses)),
        own,
        len(node.extra),
        sum(disk.capacity_bytes for disk in node.extra),
    )


async def retire(
    app: Application, engine: Engine, plan: str, confirm: str, *, keep_data: bool
) -> Retirement:
    """Begin it. Raises InputError without the plan's name, Conflict where nothing is deployed, or a
    run of the plan goes on.
    """
    if confirm != plan:
        raise InputError(
            f"Retiring deletes every VM of {plan} with its disks.",
            code="confirm",
            hint=f"Type the plan's name: {plan}",
        )
    rows = [row for row in await app.store.read(runs.of_plan, plan) if row.state != RunState.UNDONE]
    if not rows:
        raise Conflict(f"nothing of {plan} is deployed", code="not-deployed")
    active = [row for row in rows if row.state in ACTIVE and row.state != RunState.UNDOING]
    if active:
        raise Conflict(
            f"run {active[-1].id} of this plan is running",
            code="run-exists",
            hint="Wait until it has ended, or roll it back.",
        )
    await engine.retire(plan, keep_data=keep_data)
    return await look(app, plan)


async def stop(app: Application, plan: str) -> Retirement:
    """Roll no further run back; the one that is being rolled back ends as it was begun. Raises
    Conflict where nothing is being retired.
    """
    if not await retiring.under_way(app, plan):
        raise Conflict(f"{plan} is not being retired", code="not-retiring")
    await retiring.stop(app, plan)
    return await look(app, plan)

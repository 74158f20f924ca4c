"""A host that is to be empty for a while: every plan with nodes there leaves it out, and its next
run moves those that are deployed. Nothing moves before that run is started.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from pydantic import BaseModel, Field

from nimble_stone.app.application import Application
from nimble_stone.app.claims import held_by_plans
from nimble_stone.app.deployments import standing
from nimble_stone.app.editing import attempt, edit
from nimble_stone.app.estate import estate_of
from nimble_stone.app.estate_hosts import facts_of, host_of
from nimble_stone.app.evaluate import evaluate
from nimble_stone.app.resolved import Resolved
from nimble_stone.core.errors import StoneError
from nimble_stone.core.findings import Edit
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import is_place
from nimble_stone.core.plan.sheet import Node
from nimble_stone.store import records
from nimble_stone.store.records import PlanRow

Kits = Mapping[str, Kit]


class LeavingNode(BaseModel):
    """A node that is on the host: where it goes, '' nowhere, and then why."""

    node: str
    name: str
    to: str
    reason: str = ""
    deployed: bool = Field(description="It is moved by a run; otherwise only its plan changes.")


class LeavingPlan(BaseModel):
    """A plan with nodes on the host. `excluded`: it leaves the host out already."""

    plan: str
    version: int
    excluded: bool
    nodes: list[LeavingNode]
    problem: str = Field(default="", description="Why the plan cannot be changed or calculated.")


class EmptyView(BaseModel):
    """What emptying a host comes to. `others`: VMs there that no plan knows; they stay."""

    host: str
    plans: list[LeavingPlan]
    others: list[str]


async def of_host(app: Application, kits: Kits, host: str) -> EmptyView:
    """Every plan that has nodes on a host or leaves it out, and where its nodes would go. Nothing
    is kept. Raises NotFound.
    """
    estate = await estate_of(app)
    host_of(estate, host)
    found = [await _preview(app, kits, row, host) for row in await _concerned(app, host)]
    guests = facts_of(estate, host).guests
    return EmptyView(
        host=host,
        plans=[one for one in found if one.nodes or one.excluded or one.problem],
        others=[guest.name for guest in guests if guest.mark is None],
    )


async def leave_out(
    app: Application, kits: Kits, host: str, versions: Mapping[str, int]
) -> EmptyView:
    """Let plans leave the host out; `versions`: those that a person saw. A plan that somebody
    changed at the same place meanwhile says so and stays as it is. Raises NotFound.
    """
    host_of(await estate_of(app), host)
    problems: dict[str, str] = {}
    for plan, version in versions.items():
        try:
            row = await app.store.read(records.get_plan, plan)
            now = await evaluate(app, kits, row.text)
            await edit(app, kits, plan, version, _edits(now, host))
        except StoneError as error:
            problems[plan] = str(error)
    return await _told(app, kits, host, problems)


async def use_again(app: Application, kits: Kits, host: str) -> EmptyView:
    """Plans that leave the host out may use it again; nobody moves back by itself. Raises
    NotFound.
    """
    host_of(await estate_of(app), host)
    problems: dict[str, str] = {}
    for row in await _concerned(app, host):
        try:
            avoid = (await evaluate(app, kits, row.text)).sheet.plan.placement.avoid
            if host in avoid:
                left = [name for name in avoid if name != host]
                await edit(app, kits, row.id, row.version, [_avoid(left)])
        except StoneError as error:
            problems[row.id] = str(error)
    return await _told(app, kits, host, problems)


async def _told(app: Application, kits: Kits, host: str, problems: Mapping[str, str]) -> EmptyView:
    view = await of_host(app, kits, host)
    for one in view.plans:
        one.problem = problems.get(one.plan, one.problem)
    return view


async def _concerned(app: Application, host: str) -> list[PlanRow]:
    """Plans that hold room on a host, stand there, or name it in their text."""
    claims = (await held_by_plans(app)).claims
    found = []
    for row in await app.store.read(records.plans):
        holds = any(claim.host == host for claim in claims.get(row.id, ()))
        if holds or host in row.text or await _stands_on(app, row.id, host):
            found.append(row)
    return found


async def _stands_on(app: Application, plan: str, host: str) -> bool:
    there = (await standing(app, plan)).values()
    return any(one.node.value("host") == host for one in there)


async def _preview(app: Application, kits: Kits, row: PlanRow, host: str) -> LeavingPlan:
    try:
        now = await evaluate(app, kits, row.text)
        excluded = host in now.sheet.plan.placement.avoid
        then = now
        if not excluded:
            then = (await attempt(app, kits, row.id, _edits(now, host))).resolved
        stands = await standing(app, row.id)
    except StoneError as error:
        return LeavingPlan(
            plan=row.id, version=row.version, excluded=False, nodes=[], problem=str(error)
        )
    here = {ident for ident, one in stands.items() if one.node.value("host") == host}
    here |= {node.id for node in _on(now, host) if node.id not in stands}
    # who stands elsewhere may lose the last place that was left for it
    here |= set(then.sheet.unplaced) - set(now.sheet.unplaced)
    nodes = [
        _leaving(then, node, host, node.id in stands)
        for node in then.sheet.nodes
        if node.id in here
    ]
    return LeavingPlan(plan=row.id, version=row.version, excluded=excluded, nodes=nodes)


def _leaving(then: Resolved, node: Node, host: str, deployed: bool) -> LeavingNode:
    to = node.value("host")
    why = _why_not(then, node, host, deployed)
    return LeavingNode(
        node=node.id, name=node.name, to="" if why else to, reason=why, deployed=deployed
    )


def _why_not(then: Resolved, node: Node, host: str, deployed: bool) -> str:
    """Why a node does not get away, '' when it does."""
    if not node.value("host"):
        return then.sheet.unplaced.get(node.id, "no host has room")
    if node.value("host") == host:
        return "its host is set for the whole role or plan"
    if deployed and then.changes and node.id not in {one.node for one in then.changes.moves}:
        return "its VM cannot move: its host alone keeps something of it"
    return ""


def _on(resolved: Resolved, host: str) -> list[Node]:
    return [
        node for node in resolved.sheet.nodes if node.value("host") == host and not node.on_machine
    ]


def _edits(now: Resolved, host: str) -> Sequence[Edit]:
    """Leave the host out, and let go of what a person set on it."""
    avoid = sorted({*now.sheet.plan.placement.avoid, host})
    places = [
        Edit(path=("nodes", node.id, column))
        for node in _on(now, host)
        for column, cell in node.cells.items()
        if is_place(column) and cell.origin == "node"
    ]
    return [_avoid(avoid), *places]


def _avoid(hosts: Sequence[str]) -> Edit:
    return Edit(path=("placement", "avoid"), value=tuple(hosts) or None)

"""Adopting VMs that others made: what could be adopted, and adopting it."""

from __future__ import annotations

from typing import Annotated

from fastapi import APIRouter, Path
from pydantic import BaseModel, Field

from nimble_stone.app import adoption
from nimble_stone.core.adoption import Existing
from nimble_stone.core.findings import Finding
from nimble_stone.server.deps import TheApplication, TheEngine, TheKits

router = APIRouter(tags=["deployments"])
Plan = Annotated[str, Path(max_length=60)]


class ExistingVm(BaseModel):
    """A VM that bears no mark. Memory in bytes."""

    vm: str = Field(description="“host/VM”.")
    host: str
    name: str
    running: bool
    vcpu: int
    memory_bytes: int
    disks: int


class ComparedView(BaseModel):
    """One thing, as the VM has it and as the plan would have made it."""

    label: str
    found: str
    planned: str
    same: bool
    then: str = Field(
        description=(
            "Of a difference: “plan”: the plan is changed to what was found; “run”: the next run"
            " changes the VM to what is planned; “stays”: neither."
        )
    )


class AdoptableNode(BaseModel):
    """A node that is not deployed, and the VM that it would be."""

    node: str
    name: str
    role: str
    vm: str = Field(description="“host/VM”; empty: none.")
    proposed: bool = Field(description="Whether the VM is a proposal, and no choice.")
    rows: list[ComparedView]
    troubles: list[str] = Field(description="Why it cannot be adopted as it is.")


class AdoptionView(BaseModel):
    """What could be adopted."""

    plan: str
    nodes: list[AdoptableNode]
    vms: list[ExistingVm]
    unread: dict[str, str] = Field(description="Host that could not be read → why.")


class Adopting(BaseModel):
    """Which VM is which node."""

    vms: dict[Annotated[str, Field(max_length=60)], Annotated[str, Field(max_length=200)]] = Field(
        default={}, max_length=500, description="Node → “host/VM”; empty: none."
    )


class AdoptingStarted(BaseModel):
    """The run that marks them; empty where findings stop it."""

    run: str
    findings: list[Finding]


def _existing(one: Existing) -> ExistingVm:
    return ExistingVm(
        vm=one.ident,
        host=one.host,
        name=one.name,
        running=one.running,
        vcpu=one.vcpu,
        memory_bytes=one.memory_bytes,
        disks=len(one.disks),
    )


def _adoption(plan: str, offer: adoption.Offer) -> AdoptionView:
    return AdoptionView(
        plan=plan,
        nodes=[
            AdoptableNode(
                node=one.node.id,
                name=one.node.name,
                role=one.node.role,
                vm=one.vm.ident if one.vm else "",
                proposed=one.proposed,
                rows=[
                    ComparedView(
                        label=row.label,
                        found=row.found,
                        planned=row.planned,
                        same=row.same,
                        then=row.then,
                    )
                    for row in one.rows
                ],
                troubles=list(one.troubles),
            )
            for one in offer.candidates
        ],
        vms=[_existing(one) for one in offer.vms],
        unread=dict(offer.unread),
    )


@router.post("/deployments/{plan}/adoptable")
async def deployment_adoptable(
    plan: Plan, app: TheApplication, kits: TheKits, body: Adopting | None = None
) -> AdoptionView:
    """Read the plan's hosts, and propose which VM is which node, and what the plan would have
    made. Nothing is changed.
    """
    chosen = body.vms if body else {}
    # whoever chooses has been shown what was read just before
    return _adoption(plan, await adoption.look(app, kits, plan, chosen, fresh=not chosen))


@router.post("/deployments/{plan}/adopt")
async def deployment_adopt(
    plan: Plan, body: Adopting, app: TheApplication, kits: TheKits, engine: TheEngine
) -> AdoptingStarted:
    """Plan the nodes as their VMs are, mark the VMs, and check that they answer. The VMs run on."""
    started = await adoption.adopt(app, engine, kits, plan, body.vms)
    findings = started.resolved.findings if started.resolved and not started.run else []
    return AdoptingStarted(run=started.run, findings=list(findings))

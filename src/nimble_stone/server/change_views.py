"""What a run would change of a deployment, as pages and the terminal show it."""

from __future__ import annotations

from collections.abc import Collection

from pydantic import BaseModel, Field

from nimble_stone.app.resolved import Resolved
from nimble_stone.core.change_sequence import drives_of, wiped_drives
from nimble_stone.core.deployment import Alter, BuiltNode
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.columns import SYSTEM_DRIVE
from nimble_stone.core.plan.sheet import Node, Sheet
from nimble_stone.core.sequence import stages_of


class ChangedNode(BaseModel):
    """A node that is added, removed, or both."""

    node: str
    name: str
    role: str
    host: str
    run: str = Field(default="", description="The run that made it, where it stands.")
    on_machine: bool = Field(default=False, description="Whether it is on a bare machine.")
    wiped: list[str] = Field(
        default=[], description="Drives of its machine that are wiped, by serial number."
    )
    left: list[str] = Field(
        default=[], description="Drives of its machine that keep what is on them."
    )


class ResizedNode(BaseModel):
    """A node that gets other vCPUs and memory. Memory in bytes."""

    node: str
    name: str
    host: str
    was_vcpu: int
    now_vcpu: int
    was_memory: int
    now_memory: int


class GrownDisk(BaseModel):
    """A disk that gets larger. Bytes."""

    node: str
    name: str
    disk: str
    was_bytes: int
    now_bytes: int


class UpgradedNode(BaseModel):
    """A node that gets another version of its package."""

    node: str
    name: str
    role: str
    way: str = Field(
        description=(
            "“system”: its system disk is replaced; “again”: it is made again; “”: the kit does not"
            " say how, so it stays."
        )
    )
    was: str
    now: str


class MovedNode(BaseModel):
    """A node that goes to another host or datastore."""

    node: str
    name: str
    was_host: str
    now_host: str
    was_store: str
    now_store: str


class OtherValue(BaseModel):
    """A setting that gets another value; of a secret, both are ''."""

    column: str
    label: str
    was: str
    now: str
    secret: bool


class AlteredNode(BaseModel):
    """A node that gets other settings."""

    node: str
    name: str
    how: str = Field(description="Entry of the kit's `changing`.")
    label: str
    way: str = Field(
        description=(
            "“call”: the node is told; “restart”: it starts with a new config ISO; “again”: it is"
            " made again."
        )
    )
    values: list[OtherValue]
    interrupts: str


class DiffersView(BaseModel):
    """A value that is planned otherwise than it was built."""

    node: str
    name: str
    column: str
    label: str
    was: str
    now: str


class StageView(BaseModel):
    """A stage of the setup that can be run again."""

    id: str
    label: str
    steps: int
    checks: int


class Renewable(BaseModel):
    """A secret or a certificate that the kit says how to renew on deployed nodes."""

    column: str
    label: str


class ChangesView(BaseModel):
    """What a run would do. `stands`: whether anything of the plan stands."""

    stands: bool
    nodes: int = Field(default=0, description="How many nodes stand.")
    adds: list[ChangedNode] = []
    removes: list[ChangedNode] = []
    resizes: list[ResizedNode] = []
    grows: list[GrownDisk] = []
    upgrades: list[UpgradedNode] = []
    moves: list[MovedNode] = []
    alters: list[AlteredNode] = []
    differs: list[DiffersView] = []
    renewable: list[Renewable] = []
    forecast_s: float = 0.0
    stages: list[StageView] = []
    upgraded: int = Field(
        default=0, description="How many nodes have had another system disk before."
    )
    differing: list[str] = Field(
        default=[], description="Nodes that were found otherwise than they were built."
    )


def _resized(found: Resolved, ident: str) -> ResizedNode:
    assert found.changes is not None
    was, now = found.changes.standing[ident].node, found.sheet.by_id[ident]
    return ResizedNode(
        node=ident,
        name=was.name,
        host=was.value("host"),
        was_vcpu=was.vcpu,
        now_vcpu=now.vcpu,
        was_memory=was.memory_bytes,
        now_memory=now.memory_bytes,
    )


def _removed(built: BuiltNode, planned: Node | None, wiped: Collection[str]) -> ChangedNode:
    """`planned`: the node that is made in its place; `wiped`: serial numbers of drives that the
    change wipes.
    """
    node, own = built.node, drives_of(built.node) if built.node.on_machine else ()
    gone = set(wiped)
    if planned is not None and planned.value("host") == node.value("host"):
        # whoever installs it writes over that one
        gone.add(planned.value(SYSTEM_DRIVE))
    return ChangedNode(
        node=node.id,
        name=node.name,
        role=node.role,
        host=node.value("host"),
        run=built.run,
        on_machine=node.on_machine,
        wiped=[one for one in own if one in gone],
        left=[one for one in own if one not in gone],
    )


def _is_told(kit: Kit, column: str) -> bool:
    return any(column in one.values for one in kit.changing)


def _altered(found: Resolved, one: Alter) -> AlteredNode:
    assert found.changes is not None
    was, now = found.changes.standing[one.node].node, found.sheet.by_id[one.node]
    columns = [column for column in found.sheet.columns if column.id in one.columns]
    return AlteredNode(
        node=one.node,
        name=one.name,
        how=one.how,
        label=one.label,
        way=one.way,
        values=[
            OtherValue(
                column=column.id,
                label=column.label,
                was="" if column.kind == "secret" else was.value(column.id),
                now="" if column.kind == "secret" else now.value(column.id),
                secret=column.kind == "secret",
            )
            for column in columns
        ],
        interrupts=one.interrupts,
    )


def _stages(sheet: Sheet) -> list[StageView]:
    return [
        StageView(id=one.stage.id, label=one.stage.label, steps=one.steps, checks=one.checks)
        for one in stages_of(sheet)
    ]


def changes_view(found: Resolved) -> ChangesView:
    """All of it. Cost: O(nodes)."""
    changes = found.changes
    if changes is None:
        return ChangesView(stands=False)
    planned = found.sheet.by_id
    adds = [
        ChangedNode(
            node=ident,
            name=planned[ident].name,
            role=planned[ident].role,
            host=planned[ident].value("host"),
        )
        for ident in changes.adds
    ]
    wiped = wiped_drives(found.steps)
    removes = [
        _removed(
            changes.standing[ident],
            planned.get(ident) if ident in changes.adds else None,
            wiped.get(ident, ()),
        )
        for ident in changes.removes
    ]
    return ChangesView(
        stands=True,
        nodes=len(changes.standing),
        adds=adds,
        removes=removes,
        resizes=[_resized(found, ident) for ident in changes.resizes],
        grows=[GrownDisk(**vars(one)) for one in changes.grows],
        upgrades=[UpgradedNode(**vars(one)) for one in changes.upgrades],
        moves=[MovedNode(**vars(one)) for one in changes.moves],
        alters=[_altered(found, one) for one in changes.alters],
        differs=[DiffersView(**vars(one)) for one in changes.differs],
        renewable=[
            Renewable(column=column.id, label=column.label)
            for column in found.sheet.columns
            if column.kind in ("secret", "certificate") and _is_told(found.sheet.kit, column.id)
        ],
        upgraded=sum(bool(one.node.disks_of) for one in changes.standing.values()),
        forecast_s=found.forecast.end_s if changes.any else 0.0,
        stages=_stages(found.sheet),
    )

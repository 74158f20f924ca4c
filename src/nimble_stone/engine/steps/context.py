"""What a step works with, and what every kind of step can do.

`observe` answers what it found (a small mapping for the journal) or None; it is asked before acting
and again after.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Protocol

from nimble_stone.core.change_sequence import OLD
from nimble_stone.core.errors import Conflict, NotFound, RemoteFailed
from nimble_stone.core.kit.roles import VmOptions
from nimble_stone.core.package.contents import Contents
from nimble_stone.core.package.model import Descriptor
from nimble_stone.core.plan.sheet import Node, reached
from nimble_stone.core.step import Step
from nimble_stone.engine.frozen import FrozenRun
from nimble_stone.hosts.api import HostDriver, Recorder, Vm, VmLimits
from nimble_stone.hosts.node import NodeAccess, NodeDoor
from nimble_stone.ports import Ports

Found = dict[str, Any]


@dataclass
class Context:
    """A step about to be carried out. `acted`: the act of this attempt has returned; what is there
    now is its work.
    """

    ports: Ports
    run: FrozenRun
    step: Step
    contents: Contents
    host: HostDriver
    record: Recorder
    acted: bool = False
    answer: Found = field(default_factory=dict)
    said: str = ""
    """What was last told of a wait: what is wanted, and what there is instead."""

    @property
    def who(self) -> str:
        """Whom it is about, for people."""
        return self.node.name

    @property
    def node(self) -> Node:
        """The step's node (for cluster and datastore steps the one that acts)."""
        change = self.run.change
        if change is not None and self.step.detail.get(OLD) and (old := change.old(self.step.node)):
            return old
        node = (
            self.run.sheet.node(self.step.node or self.step.detail.get("by", ""))
            or self.run.sheet.nodes[0]
        )
        return node

    @property
    def descriptor(self) -> Descriptor:
        """What the node's package states, or the kit where the package states nothing. Raises
        NotFound for a role without a package.
        """
        package = self.run.sheet.packages.of(self.node.role)
        if package is None:
            raise NotFound(f"{self.node.name} has no package")
        return package.descriptor

    @property
    def maker(self) -> str:
        """The run that made the node, whose mark it bears: this one, or an earlier one that built
        what this one puts right. What serves several nodes is this run's own: its rollback takes
        nothing that nodes of an earlier one start from.
        """
        return self.run.made_by(self.step.node) if self.step.node else self.run.id

    def volume(self, what: str) -> str:
        """Name of a volume of the node."""
        return volume_of(self.maker, what)

    def tell(self, **values: Any) -> None:
        """Passing progress."""
        self.said = str(values.get("words", self.said))
        self.ports.hub.tell(self.run.id, self.step.key, **values)

    def transfer(self, total: int) -> Callable[[int], None]:
        """A teller of bytes sent, with the rate so far in bytes per second."""
        began = self.ports.clock()
        return lambda sent: self.tell(
            sent=sent, total=total, rate=sent / max(0.05, self.ports.clock() - began)
        )

    async def door(self, node: Node) -> NodeDoor:
        """The node's own interface."""
        kit = self.run.sheet.kit
        password = await self.ports.open_for_plan(
            self.run.sheet.plan.name, node.value(kit.admin_password)
        )
        return NodeDoor(
            self.ports.reach,
            NodeAccess(node.name, reached(kit, node), kit.service.port, kit.admin, password),
            self.record,
        )


class Kind(Protocol):
    """What every kind of step can do."""

    async def observe(self, c: Context) -> Found | None: ...
    async def act(self, c: Context) -> None: ...
    async def undo(self, c: Context) -> str: ...


def volume_of(run: str, what: str) -> str:
    """Name of a volume; the run in it is its mark."""
    return f"ns-{run}-{what}"


def options_of(c: Context) -> VmOptions:
    """How the node's VM is set up."""
    role = c.run.sheet.kit.role(c.node.role)
    return role.vm if role else VmOptions()


def limits_of(c: Context) -> VmLimits:
    """What the node's VM may take of its host."""
    return VmLimits(**options_of(c).limits.model_dump())


async def our_vm(c: Context, run: str) -> Vm | None:
    """The node's VM on the step's host, if there is one. Raises Conflict where that run did not
    make it.
    """
    found = await c.host.vms.find(c.node.name)
    if found is not None and not found.is_of(run):
        raise Conflict(
            f"VM {c.node.name} on {c.host.name} was not created by run {run}; it is left unchanged",
            code="not-ours",
            hint="Rename the node, or remove that VM yourself; then retry.",
        )
    return found


async def remove_volume(c: Context, name: str, datastore: str = "") -> bool:
    """Remove a volume of this run if it is there, waiting out a copy that the host still makes.
    True when it was there.
    """
    datastore = datastore or c.step.datastore
    for _ in range(60):
        if await c.host.storage.volume(datastore, name) is None:
            return False
        try:
            await c.host.storage.delete(datastore, name)
            return True
        except RemoteFailed as error:
            if "being allocated" not in str(error) and "in use" not in str(error):
                raise
        await c.ports.pause(1.0)
    raise RemoteFailed(
        f"volume {name} on {c.host.name} stays in use",
        target=c.host.name,
        hint="See what holds it, then retry.",
    )

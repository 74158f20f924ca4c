"""The job of rolling a plan out."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from nimble_stone.core.step import Step
from nimble_stone.engine import acceptance, machines, retiring, speaking, workload
from nimble_stone.engine.frozen import made_from, thaw
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.steps import KINDS, POLLED, STANDS, Context
from nimble_stone.engine.steps.returning import restored_of
from nimble_stone.engine.steps.undo_order import UNDO_STAGE
from nimble_stone.hosts.api import HostDriver, Recorder
from nimble_stone.packages import stored
from nimble_stone.ports.ports import Ports
from nimble_stone.store import entries, records
from nimble_stone.store.runs import RunRow

REPLACED = ("swap", "clone", "medium", "boot-files")
"""Kinds of steps of an upgrade that are undone: the node gets its former system disk back."""
RESTARTS = ("resize", "swap", "move", "reconfigure", "change")
"""Kinds of steps whose rollback takes a node that stands away for a while."""
READ_MACHINES_S = 30.0
"""For how long the end of a run waits for a slow controller."""


class Rollout:
    """A frozen run with its packages."""

    stages = 5

    def __init__(self, ports: Ports, row: RunRow, found: Mapping[str, records.PackageRow]) -> None:
        self.ports, self.run_id = ports, row.id
        self._contents = {sha256: stored.contents_of(package) for sha256, package in found.items()}
        self._main = row.package
        self._run = thaw(row, made_from(row, found))
        self.steps = self._run.steps

    @classmethod
    async def load(cls, ports: Ports, row: RunRow) -> Rollout:
        """Raises NotFound when a package is gone."""
        found = await ports.store.read(records.packages_of, row.packages)
        return await asyncio.to_thread(cls, ports, row, found)

    def kind(self, step: Step) -> Kind:
        """What carries the step out."""
        return KINDS[step.kind]

    def stays(self, step: Step) -> bool:
        """What it took away cannot be brought back, and what it did to nodes of earlier runs is
        theirs: a rollback leaves that as it is.
        """
        change = self._run.change
        if step.kind in ("leave", "retire"):
            return True
        if step.kind in ("resize", "grow", "move", "clear", "change", "reconfigure"):
            return False
        if change is not None and step.node in change.upgrades:
            return step.kind not in REPLACED
        return change is not None and bool(step.node) and step.node not in change.adds

    def asks(self, step: Step) -> bool:
        """Disks, media and VMs can be looked for."""
        return step.kind in STANDS and not self.on_machine(step)

    async def stands(self, step: Step, context: Context) -> bool:
        """Whether what it made is still there."""
        return await STANDS[step.kind](context)

    def polled(self, step: Step) -> bool:
        """Whether it waits for others' work."""
        return step.kind in POLLED

    def on_machine(self, step: Step) -> bool:
        """Nodes are on hypervisor hosts, or on bare machines."""
        ident = step.node or step.detail.get("by", "")
        node = self._run.sheet.node(ident)
        if node is None and self._run.change is not None:
            # one that is taken away is in the sheet no more
            node = self._run.change.old(ident)
        return node is not None and node.on_machine

    def stage(self, step: Step) -> int:
        """When it is taken back."""
        return UNDO_STAGE[step.kind]

    def alone(self, step: Step) -> bool:
        """A node that stands restarts only while all others are there."""
        return step.kind in RESTARTS

    def context(self, step: Step, host: HostDriver, record: Recorder) -> Context:
        """What the step works with."""
        node = self._run.sheet.node(step.node)
        package = self._run.sheet.packages.of(node.role) if node else None
        sha256 = step.detail.get("package") or (package.sha256 if package else self._main)
        return Context(self.ports, self._run, step, self._contents[sha256], host, record)

    async def finish(self) -> tuple[bool, dict[str, Any]]:
        """Prove what was built."""
        verdicts = await acceptance.prove(self.ports, self._run)
        await acceptance.keep(self.ports, self.run_id, verdicts)
        await speaking.close(self.ports, self._run)
        await self._read_machines()
        return all(v.passed for v in verdicts), {
            "passed": sum(v.passed for v in verdicts),
            "failed": sum(not v.passed for v in verdicts),
        }

    async def undoing(self) -> None:
        """Where the whole deployment goes, its VMs go first. Raises RemoteError."""
        await retiring.vms_removed(self.ports, self._run)

    async def undone(self) -> None:
        """Tokens of nodes that are gone go too."""
        await speaking.close(self.ports, self._run)
        await self._read_machines()
        await self.ports.store.write(entries.drop_secrets, f"run/{self.run_id}/")
        await self.ports.store.write(records.drop_meta, workload.place_of(self.run_id))
        await self.ports.store.write(records.drop_meta, restored_of(self.run_id))

    async def _read_machines(self) -> None:
        """Machines were switched: what is known of them is of before."""
        names = {node.value("host") for node in self._run.sheet.nodes if node.on_machine}
        if not names:
            return
        estate = await self.ports.store.read(records.load_estate)
        chosen = [one for one in estate.machines if one.name in names]
        await machines.read(self.ports, chosen, estate.machine_facts, limit_s=READ_MACHINES_S)

"""The job of rolling a plan out."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from typing import Any

from nimble_stone.core.sequence import Step
from nimble_stone.engine import acceptance
from nimble_stone.engine.frozen import made_from, thaw
from nimble_stone.engine.jobs import Kind
from nimble_stone.engine.steps import KINDS, POLLED, Context
from nimble_stone.hosts.api import HostDriver, Recorder
from nimble_stone.packages import stored
from nimble_stone.ports.ports import Ports
from nimble_stone.store import entries, records
from nimble_stone.store.runs import RunRow

UNDO_STAGE = {
    "call": 0,
    "services": 0,
    "boot": 0,
    "learn": 0,
    "start": 0,
    "define": 1,
    "medium": 2,
    "clone": 2,
    "tidy": 2,
    "carry": 3,
}
"""In which order things are taken back: guests before their disks, disks before the copies they
were made from.
"""


class Rollout:
    """A frozen run with its packages."""

    stages = 4

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

    def polled(self, step: Step) -> bool:
        """Whether it waits for others' work."""
        return step.kind in POLLED

    def stage(self, step: Step) -> int:
        """When it is taken back."""
        return UNDO_STAGE[step.kind]

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
        return all(v.passed for v in verdicts), {
            "passed": sum(v.passed for v in verdicts),
            "failed": sum(not v.passed for v in verdicts),
        }

    async def undone(self) -> None:
        """Tokens of nodes that are gone go too."""
        await self.ports.store.write(entries.drop_secrets, f"run/{self.run_id}/")

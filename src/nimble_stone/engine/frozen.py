"""Runs as they were frozen, read from the store with what their nodes are made from."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping
from dataclasses import dataclass, field

from nimble_stone.core.plan.packages import Packages
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.runs import document
from nimble_stone.core.runs.change import Change
from nimble_stone.core.step import Step
from nimble_stone.packages import stored
from nimble_stone.store import records
from nimble_stone.store.connect import Store
from nimble_stone.store.records import PackageRow
from nimble_stone.store.runs import RunRow


@dataclass
class FrozenRun:
    """A run read back: its sheet and its steps by key, in sequence. Only what nodes are given on
    the way (an address by DHCP) is added to it.
    """

    id: str
    sheet: Sheet
    steps: Mapping[str, Step]
    domain_types: Mapping[str, str]
    change: Change | None = None
    processors: Mapping[str, str] = field(default_factory=dict)
    """Host → the processor that VMs get there, where it is not the host's own model."""

    def made_by(self, ident: str) -> str:
        """The run that made a node: this one, or an earlier one of the same deployment."""
        if self.change is None or ident in self.change.upgrades:
            return self.id
        return self.change.built.get(ident, self.id)

    def makers(self, ident: str) -> tuple[str, ...]:
        """The runs whose mark its VM may bear: while nodes are upgraded, an earlier one too."""
        former = self.change.built.get(ident) if self.change else None
        return tuple(filter(None, dict.fromkeys((self.made_by(ident), former))))

    def learn(self, ident: str, values: Mapping[str, str]) -> None:
        """Put what a node was given into its cells."""
        self.sheet = document.with_values(self.sheet, {ident: values})


def made_from(row: RunRow, found: Mapping[str, PackageRow]) -> Packages:
    """What a run's nodes are made from; `found`: its packages by digest."""
    return Packages(
        stored.view_of(found[row.package]),
        {role: stored.view_of(found[sha256]) for role, sha256 in row.own_packages.items()},
    )


async def thawed(store: Store, row: RunRow) -> FrozenRun:
    """The run as it was frozen. Raises FormatError for a document that cannot be read, NotFound
    when one of the packages that an old one names is gone.
    """
    if row.doc.get("version", 1) > 1:
        return await asyncio.to_thread(thaw, row, Packages())
    found = await store.read(records.packages_of, row.packages)
    return await asyncio.to_thread(lambda: thaw(row, made_from(row, found)))


def thaw(row: RunRow, packages: Packages) -> FrozenRun:
    """The run as it was frozen. Raises FormatError."""
    found = document.read(row.doc, packages)
    return FrozenRun(
        row.id, found.sheet, found.steps, found.domain_types, found.change, found.processors
    )

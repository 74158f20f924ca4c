"""The fencing volume that nodes share: made by host preparation, named by the plan. Pure."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.core.preparation import fence_volume


@dataclass(frozen=True)
class Fence:
    """Where it lies, and the volume's name there."""

    datastore: str
    volume: str

    @property
    def source(self) -> str:
        """As a VM's disk names it."""
        return f"{self.datastore}/{self.volume}"


def named(text: str) -> Fence | None:
    """What a cell names as DATASTORE/NAME; None for anything else."""
    store, _, name = text.partition("/")
    return Fence(store, fence_volume(name)) if store and name else None

"""What a run changes of a deployment that stands. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from nimble_stone.core.plan.sheet import Node


@dataclass(frozen=True)
class Change:
    """A run that is not the first of its plan, or that adopts. `adds`: nodes it makes; `adopts`:
    those of them whose VMs others had made; `built`: the other nodes →
    the run that made them; `left`: nodes it takes away → the run that made them, and how they were
    (`leaving`); `resizes`: nodes of `built` that it gives other vCPUs and memory, or larger
    disks; `upgrades`: nodes of `built` whose system disk it replaces; `former`: how they,
    and those that it moves, were before.
    """

    adds: tuple[str, ...]
    built: Mapping[str, str] = field(default_factory=dict)
    left: Mapping[str, str] = field(default_factory=dict)
    leaving: tuple[Node, ...] = ()
    resizes: tuple[str, ...] = ()
    upgrades: tuple[str, ...] = ()
    former: tuple[Node, ...] = ()
    adopts: tuple[str, ...] = ()

    @property
    def stood(self) -> tuple[str, ...]:
        """Nodes that were deployed before, and still are to be afterwards."""
        return (*self.built, *(ident for ident in self.adds if ident in self.left))

    def before(self, ident: str) -> Node:
        """A node as it was before this run changed it. Raises StopIteration for one that it does
        not change.
        """
        return next(node for node in self.former if node.id == ident)

    def old(self, ident: str) -> Node | None:
        """A node that is taken away, as it was built."""
        return next((node for node in self.leaving if node.id == ident), None)

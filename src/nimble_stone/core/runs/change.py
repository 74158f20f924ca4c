"""What a run changes of a deployment that stands. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from nimble_stone.core.plan.sheet import Node


@dataclass(frozen=True)
class Change:
    """A run that is not the first of its plan. `adds`: nodes it makes; `built`: the other nodes →
    the run that made them; `left`: nodes it takes away → the run that made them, and how they were
    (`leaving`).
    """

    adds: tuple[str, ...]
    built: Mapping[str, str] = field(default_factory=dict)
    left: Mapping[str, str] = field(default_factory=dict)
    leaving: tuple[Node, ...] = ()

    def old(self, ident: str) -> Node | None:
        """A node that is taken away, as it was built."""
        return next((node for node in self.leaving if node.id == ident), None)

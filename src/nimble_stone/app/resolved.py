"""A plan that was evaluated, and plans that are evaluated one after the other."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field

from nimble_stone.core.checks import Claim
from nimble_stone.core.deployment import Changes
from nimble_stone.core.estate import Estate
from nimble_stone.core.findings import Finding
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.sequence import Forecast, Wave
from nimble_stone.core.step import Step


@dataclass(frozen=True)
class Resolved:
    """A plan, calculated. `estate_number`: how often the estate had changed by then."""

    sheet: Sheet
    estate: Estate
    findings: list[Finding]
    steps: list[Step]
    forecast: Forecast
    waves: list[Wave]
    claims: tuple[Claim, ...]
    licence: str
    fitting: Mapping[str, Sequence[str]] = field(default_factory=dict)
    """Role ('' for the plan's package) → packages taken in that would do."""
    estate_number: int = 0
    changes: Changes | None = None
    """What a run would change of what stands; None: nothing stands."""


@dataclass(frozen=True)
class Course:
    """A plan's steps, when each is expected, and the waves they come in."""

    steps: list[Step]
    forecast: Forecast
    waves: list[Wave]


@dataclass
class Before:
    """Plans that are calculated one after the other without being saved: what the earlier ones
    hold.
    """

    claims: list[Claim] = field(default_factory=list)

    def add(self, resolved: Resolved) -> None:
        """Let what this plan holds be held."""
        held = resolved.sheet.by_node()
        self.claims += [
            Claim(
                "",
                resolved.sheet.plan.name,
                node.name,
                held.get(node.id, ()),
                node.value("host"),
                node.memory_bytes,
                node.vcpu,
            )
            for node in resolved.sheet.nodes
        ]

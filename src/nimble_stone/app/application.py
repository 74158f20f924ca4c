"""What use cases work with: the engine's app, and answers that are kept."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any

from nimble_stone.core.checks import Claim
from nimble_stone.core.deployment import Part
from nimble_stone.core.estate import Estate
from nimble_stone.ports.cache import Latest, Recent
from nimble_stone.ports.ports import Ports
from nimble_stone.store.designs import Holding

if TYPE_CHECKING:
    from nimble_stone.app.claims import Held
    from nimble_stone.app.resolved import Course

RUNS, COURSES, PLANS, ANSWERS, LINES, READY = 2048, 8, 256, 64, 512, 1024


@dataclass
class Caches:
    """Each with what it is keyed by. Any of them may be emptied at any time."""

    estate: Latest[int, Estate] = field(default_factory=Latest)
    """The number of the estate's changes."""
    held: Latest[int, Held] = field(default_factory=Latest)
    """The number of changes of what plans hold."""
    claims: Recent[str, tuple[Claim, ...]] = field(default_factory=lambda: Recent(RUNS))
    """A run, which never changes what it builds."""
    made: Recent[str, Part] = field(default_factory=lambda: Recent(RUNS))
    """A run: the nodes that it was to make."""
    courses: Recent[object, Course] = field(default_factory=lambda: Recent(COURSES))
    """All of a plan that its sequence depends on."""
    holdings: Recent[str, tuple[int, Holding]] = field(default_factory=lambda: Recent(PLANS))
    """A plan; with the number of changes by which it was written down."""
    rates: Latest[float, dict[str, float]] = field(default_factory=Latest)
    """When the newest step ended."""
    hosts: Latest[object, bytes] = field(default_factory=Latest)
    """The estate's number, the bay, and whose guests are left out: its hosts as JSON."""
    answers: Recent[str, dict[str, Any]] = field(default_factory=lambda: Recent(ANSWERS))
    """The tag of an answer about a plan that a page may still have."""
    lines: Recent[object, Any] = field(default_factory=lambda: Recent(LINES))
    """A run with the newest entry of its journal: its line in lists."""

    blockers: Recent[object, int] = field(default_factory=lambda: Recent(READY))
    """A plan's version, the estate's number and that of what plans hold: how many blockers."""


@dataclass
class Application(Ports):
    """Everything that use cases need."""

    caches: Caches = field(default_factory=Caches, repr=False)

"""Drift: what stands otherwise than it was built, since when, and what was decided about it.
Pure.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from nimble_stone.core.acceptance import Verdict

RESTARTS = frozenset({"running", "autostart", "port", "host", "hardware"})
"""Checks whose drift is put back by defining and starting a node's VM again."""
SIZES = frozenset({"hardware"})
"""Checks of vCPUs and memory: what was found can be taken into the plan."""


@dataclass(frozen=True)
class Drift:
    """One difference. `node` is '' for the cluster; `was`: as it was built, `now`: as it was found;
    `since`: when it was first seen, `seen`: last. Accepted with a `reason` until a day (`until`, 0:
    not accepted).
    """

    node: str
    check: str
    label: str
    was: str
    now: str
    since: float
    seen: float
    reason: str = ""
    until: float = 0.0

    def is_open(self, at: float) -> bool:
        """Whether somebody has to decide something."""
        return self.until <= at


def merged(before: Iterable[Drift], verdicts: Sequence[Verdict], at: float) -> list[Drift]:
    """The drift after another reading. What holds again is gone; what could not be asked stays as
    it was: silence is no recovery. Accepted drift that became another is open again. Cost:
    O(drift + verdicts).
    """
    known = {(one.node, one.check): one for one in before}
    found = []
    for verdict in verdicts:
        old = known.get((verdict.node, verdict.proof))
        if not verdict.checked:
            found += [old] if old else []
        elif not verdict.passed:
            fresh = Drift(
                verdict.node,
                verdict.proof,
                verdict.label,
                verdict.expected,
                verdict.found,
                old.since if old else at,
                at,
            )
            same = old is not None and old.now == fresh.now
            found.append(
                replace(fresh, reason=old.reason, until=old.until) if same and old else fresh
            )
    return found

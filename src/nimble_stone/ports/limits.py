"""How much is done at once: limits per host, per datastore and overall that hold over all runs,
shared out fairly between them.

A run says which of its steps could begin; steps get a slot when all three limits leave one. Where
several runs want one, the run that
has fewest goes first, then the one that has waited longest. Waits for what guests do by themselves
take no slot.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable, Iterable
from dataclasses import dataclass, field

from nimble_stone.core.sequence import Limits
from nimble_stone.core.step import Step


@dataclass
class _Claim:
    """What a run wants and has. `wake` is called when it was given something."""

    wake: Callable[[], None]
    wanted: dict[str, Step] = field(default_factory=dict)
    held: dict[str, Step] = field(default_factory=dict)
    since: int = 0


class Limiter:
    """The slots of one server."""

    def __init__(self, limits: Limits = Limits()) -> None:
        self._limits = limits
        self._claims: dict[str, _Claim] = {}
        self._turn = itertools.count(1)

    @property
    def limits(self) -> Limits:
        """The limits that hold now."""
        return self._limits

    def change(self, limits: Limits) -> None:
        """Other limits from now on; what is running goes on."""
        self._limits = limits
        self._share()

    def want(self, run: str, steps: Iterable[Step], wake: Callable[[], None]) -> set[str]:
        """Say which steps of a run could begin now; keys of those that hold a slot. Others get
        theirs later, and `wake` is called.
        """
        claim = self._claims.setdefault(run, _Claim(wake, since=next(self._turn)))
        claim.wake = wake
        claim.wanted = {step.key: step for step in steps if step.key not in claim.held}
        self._share(run)
        return set(claim.held)

    def release(self, run: str, key: str) -> None:
        """A step has ended."""
        claim = self._claims.get(run)
        if claim is not None and claim.held.pop(key, None) is not None:
            self._share()

    def leave(self, run: str) -> None:
        """A run has ended, or is carried out here no more."""
        if self._claims.pop(run, None) is not None:
            self._share()

    def why(self, run: str) -> dict[str, str]:
        """Step of a run that waits for a slot → which limit it waits for, in words."""
        claim = self._claims.get(run)
        return {key: self._full(step) for key, step in claim.wanted.items()} if claim else {}

    def shares(self) -> dict[str, tuple[int, int]]:
        """Run → (steps that hold a slot, steps that wait for one)."""
        return {run: (len(claim.held), len(claim.wanted)) for run, claim in self._claims.items()}

    def _busy(self) -> Iterable[Step]:
        return (step for claim in self._claims.values() for step in claim.held.values())

    def _full(self, step: Step) -> str:
        """The limit that keeps a step waiting, '' when none does. Cost: O(steps under way)."""
        busy = list(self._busy())
        if len(busy) >= self._limits.overall:
            return f"limit of {self._limits.overall} steps at once reached"
        if step.host and sum(other.host == step.host for other in busy) >= self._limits.per_host:
            return f"limit of {self._limits.per_host} steps on {step.host} reached"
        if (
            step.datastore
            and sum((other.host, other.datastore) == (step.host, step.datastore) for other in busy)
            >= self._limits.per_datastore
        ):
            return (
                f"limit of {self._limits.per_datastore} steps on datastore {step.datastore} reached"
            )
        return ""

    def _share(self, asking: str = "") -> None:
        """Give out what is free. `asking`: the run that looks itself and need not be woken."""
        given: set[str] = set()
        while (found := self._next()) is not None:
            run, step = found
            claim = self._claims[run]
            claim.held[step.key] = claim.wanted.pop(step.key)
            claim.since = next(self._turn)
            given.add(run)
        for run in given - {asking}:
            self._claims[run].wake()

    def _next(self) -> tuple[str, Step] | None:
        """Whose turn it is."""
        for run, claim in sorted(
            self._claims.items(), key=lambda item: (len(item[1].held), item[1].since)
        ):
            for step in claim.wanted.values():
                if not self._full(step):
                    return run, step
        return None

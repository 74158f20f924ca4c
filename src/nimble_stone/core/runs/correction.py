"""A run takes over a corrected kit: what may be otherwise, and what its steps are then. Pure."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace

from nimble_stone.core import sequence
from nimble_stone.core.kit.model import Kit
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.step import Step

FREE = (
    "acceptance",
    "access",
    "changing",
    "durations",
    "forming",
    "healthy",
    "joining",
    "leaving",
    "outside",
    "ports",
    "service",
    "sizes",
    "sizing",
    "stages",
    "summary",
    "systems",
    "title",
)
"""Parts of a kit by which nothing was built yet when a setup step runs."""
SETUP = ("call", "first-password", "stage")


@dataclass(frozen=True)
class Correction:
    """What a corrected kit brings to a run. `parts`: what differs; `refused`: why it cannot be
    taken over, in words, nothing when it can.
    """

    sheet: Sheet
    steps: Mapping[str, Step]
    parts: tuple[str, ...]
    refused: tuple[str, ...]


def corrected(
    sheet: Sheet, steps: Mapping[str, Step], kit: Kit, *, changes: bool, pace: float
) -> Correction:
    """The run by another version of its kit. `changes`: it is a change, which has a part of the
    setup only. Its setup steps stay the same ones: what they ask, of whom, in which order and for
    how long may differ. Cost: O(steps + dependencies).
    """
    parts = _differing(sheet.kit, kit)
    refused = [
        f"{part} differs: what it says is built already" for part in parts if part not in FREE
    ]
    if refused:
        return Correction(sheet, steps, parts, tuple(refused))
    fresh = replace(sheet, kit=kit)
    setup = {step.key: step for step in sequence.setup(fresh, pace)}
    before = {key for key, step in steps.items() if step.kind in SETUP}
    gone = sorted(before - set(setup))
    new = [] if changes else sorted(set(setup) - before)
    refused = [f"setup step {key} is in the kit no more" for key in gone[:3]]
    refused += [f"setup step {key} is new in the kit" for key in new[:3]]
    found = {
        key: _known(setup[key], steps) if key in setup and key in before else step
        for key, step in steps.items()
    }
    return Correction(fresh, found, parts, tuple(refused))


def _known(step: Step, steps: Mapping[str, Step]) -> Step:
    return replace(step, after=tuple(key for key in step.after if key in steps))


def _differing(old: Kit, new: Kit) -> tuple[str, ...]:
    was, now = (one.model_dump(mode="json") for one in (old, new))
    return tuple(sorted(key for key in was | now if was.get(key) != now.get(key)))

"""How long a run takes when steps take now shorter, now longer: the sequence played through many
times at once. Pure; the seed is given.

Each step's time is drawn around its expected one; waits vary more than work that this program does
itself. All rounds are
played side by side as NumPy vectors: O(steps × (rounds + lanes)).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from nimble_stone.core.sequence import Limits, forecast
from nimble_stone.core.step import Step

ROUNDS = 400
SPREAD_WORK, SPREAD_WAIT = 0.25, 0.45
"""Standard deviation of the logarithm of a step's time: work done by hosts at our word, and waits
for what guests do by themselves.
"""


@dataclass(frozen=True)
class Chances:
    """Seconds within which half and nine tenths of the rounds ended, and the step keys of the
    longest way by expected times.
    """

    p50_seconds: float
    p90_seconds: float
    critical_path: tuple[str, ...]


def rounds_for(steps: int) -> int:
    """Fewer rounds for long sequences, whose ends vary less: the answer stays quick."""
    return max(60, min(ROUNDS, 400_000 // max(1, steps)))


def chances(
    steps: Sequence[Step],
    limits: Limits = Limits(),
    *,
    seed: int = 44,
    rounds: int = ROUNDS,
    measured: Mapping[str, float] | None = None,
) -> Chances:
    """Play a sequence through `rounds` times. `measured`: kind of step → factor on its expected
    time, where this estate was seen to be faster or slower.

    The same steps and the same seed give the same answer.
    """
    if not steps:
        return Chances(0.0, 0.0, ())
    expected = forecast(list(steps), limits)
    order = sorted(
        steps,
        key=lambda step: (
            expected.slots[step.key].start_s if step.key in expected.slots else 0.0,
            step.wave,
        ),
    )
    random = np.random.default_rng(seed)
    ends: dict[str, NDArray[np.float64]] = {}
    lanes: dict[str, NDArray[np.float64]] = defaultdict(lambda: np.zeros((limits.per_host, rounds)))
    overall = np.zeros((limits.overall, rounds))
    across = np.arange(rounds)
    end = np.zeros(rounds)
    for step in order:
        spread = SPREAD_WAIT if step.waits else SPREAD_WORK
        # The median of the draw is the expected time; nothing takes longer than its deadline, for
        # then it has failed.
        took = np.minimum(
            step.expected_s
            * (measured or {}).get(step.kind, 1.0)
            * np.exp(spread * random.standard_normal(rounds)),
            step.deadline_s,
        )
        start = np.zeros(rounds)
        for key in step.after:
            if key in ends:
                start = np.maximum(start, ends[key])
        if not step.waits:
            # a node without a host yet will have one, with lanes of its own
            own = lanes[step.host] if step.host else overall
            i, j = own.argmin(axis=0), overall.argmin(axis=0)
            start = np.maximum(start, np.maximum(own[i, across], overall[j, across]))
            own[i, across] = overall[j, across] = start + took
        ends[step.key] = start + took
        end = np.maximum(end, ends[step.key])
    p50, p90 = np.percentile(end, [50, 90])
    return Chances(round(float(p50), 1), round(float(p90), 1), expected.critical)

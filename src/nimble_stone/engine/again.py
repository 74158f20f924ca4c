"""What a finished step made and is no longer there: a VM or a disk removed by hand, a VM that its
host's power failure stopped. A retry makes it again before it tries what failed.
"""

from __future__ import annotations

from collections.abc import Awaitable, Callable, Iterable, Mapping

from nimble_stone.core.errors import RemoteError, StoreError
from nimble_stone.core.runs.states import StepState
from nimble_stone.core.step import Step
from nimble_stone.engine.jobs import Job

Asks = Callable[[Step], Awaitable[bool]]
ANEW = frozenset({"clone", "medium", "define", "swap"})
"""Whose loss makes the node a new one: all that was done with it is done again."""
SHARED = frozenset({"carry"})
"""Serves several nodes, who go on with what they have."""


async def lost(
    job: Job, states: Mapping[str, StepState], chosen: Iterable[str], stands: Asks
) -> list[str]:
    """Finished steps to be carried out again, in sequence: those before the `chosen` ones on their
    nodes whose result is gone, and what was built on it. `stands`: whether a step's result is
    there. What cannot be asked counts as there: the retry itself tells.

    Cost: O(steps) and one question for each step of these nodes that can be asked.
    """
    found: set[str] = set()
    for key in chosen:
        step = job.steps[key]
        if not step.node or any(_installs(one) for one in _of(job, step.node)):
            continue
        before = _before(job, step)
        own = [
            one
            for one in job.steps.values()
            if one.key in before
            and states[one.key] == StepState.DONE
            and (one.node == step.node or one.kind in SHARED)
        ]
        for one in own:
            if one.key not in found and job.asks(one) and not await _there(stands, one):
                found |= {one.key, *_built_on(job, states, one)}
    return [key for key in job.steps if key in found]


async def _there(stands: Asks, step: Step) -> bool:
    try:
        return await stands(step)
    except StoreError:
        raise
    except RemoteError:
        return True


def _of(job: Job, node: str) -> list[Step]:
    return [step for step in job.steps.values() if step.node == node]


def _installs(step: Step) -> bool:
    """An installer's progress is no state of the host that could be looked at."""
    return step.kind in ("install-vm", "install", "write")


def _before(job: Job, step: Step) -> set[str]:
    """All steps that come before one."""
    found: set[str] = set()
    open_ = list(step.after)
    while open_:
        key = open_.pop()
        if key in job.steps and key not in found:
            found.add(key)
            open_ += job.steps[key].after
    return found


def _built_on(job: Job, states: Mapping[str, StepState], gone: Step) -> set[str]:
    """Finished steps of its node that have to be done again with it. A VM that merely stopped has
    lost nothing: it is only waited for again.
    """
    if gone.kind in SHARED:
        return set()
    return {
        step.key
        for step in _of(job, gone.node)
        if states[step.key] == StepState.DONE
        and gone.key in _before(job, step)
        and (gone.kind in ANEW or step.waits)
    }

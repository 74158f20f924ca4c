"""The states of runs and steps, and which may follow which. Data: everything that asks for a state
asks here, the store refuses what is not in these tables, and the docs' picture is drawn from them.
"""

from __future__ import annotations

from collections.abc import Mapping
from enum import StrEnum
from typing import Any

from nimble_stone.core.errors import StoneError


class RunState(StrEnum):
    """How a run stands as a whole. The values are what the store and the API say."""

    RUNNING = "running"
    HELD = "held"
    TROUBLE = "trouble"
    CHECKING = "proving"
    DONE = "done"
    UNPROVED = "unproved"
    UNDOING = "undoing"
    UNDONE = "undone"


class StepState(StrEnum):
    """How a step stands."""

    PLANNED = "planned"
    WORKING = "working"
    WAITING = "waiting"
    DONE = "done"
    FAILED = "failed"
    SKIPPED = "skipped"
    UNDOING = "undoing"
    UNDONE = "undone"


RUN_MOVES: Mapping[RunState, frozenset[RunState]] = {
    RunState.RUNNING: frozenset(
        {RunState.HELD, RunState.TROUBLE, RunState.CHECKING, RunState.UNDOING}
    ),
    RunState.HELD: frozenset({RunState.RUNNING, RunState.UNDOING}),
    RunState.TROUBLE: frozenset(
        {RunState.RUNNING, RunState.HELD, RunState.CHECKING, RunState.UNDOING}
    ),
    RunState.CHECKING: frozenset(
        {RunState.DONE, RunState.UNPROVED, RunState.TROUBLE, RunState.UNDOING}
    ),
    # checked again: the verdict may be the same or another
    RunState.DONE: frozenset({RunState.DONE, RunState.UNPROVED, RunState.UNDOING}),
    RunState.UNPROVED: frozenset({RunState.DONE, RunState.UNPROVED, RunState.UNDOING}),
    # asked for once more after it got stuck
    RunState.UNDOING: frozenset({RunState.UNDOING, RunState.UNDONE}),
    RunState.UNDONE: frozenset(),
}

STEP_MOVES: Mapping[StepState, frozenset[StepState]] = {
    # a step that was tried and is to be tried again may be undone before that
    StepState.PLANNED: frozenset({StepState.WORKING, StepState.WAITING, StepState.UNDOING}),
    # the server was killed meanwhile, or the next attempt begins
    StepState.WORKING: frozenset(
        {
            StepState.WORKING,
            StepState.WAITING,
            StepState.DONE,
            StepState.FAILED,
            StepState.UNDOING,
        }
    ),
    StepState.WAITING: frozenset(
        {
            StepState.WORKING,
            StepState.WAITING,
            StepState.DONE,
            StepState.FAILED,
            StepState.PLANNED,
            StepState.UNDOING,
        }
    ),
    # planned again: what it made is gone
    StepState.DONE: frozenset({StepState.PLANNED, StepState.UNDOING}),
    # undone: its rollback failed, and a person leaves as it is what it made
    StepState.FAILED: frozenset(
        {StepState.PLANNED, StepState.SKIPPED, StepState.UNDOING, StepState.UNDONE}
    ),
    StepState.SKIPPED: frozenset({StepState.UNDOING}),
    StepState.UNDOING: frozenset({StepState.UNDOING, StepState.UNDONE, StepState.FAILED}),
    StepState.UNDONE: frozenset(),
}

ACTIVE = frozenset(
    {
        RunState.RUNNING,
        RunState.HELD,
        RunState.TROUBLE,
        RunState.CHECKING,
        RunState.UNDOING,
    }
)
"""Runs that are driven, or that wait for a person."""
ENDED = frozenset(RunState) - ACTIVE
STANDING = frozenset({RunState.DONE, RunState.UNPROVED})
"""Runs that have ended and whose nodes stand."""
FINISHED = frozenset({StepState.DONE, StepState.SKIPPED})
"""Steps after which the next ones may begin."""
UNDER_WAY = frozenset({StepState.WORKING, StepState.WAITING})
OPEN = frozenset({StepState.PLANNED, StepState.WORKING, StepState.WAITING})
"""Steps that can be begun, or begun again after the server was killed."""


class IllegalMove(StoneError):
    """A move that the tables do not have. A fault of ours, never of a user."""

    code = "state-move"


def check_run_move(before: RunState, after: RunState, run: str) -> None:
    """Raises IllegalMove for a move of a run that the table does not have."""
    if after not in RUN_MOVES[before]:
        raise IllegalMove(f"run {run} is “{before}” and cannot become “{after}”")


def check_step_move(before: StepState, after: StepState, key: str) -> None:
    """Raises IllegalMove for a move of a step that the table does not have."""
    if after not in STEP_MOVES[before]:
        raise IllegalMove(f"step {key} is “{before}” and cannot become “{after}”")


_SAID = {
    RunState.CHECKING: "checking",
    RunState.TROUBLE: "stopped",
    RunState.UNPROVED: "done, checks failed",
}


def picture() -> str:
    """Both tables as Mermaid state diagrams, for the docs."""
    lines = ["```mermaid", "stateDiagram-v2"]
    lines += [f"  {state} : {text}" for state, text in _SAID.items()]
    lines += ["  [*] --> running", *_arrows(RUN_MOVES), "```", ""]
    lines += ["```mermaid", "stateDiagram-v2", "  [*] --> planned", *_arrows(STEP_MOVES), "```"]
    return "\n".join(lines) + "\n"


def _arrows(moves: Mapping[Any, frozenset[Any]]) -> list[str]:
    order = list(moves)
    return [
        f"  {before} --> {after}"
        for before in order
        for after in sorted(moves[before], key=order.index)
    ]

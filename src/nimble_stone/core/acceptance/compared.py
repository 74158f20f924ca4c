"""Two rounds of acceptance, compared: what passes now and did not, or the other way round, what is
found otherwise, and what was measured. Pure.
"""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass

from nimble_stone.core.acceptance.model import Verdict

VARIES = ("clock", "workload")
"""Kinds whose words are others each time: only their outcome is compared."""


@dataclass(frozen=True)
class Compared:
    """A check in both rounds. `node`: its id, '' the cluster; outcomes are “passed”, “failed”, “not
    checked”, or “not made” where one of the rounds has it not.
    """

    node: str
    check: str
    label: str
    was: str
    now: str
    was_outcome: str
    now_outcome: str


@dataclass(frozen=True)
class Comparison:
    """What changed, and what was measured in both rounds (series), whether or not it changed."""

    changed: tuple[Compared, ...]
    measured: tuple[Compared, ...]


def outcome_of(verdict: Verdict | None) -> str:
    """A result in words."""
    if verdict is None:
        return "not made"
    if verdict.passed:
        return "passed"
    return "failed" if verdict.checked else "not checked"


def compare(
    before: Sequence[Verdict], now: Sequence[Verdict], varying: Collection[str]
) -> Comparison:
    """`varying`: ids of checks whose words are others each time. Cost: O(verdicts)."""
    old = {(one.node, one.proof): one for one in before}
    new = {(one.node, one.proof): one for one in now}
    changed, measured = [], []
    for key in dict.fromkeys((*new, *old)):
        was, is_now = old.get(key), new.get(key)
        shown = is_now or was
        assert shown is not None
        one = Compared(
            shown.node,
            shown.proof,
            shown.label,
            was.found if was else "",
            is_now.found if is_now else "",
            outcome_of(was),
            outcome_of(is_now),
        )
        both_measured = was and is_now and was.chart and is_now.chart
        if one.was_outcome != one.now_outcome:
            changed.append(one)
        elif both_measured:
            measured.append(one)
        elif one.was != one.now and shown.proof not in varying:
            changed.append(one)
    return Comparison(tuple(changed), tuple(measured))

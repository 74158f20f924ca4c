"""A number that is asked for again and again: median and worst are judged, all are drawn."""

from __future__ import annotations

import statistics
from dataclasses import dataclass

from nimble_stone.core.acceptance.asked import number_of, subject_node
from nimble_stone.core.acceptance.model import Chart, Kind, Subject


@dataclass(frozen=True)
class Limits:
    """What a series must keep: its median between `least` and `most`, no value above `worst`. None:
    not limited.
    """

    times: int
    unit: str = ""
    least: float | None = None
    most: float | None = None
    worst: float | None = None


@dataclass(frozen=True)
class Seen:
    """The values in the order they came; `missing`: how many answers had none."""

    values: tuple[float, ...]
    missing: int = 0
    unit: str = ""

    @property
    def median(self) -> float:
        """Of the values; there is at least one."""
        return statistics.median(self.values)


def limits(subject: Subject) -> Limits | None:
    """What the plan says of the series; None for a node whose role the check is not for."""
    check, node = subject.proof, subject_node(subject)
    if node is None or (subject.node and check.roles and not node.has_any(check.roles)):
        return None
    return Limits(
        check.times,
        check.unit,
        number_of(check.at_least, subject, node),
        number_of(check.at_most, subject, node),
        number_of(check.worst, subject, node),
    )


def holds(wanted: Limits, found: Seen, tolerance: float) -> bool:
    """Whether each answer had a value, and they are as they must be."""
    if found.missing or not found.values:
        return False
    low = wanted.least is None or found.median >= wanted.least - tolerance
    high = wanted.most is None or found.median <= wanted.most + tolerance
    return low and high and (wanted.worst is None or max(found.values) <= wanted.worst + tolerance)


def _limits_text(wanted: Limits, _: float) -> str:
    unit = f" {wanted.unit}" if wanted.unit else ""
    parts = [
        (wanted.least, "median at least"),
        (wanted.most, "median at most"),
        (wanted.worst, "worst at most"),
    ]
    told = [f"{words} {limit:g}{unit}" for limit, words in parts if limit is not None]
    return ", ".join(told) or f"{wanted.times} values"


def _seen_text(found: Seen) -> str:
    unit = f" {found.unit}" if found.unit else ""
    asked = len(found.values) + found.missing
    if not found.values:
        return f"no value in {asked} answers"
    lost = f"; {found.missing} of {asked} answers had none" if found.missing else ""
    return (
        f"median {found.median:.4g}{unit}, worst {max(found.values):.4g}{unit},"
        f" {len(found.values)} values{lost}"
    )


def chart(wanted: Limits, found: Seen) -> Chart | None:
    """The series as a drawing has it; None where there are no values."""
    if not found.values:
        return None
    return Chart(found.values, wanted.unit, found.median, wanted.least, wanted.most, wanted.worst)


KINDS = (Kind("series", "node", limits, _seen_text, holds, _limits_text, chart=chart),)

"""Readings of what stands, one after the other."""

from __future__ import annotations

from dataclasses import replace

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.drift import Drift, merged


def verdict(node: str, found: str, *, passed: bool = False, checked: bool = True) -> Verdict:
    return Verdict("running", "VM running", node, "running", found, passed, "virsh", checked)


def read(before: list[Drift], *verdicts: Verdict, at: float) -> list[Drift]:
    return merged(before, verdicts, at)


def test_drift_is_as_old_as_its_first_sight_and_gone_when_it_holds_again() -> None:
    first = read([], verdict("lead-1", "shut off"), at=100)
    assert [(one.was, one.now, one.since, one.seen) for one in first] == [
        ("running", "shut off", 100, 100)
    ]
    later = read(first, verdict("lead-1", "paused"), at=200)
    assert [(one.now, one.since, one.seen) for one in later] == [("paused", 100, 200)]
    assert read(later, verdict("lead-1", "running", passed=True), at=300) == []


def test_silence_is_no_recovery_and_no_drift() -> None:
    silent = verdict("lead-1", "not known: no answer", checked=False)
    assert read([], silent, at=100) == []
    first = read([], verdict("lead-1", "shut off"), at=100)
    assert read(first, silent, at=200) == first


def test_accepted_drift_is_open_again_when_it_is_another_or_its_day_is_over() -> None:
    one = read([], verdict("lead-1", "shut off"), at=100)[0]
    accepted = replace(one, reason="moved", until=1000.0)
    same = read([accepted], verdict("lead-1", "shut off"), at=200)[0]
    assert (same.reason, same.is_open(200), same.is_open(1000)) == ("moved", False, True)
    other = read([accepted], verdict("lead-1", "no such VM"), at=200)[0]
    assert (other.reason, other.is_open(200)) == ("", True)


def test_the_cluster_drifts_too() -> None:
    assert [one.node for one in read([], verdict("", "2 members"), at=100)] == [""]

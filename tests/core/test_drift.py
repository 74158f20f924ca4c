"""Readings of what stands, one after the other."""

from __future__ import annotations

from dataclasses import replace

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.drift import Drift, can_be_taken, host_of, merged, of_hosts
from nimble_stone.core.estate_rules import Violation


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


def broken(host: str, rule: str, message: str = "no") -> Violation:
    return Violation(rule, host, "caution", message)


def test_a_rule_that_a_host_broke_before_is_no_drift_and_one_that_it_breaks_since_is() -> None:
    now = [broken("gannet", "swap"), broken("gannet", "clock", "off by 40 s")]
    now += [broken("fulmar", "mtu")]
    found = of_hosts({"gannet": ["swap"], "fulmar": []}, now, {}, [])
    told = {one.proof: (one.label, one.found) for one in found if not one.passed}
    assert told == {
        "rule:clock@gannet": ("gannet: Has the correct time", "off by 40 s"),
        "rule:mtu@fulmar": ("fulmar: Has the network's MTU", "no"),
    }
    assert {host_of(check) for check in told} == {"gannet", "fulmar"}
    # a host that was not known then, and what is so for a moment only, tell nothing
    assert of_hosts({}, now, {}, []) == []
    [whole] = of_hosts({"gannet": []}, [broken("gannet", "load")], {}, [])
    assert (whole.passed, whole.label) == (True, "Rules of gannet")


def test_of_a_host_that_is_silent_stays_what_was_known() -> None:
    built = {"gannet": list[str]()}
    first = merged([], of_hosts(built, [broken("gannet", "clock", "off")], {}, []), 100)
    silent = {"gannet": "it does not answer"}
    later = of_hosts(built, [broken("gannet", "answers")], silent, first)
    assert merged(first, later, 200) == first
    # one without known differences gives none, and counts as not asked
    [whole] = of_hosts(built, [], silent, [])
    assert (whole.passed, whole.checked) == (False, False)
    assert merged(first, of_hosts(built, [], {}, first), 300) == []


def test_checks_of_nodes_are_of_no_host() -> None:
    assert host_of("running") == host_of("rule-of-thumb@sea") == ""


def test_sizes_can_be_taken_into_the_plan_and_rights_cannot() -> None:
    def one(check: str, was: str, now: str, node: str = "archive-1") -> bool:
        return can_be_taken(Drift(node, check, check, was, now, 0, 0))

    assert one("hardware", "2 vCPU, 8 GiB, 1 disk", "4 vCPU, 8 GiB, 1 disk")
    assert one("disks", "1 disk: 20 GiB", "1 disk: 40 GiB")
    assert one(
        "disks", "1 disk: 20 GiB", "1 disk: 40 GiB; open to all accounts of the host: a (0644)"
    )
    assert not one("disks", "1 disk: 20 GiB", "1 disk: 20 GiB; open to all accounts: a (0644)")
    assert not one("boot", "starts from disk", "starts from network")
    assert not one("disks", "1 disk: 20 GiB", "1 disk: 40 GiB", node="")

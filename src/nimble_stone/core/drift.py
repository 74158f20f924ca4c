"""Drift: what stands otherwise than it was built, since when, and what was decided about it.
Pure.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace

from nimble_stone.core.acceptance import Verdict
from nimble_stone.core.estate_rules import EVERY, Violation

RESTARTS = frozenset({"running", "autostart", "port", "host", "hardware"})
"""Checks whose drift is put back by defining and starting a node's VM again."""
SIZES = frozenset({"hardware"})
"""Checks of vCPUs and memory: what was found can be taken into the plan."""
DISKS = frozenset({"disks"})
"""Checks of how large disks are: larger ones can be taken into the plan."""

RULE = "rule:"
KEPT = "fulfilled"
"""How a rule was when nodes were built."""
TITLES = {rule.id: rule.title for rule in EVERY}
MOMENTARY = frozenset({"answers", "fresh", "load", "stopped"})
"""Rules about a moment, or about VMs whose own drift tells it."""


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


def can_be_taken(one: Drift) -> bool:
    """Whether what was found can become what is planned: not so where only files have other rights,
    which follow the sizes in what is said.
    """
    if not one.node:
        return False
    sizes = one.was.partition(";")[0] != one.now.partition(";")[0]
    return one.check in SIZES or (one.check in DISKS and sizes)


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


def rule_check(host: str, rule: str) -> str:
    """What stands in place of a check's id for a rule about a host."""
    return f"{RULE}{rule}@{host}"


def host_of(check: str) -> str:
    """The host whose rule it is; '' for a check of nodes or of the cluster."""
    return check.partition("@")[2] if check.startswith(RULE) else ""


def of_hosts(
    built: Mapping[str, Collection[str]],
    broken: Iterable[Violation],
    silent: Mapping[str, str],
    before: Iterable[Drift],
) -> list[Verdict]:
    """Verdicts about the hosts of a deployment. `built`: host → rules that it broke when its nodes
    were built; `broken`: what breaks rules now; `silent`: hosts that could not be read, and why:
    what was known `before` of them stays. A host that breaks no other rule gives one verdict.
    """
    found: dict[str, list[Verdict]] = {host: [] for host in built}
    told: dict[tuple[str, str], list[str]] = {}
    for violation in broken:
        host, known = violation.host, built.get(violation.host)
        if known is None or host in silent or violation.rule in MOMENTARY:
            continue
        if violation.severity != "note" and violation.rule not in known:
            told.setdefault((host, violation.rule), []).append(violation.message)
    for (host, rule), messages in told.items():
        label = f"{host}: {TITLES.get(rule, rule)}"
        check, how = rule_check(host, rule), f"facts of {host}"
        found[host].append(Verdict(check, label, "", KEPT, "; ".join(messages), False, how))
    for old in before:
        host = host_of(old.check)
        if host in silent:
            unknown = f"not known: {silent[host]}"
            one = Verdict(old.check, old.label, "", KEPT, unknown, False, "", checked=False)
            found.setdefault(host, []).append(one)
    return [
        one
        for host, verdicts in found.items()
        for one in verdicts or [_whole(host, silent.get(host, ""))]
    ]


def _whole(host: str, silent: str) -> Verdict:
    """About a host that breaks no further rule, as far as it could be read."""
    words = f"not known: {silent}" if silent else KEPT
    return Verdict(
        f"{RULE}@{host}",
        f"Rules of {host}",
        "",
        KEPT,
        words,
        not silent,
        f"facts of {host}",
        checked=not silent,
    )

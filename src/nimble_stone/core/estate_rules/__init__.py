"""Is the ground fit? Rules over facts, each a small function: about one host or machine, or about a
bay as a whole. Pure; the clock is given.

A rule answers with what it found wrong, nothing when all is well. `measured` says what was looked
at, so that a person can look too.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping

from nimble_stone.core.estate import Facts, MachineFacts
from nimble_stone.core.estate_rules import ground, hosts, machines
from nimble_stone.core.estate_rules.base import (
    LIMITS,
    Ground,
    HostRule,
    MachineRule,
    Violation,
    known,
)
from nimble_stone.core.findings import Severity

_ORDER = (
    "reach",
    "compute",
    "memory",
    "storage",
    "network",
    "time",
    "names",
    "security",
    "leftovers",
)
RULES: tuple[HostRule, ...] = tuple(
    sorted((*hosts.RULES, *ground.RULES), key=lambda rule: _ORDER.index(rule.group))
)
MACHINE_RULES: tuple[MachineRule, ...] = machines.RULES
EVERY: tuple[HostRule | MachineRule, ...] = (*RULES, *MACHINE_RULES)
LIMITS.update({rule.id: rule.limit for rule in RULES if rule.limit is not None})

__all__ = [
    "EVERY",
    "MACHINE_RULES",
    "RULES",
    "Ground",
    "HostRule",
    "MachineRule",
    "Violation",
    "judge",
    "known",
    "reference",
    "worst",
]


def judge(ground: Ground, names: Collection[str] = ()) -> list[Violation]:
    """All violations of the named hosts and machines, or of all. A rule that a bay has switched off
    is not asked.

    Cost: O(hosts × rules), and once O(bay) for each rule that compares.
    """
    found = []
    for host in ground.estate.hosts:
        if names and host.name not in names:
            continue
        facts = ground.estate.facts.get(
            host.name, Facts(host=host.name, trouble="it was never read")
        )
        for rule in RULES:
            setting = ground.setting(host.bay, rule.id)
            if not (setting and setting.off):
                found += [
                    Violation(rule.id, host.name, b.severity, b.message, b.remedy, b.action)
                    for b in rule.look(ground, host, facts)
                ]
    for machine in ground.estate.machines:
        if names and machine.name not in names:
            continue
        said = ground.estate.machine_facts.get(
            machine.name, MachineFacts(machine=machine.name, trouble="it was never read")
        )
        for machine_rule in MACHINE_RULES:
            setting = ground.setting(machine.bay, machine_rule.id)
            if not (setting and setting.off):
                found += [
                    Violation(
                        machine_rule.id, machine.name, b.severity, b.message, b.remedy, None, True
                    )
                    for b in machine_rule.look(ground, machine, said)
                ]
    return found


def worst(violations: Collection[Violation]) -> Mapping[tuple[str, str], Severity]:
    """(host, rule) → the heaviest finding."""
    order = {"blocker": 0, "caution": 1, "note": 2}
    table: dict[tuple[str, str], Severity] = {}
    for item in violations:
        key = (item.host, item.rule)
        if key not in table or order[item.severity] < order[table[key]]:
            table[key] = item.severity
    return table


def reference() -> str:
    """The rules as a page of documentation (docs/host-rules.md)."""
    lines = [
        "# What hosts and machines are judged by",
        "",
        (
            "Generated from the rules themselves: `nimble-stone estate rules --reference`. Each"
            " looks at the facts that were last read. A bay may switch a rule off, with a reason,"
            " and set the limit of those that have one."
        ),
        "",
        "| rule | group | asks | why | measured by | limit |",
        "| --- | --- | --- | --- | --- | --- |",
    ]
    lines += [
        f"| `{r.id}` | {r.group} | {r.title} | {r.why} | {r.measured} |"
        f" {f'{r.limit:g} {r.unit}' if r.limit is not None else ''} |"
        for r in EVERY
    ]
    return "\n".join(lines) + "\n"

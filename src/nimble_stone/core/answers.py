"""What the command line answers about a plan, as data: the contract of `plan check --json` and
`plan place --json`. Pure.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from typing import Any

from nimble_stone.core import placement
from nimble_stone.core.chances import chances
from nimble_stone.core.estate import Estate, room_bytes
from nimble_stone.core.findings import Finding
from nimble_stone.core.plan.sheet import Sheet
from nimble_stone.core.sequence import forecast
from nimble_stone.core.step import Step


def check(
    sheet: Sheet, estate: Estate, findings: Sequence[Finding], steps: Sequence[Step]
) -> dict[str, Any]:
    """Findings, nodes, capacity of the hosts that take nodes (bytes), and the forecast
    (seconds).
    """
    added: dict[str, int] = defaultdict(int)
    for node in sheet.nodes:
        added[node.value("host")] += node.memory_bytes
    free = {name: room_bytes(estate.facts[name]) for name in sorted(added) if name in estate.facts}
    will, expected = chances(steps), forecast(list(steps)).end_s
    return {
        "findings": [
            {
                "severity": f.severity,
                "code": f.code,
                "message": f.message,
                "where": " ".join(part for part in (f.node, f.column, f.host) if part),
                "remedy": f.remedy.label if f.remedy else "",
            }
            for f in findings
        ],
        "nodes": [
            {
                "name": n.name,
                "role": n.role,
                "host": n.value("host"),
                "datastore": n.value("datastore"),
                "vcpu": n.vcpu,
                "memory_bytes": n.memory_bytes,
                "disk_thin_bytes": n.thin_bytes,
                "disk_full_bytes": n.full_bytes,
                "addresses": {
                    (
                        column.removeprefix("net.").removesuffix(".address")
                        if column != "address"
                        else "service"
                    ): n.value(column)
                    for column in sheet.address_columns
                    if n.value(column)
                },
            }
            for n in sheet.nodes
        ],
        "capacity": [
            {"host": name, "memory_free_bytes": room, "memory_after_bytes": room - added[name]}
            for name, room in free.items()
        ],
        "forecast": {
            "expected_seconds": expected,
            "p50_seconds": will.p50_seconds,
            "p90_seconds": max(expected, will.p90_seconds),
            "critical_path": list(will.critical_path),
        },
    }


def place(sheet: Sheet, estate: Estate) -> dict[str, Any]:
    """Where each node goes, how even that is (load: memory given over memory there), and why nodes
    have no host.
    """
    loads = {}
    for host in estate.hosts_in(sheet.plan.bays):
        facts = estate.facts.get(host.name)
        if facts is not None and facts.memory_bytes:
            loads[host.name] = (facts.memory_bytes, facts.memory_bytes - room_bytes(facts))
    demands = [(node.value("host"), node.memory_bytes) for node in sheet.nodes]
    spread = placement.spread(loads, demands)
    return {
        "assignments": {
            node.name: {"host": node.value("host"), "datastore": node.value("datastore")}
            for node in sheet.nodes
        },
        "spread": {"worst_load": spread.worst_load, "bound": spread.bound, "gap": spread.gap},
        "reasons": dict(sheet.unplaced),
    }

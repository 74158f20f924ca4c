"""The acceptance list: the plan read backwards. What is expected here, what was found comes from
outside; the verdict is pure.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from nimble_stone.core.kit.model import Certificate, Proof
from nimble_stone.core.plan.sheet import Node, Sheet, macs_of, networks_of
from nimble_stone.core.units import size_text


@dataclass(frozen=True)
class Expected:
    """One proof to be made. `node` is '' for the cluster."""

    proof: str
    label: str
    node: str
    kind: str
    expected: str
    limit: float


@dataclass(frozen=True)
class Verdict:
    """A proof that was made: what was found, and whether it will do. `how` is the command or
    request that told.
    """

    proof: str
    label: str
    node: str
    expected: str
    found: str
    passed: bool
    how: str
    checked: bool = True
    """False where it could not be asked: that is neither a pass nor a failure."""


UNKNOWN = ("not known: ", "not asked")
WHERE_PLANNED = ("mac", "address6", "certificate")
"""Kinds of proofs that are made only where the plan says what is to be found."""


def expectations(sheet: Sheet) -> list[Expected]:
    """Every proof of every node, then those of the cluster."""
    listed = [
        Expected(proof.id, proof.label, node.id, proof.kind, expected, proof.limit)
        for node in sheet.nodes
        for proof in sheet.kit.acceptance
        if proof.of == "node"
        and ((expected := expected_of(sheet, node, proof)) or proof.kind not in WHERE_PLANNED)
    ]
    for proof in sheet.kit.acceptance:
        if proof.of == "cluster":
            text = {
                "members": ", ".join(sorted(node.name for node in sheet.nodes)),
                "virtual": virtual_text(sheet),
                "balanced": balanced_text(sheet),
            }.get(proof.kind, "one lead")
            listed.append(Expected(proof.id, proof.label, "", proof.kind, text, proof.limit))
    return listed


def expected_of(sheet: Sheet, node: Node, proof: Proof) -> str:
    """What a proof expects of a node, in the words in which it will be found."""
    package = sheet.packages.of(node.role)
    return {
        "running": "running",
        "hardware": hardware_text(
            node.vcpu,
            node.memory_bytes,
            (len(package.descriptor.disk_order) if package else 0) + len(node.extra),
        ),
        "host": node.value("host"),
        "name": node.name,
        "address": f"{node.value('address')}/{node.value('prefix')}",
        "gateway": f"{node.value('gateway')} answers",
        "clock": f"within {proof.limit:g} s",
        "port": f"{sheet.kit.service.port} open",
        "version": package.descriptor.version if package else "",
        "role": node.role,
        "networks": ", ".join(networks_of(sheet.kit, node, interfaces(sheet, node))),
        "mac": ", ".join(mac for mac in macs_of(sheet.kit, node, interfaces(sheet, node)) if mac),
        "certificate": ", ".join(f"{one.label} trusted" for one in shown(sheet, node)),
        "address6": (
            f"{node.value('address6')}/{node.value('prefix6')}" if node.value("address6") else ""
        ),
    }.get(proof.kind, "")


def shown(sheet: Sheet, node: Node) -> list[Certificate]:
    """The certificates that a node shows somewhere."""
    return [
        one
        for one in sheet.kit.certificates
        if one.port and (not one.roles or node.role in one.roles)
    ]


def balanced_text(sheet: Sheet) -> str:
    """“Interface: w-ctl1, w-ctl2” for each balanced service: the nodes that must be met
    through it.
    """
    return "; ".join(
        f"{one.label}:"
        f" {', '.join(sorted(node.name for node in sheet.nodes if node.role in one.members))}"
        for one in sheet.kit.balanced
    )


def interfaces(sheet: Sheet, node: Node) -> int:
    """How many network interfaces the node's package has."""
    package = sheet.packages.of(node.role)
    return max(1, len(package.descriptor.nics)) if package else 1


def virtual_text(sheet: Sheet) -> str:
    """“10.44.20.74:6443 open” for each virtual address and port."""
    return ", ".join(f"{address}:{port} open" for address, port in virtual_ports(sheet))


def virtual_ports(sheet: Sheet) -> list[tuple[str, int]]:
    """Every (address, port) that is to be served on a virtual address."""
    return (
        [
            (sheet.nodes[0].value(f"virtual.{one.id}"), port)
            for one in sheet.kit.virtual
            for port in one.ports
        ]
        if sheet.nodes
        else []
    )


def hardware_text(vcpu: int, memory_bytes: int, disks: int) -> str:
    """'2 vCPU, 4 GiB, 1 disk'."""
    return f"{vcpu} vCPU, {size_text(memory_bytes)}, {disks} {'disk' if disks == 1 else 'disks'}"


def judge(item: Expected, found: str, how: str) -> Verdict:
    """The verdict on what was found. Clock proofs compare seconds, all others compare words;
    nothing found never passes.
    """
    if item.kind == "clock":
        try:
            passed = abs(float(found.split()[0])) <= item.limit
        except (ValueError, IndexError):
            passed = False
    else:
        passed = bool(found) and found == item.expected
    checked = not found.startswith(UNKNOWN) and not (found == "" and how.startswith(UNKNOWN))
    return Verdict(
        item.proof, item.label, item.node, item.expected, found or "nothing", passed, how, checked
    )


def totals(verdicts: list[Verdict]) -> Mapping[str, int]:
    """passed, failed and open (could not be asked) counts."""
    passed, unknown = (
        sum(verdict.passed for verdict in verdicts),
        sum(not verdict.checked for verdict in verdicts),
    )
    return {"passed": passed, "failed": len(verdicts) - passed - unknown, "open": unknown}

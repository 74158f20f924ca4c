"""Checks of what the hypervisor gave a node."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

from nimble_stone.core.acceptance.model import Kind, Subject
from nimble_stone.core.plan.sheet import Node, Sheet, macs_of, networks_of
from nimble_stone.core.units import GIB, MIB, count_text, size_text

MEMORY_TOLERANCE = MIB
"""What a hypervisor may round a node's memory by."""


@dataclass(frozen=True)
class Hardware:
    """What a node has: memory in bytes."""

    vcpu: int
    memory_bytes: int
    disks: int


@dataclass(frozen=True)
class Place:
    """Where a node was found, and whether it bears the run's mark."""

    host: str
    ours: bool = True


def interfaces(sheet: Sheet, node: Node) -> int:
    """How many network interfaces the node's package has."""
    package = sheet.packages.of(node.role)
    return max(1, len(package.descriptor.nics)) if package else 1


def _node(subject: Subject) -> Node:
    assert subject.node is not None
    return subject.node


def _hardware(subject: Subject) -> Hardware:
    node = _node(subject)
    package = subject.sheet.packages.of(node.role)
    own = len(package.descriptor.disk_order) if package else 0
    return Hardware(node.vcpu, node.memory_bytes, own + len(node.extra))


def _same_hardware(wanted: Hardware, found: Hardware, _: float) -> bool:
    return (wanted.vcpu, wanted.disks) == (found.vcpu, found.disks) and abs(
        wanted.memory_bytes - found.memory_bytes
    ) < MEMORY_TOLERANCE


def _memory(count: int) -> str:
    """Memory in words that two different amounts never share."""
    if count % GIB == 0 or (count < GIB and count % MIB == 0):
        return size_text(count)
    return f"{count / GIB:.3f} GiB"


def _say_hardware(found: Hardware) -> str:
    disks = count_text(found.disks, "disk")
    return f"{found.vcpu} vCPU, {_memory(found.memory_bytes)}, {disks}"


def _networks(subject: Subject) -> tuple[str, ...]:
    node, sheet = _node(subject), subject.sheet
    return networks_of(sheet.kit, node, interfaces(sheet, node))


def _macs(subject: Subject) -> tuple[str, ...] | None:
    node, sheet = _node(subject), subject.sheet
    return tuple(mac for mac in macs_of(sheet.kit, node, interfaces(sheet, node)) if mac) or None


def _joined(found: Sequence[str]) -> str:
    return ", ".join(found)


KINDS = (
    Kind("running", "node", lambda _: True, lambda found: "running" if found else "stopped"),
    Kind("hardware", "node", _hardware, _say_hardware, _same_hardware),
    Kind(
        "host",
        "node",
        lambda subject: Place(_node(subject).value("host")),
        lambda found: found.host if found.ours else f"{found.host}, not created by Nimble Stone",
    ),
    Kind("networks", "node", _networks, _joined),
    Kind("mac", "node", _macs, _joined),
)

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
class Given:
    """What a node is stored with, and what it has while it runs (None: it is off, or not told)."""

    stored: Hardware
    live: Hardware | None = None


@dataclass(frozen=True)
class Power:
    """Whether a node really runs; how it is, in the words of its hypervisor, where they say
    more.
    """

    runs: bool
    words: str = ""


@dataclass(frozen=True)
class Links:
    """The network of each interface as it is stored, those of a running node where they differ, and
    the networks whose link is down.
    """

    stored: tuple[str, ...]
    live: tuple[str, ...] = ()
    down: tuple[str, ...] = ()


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


def _hardware(subject: Subject) -> Given:
    node = _node(subject)
    package = subject.sheet.packages.of(node.role)
    own = len(package.descriptor.disk_order) if package else 0
    if node.is_adopted:
        # what it had, and what it was given since
        known = {disk.ref for disk in node.volumes}
        own = len(node.volumes) - sum(disk.ref in known for disk in node.extra)
    many = own + len(node.extra) + (node.fence is not None)
    return Given(Hardware(node.vcpu, node.memory_bytes, many))


def _fence(subject: Subject) -> str | None:
    shared = _node(subject).fence
    return shared.source if shared else None


def _same(wanted: Hardware, found: Hardware) -> bool:
    return (wanted.vcpu, wanted.disks) == (found.vcpu, found.disks) and abs(
        wanted.memory_bytes - found.memory_bytes
    ) < MEMORY_TOLERANCE


def _same_hardware(wanted: Given, found: Given, _: float) -> bool:
    return _same(wanted.stored, found.stored) and (
        found.live is None or _same(wanted.stored, found.live)
    )


def _memory(count: int) -> str:
    """Memory in words that two different amounts never share."""
    if count % GIB == 0 or (count < GIB and count % MIB == 0):
        return size_text(count)
    return f"{count / GIB:.3f} GiB"


def _say(found: Hardware) -> str:
    disks = count_text(found.disks, "disk")
    return f"{found.vcpu} vCPU, {_memory(found.memory_bytes)}, {disks}"


def _say_hardware(found: Given) -> str:
    if found.live is None or _same(found.live, found.stored):
        return _say(found.stored)
    return f"{_say(found.live)} now; {_say(found.stored)} from its next start"


def _say_power(found: Power) -> str:
    return found.words or ("running" if found.runs else "stopped")


def _networks(subject: Subject) -> Links:
    node, sheet = _node(subject), subject.sheet
    return Links(networks_of(sheet.kit, node, interfaces(sheet, node)))


def _same_links(wanted: Links, found: Links, _: float) -> bool:
    live = found.live or found.stored
    return wanted.stored == found.stored == live and not found.down


def _say_links(found: Links) -> str:
    live = found.live or found.stored
    words = ", ".join(f"{net} (link down)" if net in found.down else net for net in live)
    if live == found.stored:
        return words
    return f"{words} now; {', '.join(found.stored)} from its next start"


def _autostart(subject: Subject) -> bool:
    role = subject.sheet.kit.role(_node(subject).role)
    return role is None or role.vm.autostart


def _macs(subject: Subject) -> tuple[str, ...] | None:
    node, sheet = _node(subject), subject.sheet
    return tuple(mac for mac in macs_of(sheet.kit, node, interfaces(sheet, node)) if mac) or None


def _joined(found: Sequence[str]) -> str:
    return ", ".join(found)


KINDS = (
    Kind(
        "running",
        "node",
        lambda _: Power(True),
        _say_power,
        lambda wanted, found, _: bool(wanted.runs == found.runs),
    ),
    Kind(
        "autostart",
        "node",
        _autostart,
        lambda found: "starts with its host" if found else "does not start with its host",
    ),
    Kind("hardware", "node", _hardware, _say_hardware, _same_hardware),
    Kind(
        "host",
        "node",
        lambda subject: Place(_node(subject).value("host")),
        lambda found: found.host if found.ours else f"{found.host}, not created by Nimble Stone",
    ),
    Kind("fence", "node", _fence, str),
    Kind("networks", "node", _networks, _say_links, _same_links),
    Kind("mac", "node", _macs, _joined),
)

"""Checks of what a node says of itself, and of how it is reached."""

from __future__ import annotations

import ipaddress
import math
from dataclasses import dataclass

from nimble_stone.core import names
from nimble_stone.core.acceptance.model import Kind, Subject
from nimble_stone.core.kit.networks import Certificate
from nimble_stone.core.plan.sheet import Node, Sheet


@dataclass(frozen=True)
class Port:
    """A port, and whether it takes connections."""

    number: int
    open: bool = True


@dataclass(frozen=True)
class Reached:
    """An address, and whether it answers."""

    address: str
    answers: bool = True


@dataclass(frozen=True)
class Shown:
    """A certificate where it is shown; what is wrong with it, '' when it is trusted."""

    label: str
    wrong: str = ""


@dataclass(frozen=True)
class Told:
    """What a name server tells: the addresses of a node's name, and the names of its addresses."""

    server: str
    addresses: tuple[str, ...]
    names: tuple[str, ...]


def servers_of(node: Node) -> list[str]:
    """The name servers that a node uses."""
    return node.value("dns").replace(",", " ").split()


def shown(sheet: Sheet, node: Node) -> list[Certificate]:
    """The certificates that a node shows somewhere."""
    return [one for one in sheet.kit.certificates if one.port and node.has_any(one.roles)]


def _node(subject: Subject) -> Node:
    assert subject.node is not None
    return subject.node


def _address6(subject: Subject) -> str | None:
    node = _node(subject)
    return f"{node.value('address6')}/{node.value('prefix6')}" if node.value("address6") else None


def _version(subject: Subject) -> str:
    package = subject.sheet.packages.of(_node(subject).role)
    return package.descriptor.version if package else ""


def _certificates(subject: Subject) -> tuple[Shown, ...] | None:
    return tuple(Shown(one.label) for one in shown(subject.sheet, _node(subject))) or None


def _told(subject: Subject) -> tuple[Told, ...] | None:
    """Nothing where the plan names no domain, or the node has its address from elsewhere."""
    node = _node(subject)
    named = names.of_node(node)
    if not node.value("domain") or not named.addresses:
        return None
    addresses = tuple(sorted(str(ipaddress.ip_address(one)) for one in named.addresses))
    wanted = (named.name.lower(),)
    return tuple(Told(one, addresses, wanted) for one in servers_of(node)) or None


def _told_text(found: tuple[Told, ...]) -> str:
    return "; ".join(
        f"{one.server}: {', '.join(one.addresses) or 'no address'},"
        f" {', '.join(one.names) or 'no name'}"
        for one in found
    )


def _same_interface(wanted: str, found: str, _: float) -> bool:
    """An address is the same however it is written."""
    try:
        return ipaddress.ip_interface(wanted) == ipaddress.ip_interface(found)
    except ValueError:
        return False


def _same_text(wanted: str, found: str, _: float) -> bool:
    return bool(found) and wanted == found


def _in_time(_: float, found: float, limit: float) -> bool:
    return math.isfinite(found) and abs(found) <= limit


def _text(found: str) -> str:
    return found


KINDS = (
    Kind("name", "node", lambda subject: _node(subject).name, _text, _same_text),
    Kind(
        "address",
        "node",
        lambda subject: f"{_node(subject).value('address')}/{_node(subject).value('prefix')}",
        _text,
        _same_interface,
    ),
    Kind("address6", "node", _address6, _text, _same_interface),
    Kind("version", "node", _version, _text, _same_text),
    Kind("role", "node", lambda subject: _node(subject).role, _text, _same_text),
    Kind(
        "roles",
        "node",
        lambda subject: tuple(sorted(_node(subject).roles)),
        lambda found: ", ".join(found) or "no role",
    ),
    Kind("names", "node", _told, _told_text),
    Kind(
        "gateway",
        "node",
        lambda subject: Reached(_node(subject).value("gateway")),
        lambda found: f"{found.address} {'answers' if found.answers else 'does not answer'}",
    ),
    Kind(
        "clock",
        "node",
        lambda _: 0.0,
        lambda found: f"{found:+.1f} s",
        _in_time,
        lambda _, limit: f"within {limit:g} s",
    ),
    Kind(
        "port",
        "node",
        lambda subject: Port(subject.sheet.kit.service.port),
        lambda found: f"{found.number} {'open' if found.open else 'closed'}",
    ),
    Kind(
        "certificate",
        "node",
        _certificates,
        lambda found: ", ".join(f"{one.label} {one.wrong or 'trusted'}" for one in found),
    ),
)

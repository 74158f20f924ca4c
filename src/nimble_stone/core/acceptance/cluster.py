"""Checks of the cluster as a whole."""

from __future__ import annotations

from dataclasses import dataclass

from nimble_stone.core.acceptance.model import Kind, Subject
from nimble_stone.core.plan.sheet import Sheet


@dataclass(frozen=True, order=True)
class Served:
    """A port on a virtual address, and whether it takes connections."""

    address: str
    port: int
    open: bool = True


@dataclass(frozen=True)
class Balanced:
    """A balanced service, and the nodes that were met through it, in order of their names."""

    label: str
    members: tuple[str, ...]


def virtual_ports(sheet: Sheet) -> tuple[Served, ...]:
    """Every port that is to be served on a virtual address."""
    if not sheet.nodes:
        return ()
    return tuple(
        Served(sheet.nodes[0].value(f"virtual.{one.id}"), port)
        for one in sheet.kit.virtual
        for port in one.ports
    )


def _members(subject: Subject) -> tuple[str, ...]:
    return tuple(sorted(node.name for node in subject.sheet.nodes))


def _balanced(subject: Subject) -> tuple[Balanced, ...]:
    nodes = subject.sheet.nodes
    return tuple(
        Balanced(one.label, tuple(sorted(n.name for n in nodes if n.has_any(one.members))))
        for one in subject.sheet.kit.balanced
    )


KINDS = (
    Kind("members", "cluster", _members, ", ".join),
    Kind(
        "one-lead",
        "cluster",
        lambda _: 1,
        lambda found: "one lead" if found == 1 else f"{found} leads",
    ),
    Kind(
        "virtual",
        "cluster",
        lambda subject: virtual_ports(subject.sheet),
        lambda found: ", ".join(
            f"{one.address}:{one.port} {'open' if one.open else 'closed'}" for one in found
        ),
    ),
    Kind(
        "balanced",
        "cluster",
        _balanced,
        lambda found: "; ".join(f"{one.label}: {', '.join(one.members)}" for one in found),
    ),
)

"""Checks of the cluster as a whole."""

from __future__ import annotations

from collections.abc import Sequence
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


NAMED, LISTED = 12, 40
"""So many names are said; of those that make a difference so many."""


def _named(names: Sequence[str]) -> str:
    """Names in words; many are counted."""
    if len(names) <= NAMED:
        return ", ".join(names)
    return f"{len(names)} members: {_first(names, 3)}"


def _other_members(wanted: Sequence[str], found: Sequence[str]) -> str:
    """Members that are not the wanted ones: of many only how they differ."""
    if max(len(wanted), len(found)) <= NAMED:
        return ", ".join(found)
    missing = [name for name in wanted if name not in set(found)]
    more = [name for name in found if name not in set(wanted)]
    parts = [
        f"{len(found)} members",
        f"missing: {_first(missing, LISTED)}" if missing else "",
        f"not planned: {_first(more, LISTED)}" if more else "",
    ]
    return "; ".join(filter(None, parts))


def _first(names: Sequence[str], most: int) -> str:
    more = f" and {len(names) - most} more" if len(names) > most else ""
    return ", ".join(names[:most]) + more


def _balanced(subject: Subject) -> tuple[Balanced, ...]:
    nodes = subject.sheet.nodes
    return tuple(
        Balanced(one.label, tuple(sorted(n.name for n in nodes if n.has_any(one.members))))
        for one in subject.sheet.kit.balanced
    )


KINDS = (
    Kind("members", "cluster", _members, _named, say_other=_other_members),
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

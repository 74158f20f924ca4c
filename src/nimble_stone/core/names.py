"""Name records of nodes and virtual addresses: what a rollout creates, and the mark it leaves
(RFC 1035, RFC 3596; underscored names by RFC 8552). Pure.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from ipaddress import ip_address

from nimble_stone.core.estate import Mark
from nimble_stone.core.plan.columns import CREATE_RECORDS, RECORDS, virtual_name
from nimble_stone.core.plan.sheet import Node, Sheet

MARK = "_nimble-stone"


@dataclass(frozen=True)
class Named:
    """A full name, without the dot at its end, and the addresses that it shall have."""

    name: str
    addresses: tuple[str, ...]
    ttl: int = 300

    @property
    def mark_name(self) -> str:
        """Where its mark stands, as text."""
        return f"{MARK}.{self.name}"


def kind_of(address: str) -> str:
    """A or AAAA, for an address."""
    return "A" if ip_address(address).version == 4 else "AAAA"


def reverse(address: str) -> str:
    """The name under which an address is looked up (RFC 1035 section 3.5, RFC 3596 section 2.5)."""
    return ip_address(address).reverse_pointer


def mark_text(mark: Mark) -> str:
    """What the mark of a record says."""
    return f"run={mark.run} plan={mark.plan} node={mark.node}"


def wanted(node: Node) -> bool:
    """Whether this node's records are created."""
    return node.value(RECORDS) == CREATE_RECORDS


def of_node(node: Node) -> Named:
    """The node's name with the addresses of its service network."""
    found = tuple(one for one in (node.value("address"), node.value("address6")) if one)
    return Named(f"{node.name}.{node.value('domain')}".rstrip("."), found)


def virtual_names(sheet: Sheet) -> Iterator[str]:
    """Ids of the virtual addresses that get records: those with a name."""
    first = sheet.nodes[0] if sheet.nodes else None
    if first is None or not wanted(first):
        return
    for one in sheet.kit.virtual:
        if first.value(virtual_name(one.id)) and first.value(f"virtual.{one.id}"):
            yield one.id


def of_virtual(node: Node, ident: str) -> Named:
    """A virtual address with its name, in the domain of a node."""
    name = f"{node.value(virtual_name(ident))}.{node.value('domain')}".rstrip(".")
    return Named(name, (node.value(f"virtual.{ident}"),))
